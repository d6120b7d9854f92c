// Which of two paths of a film is the smoother one.
#include "site/paths.hpp"

#include <catch2/catch.hpp>

#include "device/device.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;
using site::Smoother;

namespace {

verify::Verification played(device::Verdict verdict, Time startup, std::vector<Time> stalls, Time seek) {
    verify::Verification v;
    v.verdict = verdict;
    v.startup = startup;
    for (const Time one : stalls) v.stalls.push_back({Time{}, one});
    v.seeks.push_back({Time{}, Time{}, seek});
    v.summary = "told";
    return v;
}

}  // namespace

TEST_CASE("the smoother path is told by what a viewer notices first", "[site][share]") {
    constexpr auto kPass = device::Verdict::pass, kWarn = device::Verdict::warn, kFail = device::Verdict::fail;
    const auto good = played(kPass, 200ms, {}, 50ms);
    CHECK(site::compare(good, good).smoother == Smoother::alike);
    CHECK(site::compare(good, played(kPass, 450ms, {}, 300ms)).smoother == Smoother::alike);
    const auto by_verdict = site::compare(played(kWarn, 0ms, {}, 0ms), played(kPass, 9s, {}, 9s));
    CHECK(by_verdict.smoother == Smoother::through);
    CHECK(by_verdict.why == "on the other path: told");
    CHECK(site::compare(played(kFail, 0ms, {}, 0ms), played(kFail, 0ms, {}, 0ms)).smoother == Smoother::neither);
    const auto by_stalls = site::compare(played(kWarn, 9s, {500ms}, 9s), played(kWarn, 0ms, {2s, 1s}, 0ms));
    CHECK(by_stalls.smoother == Smoother::straight);
    CHECK(by_stalls.why == "stalls: 1 stall, 500 ms total against 2 stalls, 3.0 s total");
    CHECK(site::compare(played(kPass, 2s, {}, 0ms), played(kPass, 1s, {}, 500ms)).why ==
          "starts after 1.0 s against 2.0 s");
    // What differs more is noticed more.
    CHECK(site::compare(played(kPass, 2s, {}, 0ms), played(kPass, 1s, {}, 4s)).why == "seeks take 0 ms against 4.0 s");
    CHECK(site::compare(played(kPass, 1s, {}, 2s), played(kPass, 1s, {}, 1s)).smoother == Smoother::through);
}

TEST_CASE("of a stream's deliveries the smoothest is told for each device, with the reason", "[site]") {
    constexpr auto kPass = device::Verdict::pass, kWarn = device::Verdict::warn, kFail = device::Verdict::fail;
    const auto on = [](std::string device, std::string address, verify::Verification v) {
        v.device = std::move(device);
        v.address = std::move(address);
        return v;
    };
    const auto file = on("Tablet", "http://a/f.mp4", played(kWarn, 1s, {}, 54s));
    const auto hls = on("Tablet", "http://a/f.m3u8", played(kWarn, 1400ms, {}, 9s));
    const auto ladder = on("Tablet", "http://a/ladder.m3u8", played(kFail, 0s, {}, 0s));
    const auto tv_file = on("TV", "http://a/f.mp4", played(kPass, 100ms, {}, 100ms));
    const auto tv_hls = on("TV", "http://a/f.m3u8", played(kPass, 200ms, {}, 200ms));
    const auto other = on("TV", "http://a/g.mp4", played(kPass, 0s, {}, 0s));
    const auto box_file = on("Box", "http://a/f.mp4", played(kFail, 0s, {}, 0s));
    const auto best = site::best_deliveries({{"Film", "file", &file},
                                             {"Film", "hls", &hls},
                                             {"Film", "ladder", &ladder},
                                             {"Film", "file", &tv_file},
                                             {"Film", "hls", &tv_hls},
                                             {"Other", "file", &other},
                                             {"Film", "file", &box_file},
                                             {"Film", "hls", &box_file}});
    REQUIRE(best.size() == 3);  // of the other film there is nothing to choose
    CHECK(best[0].device == "Tablet");
    CHECK(best[0].delivery == "hls");
    CHECK(best[0].address == "http://a/f.m3u8");
    CHECK(best[0].why == "seeks take 9.0 s against 54.0 s (file); by ladder: told");
    CHECK(best[1].delivery == "file");
    CHECK(best[1].why == "hls is alike");
    CHECK(best[2].device == "Box");
    CHECK(best[2].delivery.empty());
    CHECK(best[2].why == "told");
}

TEST_CASE("a device plays from a share only where that is said of it", "[site][share]") {
    const auto silent = device::parse("name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\n", "x.toml");
    const auto smb =
        device::parse("name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\nprotocols = [\"http\", \"smb\"]\n", "x.toml");
    REQUIRE(silent);
    REQUIRE(smb);
    CHECK_FALSE(site::plays_straight(*silent, "smb://attic/films/a.mp4"));
    CHECK(site::plays_straight(*smb, "smb://attic/films/a.mp4"));
    CHECK_FALSE(site::plays_straight(*smb, "nfs://attic/films/a.mp4"));
    CHECK_FALSE(site::plays_straight(*smb, "/films/a.mp4"));
}
