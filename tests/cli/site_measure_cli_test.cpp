// `site measure`, and the commands that ask what it kept.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include <csignal>
#include <cstdlib>

#include "measure/capacity.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

// A state folder of the test's own, with or without speeds of this machine.
class State : public OwnState {
  public:
    // An encoder and decoders that take so long for a picture of a DVD.
    static void keep(double seconds) {
        measure::Capacity capacity = measure::this_machine();
        capacity.at = "2026-05-09 14:02";
        const auto time = [&](double part) {
            return measure::PictureTime{seconds * part * capacity.processors, seconds * part};
        };
        for (const int effort : {1, 9}) capacity.encoding.push_back({Codec::h264, 720, 480, 8, effort, time(1)});
        capacity.decoding = {{Codec::mpeg2, 720, 480, 8, 0, time(0.1)}, {Codec::h264, 720, 480, 8, 0, time(0.1)}};
        capacity.live = {{"720x480 MPEG-2, 29.97 fps", "small-screen", 3.5, 3.1}};
        capacity.server_bps = 9e9;
        capacity.hardware = {{"/dev/dri/renderD128", "made-up driver", {"H.264"}, {"H.264"}, ""}};
        REQUIRE(measure::save(capacity, measure::capacity_file()));
    }
};

}  // namespace

TEST_CASE("a machine that wasn't measured says so wherever its speed is asked for", "[cli]") {
    const State state;
    const TempDir dir;
    const Ran show = run_program({"site", "measure", "--show"}, dir.path());
    CHECK(show.status == 1);
    CHECK(show.err.find("wavecrest site measure") != std::string::npos);
    const std::string rip = sample_disc().string();
    const Ran plan = run_program({"convert", rip, "--into", "library", "--plan", "--no-samples"}, dir.path());
    CHECK(plan.status == 2);
    CHECK(plan.err.find("wavecrest site measure") != std::string::npos);
    CHECK(run_program({"convert", rip, "--into", "library", "--no-samples"}, dir.path()).status == 2);
    CHECK(run_program({"site", "measure", "--folder", "not-there"}, dir.path()).status == 2);
    {
        // Where it can't be kept that is said at once.
        write_all(dir / "file", std::string("x"));
        ::setenv("XDG_STATE_HOME", (dir / "file").c_str(), 1);
        const Ran nowhere = run_program({"site", "measure"}, dir.path(), 10);
        CHECK(nowhere.status == 4);
        state.enter();
    }
    CHECK(run_program({"site", "measure", "not-there.toml"}, dir.path()).status == 3);

    const std::string port = std::to_string(free_port());
    write_all(dir / "site.toml", "[site]\nname = \"Cedar Landing\"\n[server]\nport = " + port +
                                     "\n[[stream]]\nname = \"Rip\"\nfile = \"" + rip +
                                     "\"\ndelivery = [\"live\"]\nprofile = \"small-screen\"\n");
    const Ran unknown = run_program({"site", "check"}, dir.path());
    CHECK(unknown.status == 0);
    CHECK(unknown.out.find("1 live transcode isn't known") != std::string::npos);

    // A damaged table is refused, not taken for none.
    write_all(measure::capacity_file(), std::string("{\"host\": 7"));
    CHECK(run_program({"site", "check"}, dir.path()).status == 3);
    CHECK(run_program({"site", "measure", "--show"}, dir.path()).status == 3);

    // A machine that is fast enough, and one that is not.
    State::keep(0.001);
    const Ran fast = run_program({"site", "check"}, dir.path());
    CHECK(fast.status == 0);
    CHECK(fast.out.find("transcode") == std::string::npos);
    State::keep(1);
    const Ran slow = run_program({"site", "check"}, dir.path());
    CHECK(slow.status == 0);
    CHECK(slow.out.find("this machine transcodes \"Rip\" with small-screen at 0.") != std::string::npos);
}

TEST_CASE("plans without samples go by what was measured", "[cli]") {
    const State state;
    const TempDir dir;
    State::keep(0.05);
    const std::string rip = sample_disc().string();
    const Ran plan = run_program(
        {"convert", rip, "--into", "library", "--profile", "full-picture", "--plan", "--no-samples", "--json"},
        dir.path());
    INFO(plan.err);
    REQUIRE(plan.status == 0);
    const Json estimate = json_of(plan)["plan"]["estimate"];
    // 12 s of film at 23.976 fps, scaled to 854x480 and encoded at 50 ms for 720x480.
    const double expected = 12 * 24000.0 / 1001 * 0.05 * (854.0 / 720);
    CHECK(estimate["time_s"].get<double>() > expected * 0.95);
    CHECK(estimate["time_s"].get<double>() < expected * 1.35);
    CHECK(estimate["is_most"] == true);
    CHECK(estimate["size_bytes"].get<double>() == Approx(12 * 8.2e6 / 8).epsilon(0.05));
    CHECK(estimate["sampled_s"] == 0.0);

    // Of a profile without a peak nothing is claimed about the size; a shelf says the same of each.
    write_all(dir / "free.toml", std::string("name = \"free\"\n[video]\neffort = 1\n"));
    const Ran unbounded = run_program(
        {"convert", rip, "--into", "library", "--profile", "free.toml", "--plan", "--no-samples"}, dir.path());
    CHECK(unbounded.status == 0);
    CHECK(unbounded.out.find("no limit of the size") != std::string::npos);
    const Ran shelf = run_program({"convert", rip, sample_film().string(), "--into", "library", "--profile",
                                   "full-picture,small-screen", "--plan", "--no-samples"},
                                  dir.path());
    INFO(shelf.out + shelf.err);
    CHECK(shelf.status == 0);
    CHECK(shelf.out.find("at most") != std::string::npos);
    // What wasn't measured is not guessed.
    const Ran other = run_program(
        {"convert", rip, "--into", "library", "--profile", "newer-tv", "--plan", "--no-samples"}, dir.path());
    CHECK(other.status == 1);
    CHECK(other.err.find("--no-samples") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir / "library"));

    const Ran show = run_program({"site", "measure", "--show"}, dir.path());
    CHECK(show.status == 0);
    CHECK(show.out.find("made-up driver: decodes H.264; encodes H.264") != std::string::npos);
    const Json json = json_of(run_program({"site", "measure", "--show", "--json"}, dir.path()));
    CHECK(json["live"][0]["carries"] == 3);
    CHECK(json["encoding"][0]["codec"] == "h264");
}

TEST_CASE("measuring a machine can be interrupted, and keeps nothing then", "[cli]") {
    const State state;
    const TempDir dir;
    Background measuring({"site", "measure"}, dir.path());
    REQUIRE(measuring.has_written("measuring:"));
    CHECK(measuring.end(SIGINT) == 130);
    CHECK_FALSE(std::filesystem::exists(measure::capacity_file()));
}
