#include <catch2/catch.hpp>

#include <fmt/format.h>

#include <nlohmann/json.hpp>
#include <set>
#include <thread>

#include "base/atomic_file.hpp"
#include "base/clock.hpp"
#include "net/http_client.hpp"
#include "net/worse_link.hpp"
#include "stream/watched.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using test::run_program;

namespace {

// Fetches a film as a player does, whose buffer takes all, over a link of this rate; for at most so long.
void fetch(std::uint16_t port, std::int64_t rate_bps, double seconds, const char* name = "lanterns.mp4") {
    net::LinkFaults faults;
    faults.rate_bps = rate_bps;
    auto link = net::WorseLink::tcp("127.0.0.1", 0, "127.0.0.1", port, faults);
    REQUIRE(link);
    net::HttpClient client(*net::parse_url(fmt::format("http://127.0.0.1:{}/{}", (*link)->port(), name)));
    REQUIRE(client.get(0));
    std::vector<std::uint8_t> buffer(16 * 1024);
    const base::RealClock clock;
    while (base::to_seconds(clock.now()) < seconds) {
        const auto count = client.read(buffer);
        if (!count || *count == 0) break;
    }
}

}  // namespace

TEST_CASE("a device is watched from the server: what was too slow for it is found", "[verify][waits]") {
    test::TempDir dir;
    ::setenv("XDG_STATE_HOME", (dir / "state").c_str(), 1);
    const std::uint16_t port = test::free_port();
    REQUIRE(base::write_file(dir / "site.toml",
                             base::as_bytes(fmt::format("[site]\nname = \"Cedar Landing\"\n[server]\nport = {}\n"
                                                        "[[device]]\nname = \"Lounge TV\"\nclass = \"tv-hd\"\n"
                                                        "[[stream]]\nname = \"Lanterns\"\nfile = \"{}\"\n",
                                                        port, test::sample_film().string())),
                             base::AtomicFile::IfExists::refuse));
    {
        const auto nobody = run_program({"verify", "--watch", "--site", "site.toml"}, dir.path());
        CHECK(nobody.status == 1);
        CHECK(nobody.err.find("no streams run on this machine") != std::string::npos);
    }
    const test::Background server({"stream", "run", "--site", "site.toml", "-q"}, dir.path());
    REQUIRE(test::wait_for_port(port));
    const auto wrong = run_program({"verify", "--watch", "--site", "site.toml", "--device", "Lounge TW"}, dir.path());
    CHECK(wrong.status == 2);
    CHECK(wrong.err.find("did you mean \"Lounge TV\"?") != std::string::npos);
    CHECK(run_program({"verify", "--watch", "http://127.0.0.1/x.mp4"}, dir.path()).status == 2);
    const auto waited = run_program({"verify", "--watch", "--wait", "400 ms"}, dir.path());
    CHECK(waited.status == 1);
    CHECK(waited.err.find("nobody played a stream") != std::string::npos);

    // Half of what the film needs, for eight seconds.
    std::thread player([&] { fetch(port, 300'000, 8); });
    const auto ran = run_program({"verify", "--watch", "--site", "site.toml", "--device", "Lounge TV", "--for", "8 s",
                                  "--out", "results", "--json"},
                                 dir.path());
    player.join();
    ::unsetenv("XDG_STATE_HOME");
    INFO(ran.out << ran.err);
    CHECK(ran.status == 1);
    const auto result = test::json_of(ran).at("results").at(0);
    CHECK(result.at("grounds") == "watched");
    CHECK(result.at("device") == "Lounge TV");
    CHECK(result.at("verdict") == "fail");
    CHECK(std::filesystem::exists(dir / "results/verify-watched-lanterns-lounge-tv.json"));
    // Seen for less than a minute: that alone is no pass.
    bool warned = false;
    for (const auto& check : result.at("checks"))
        warned = warned || (check.at("name") == "watched" && check.at("verdict") == "warn");
    CHECK(warned);
}

TEST_CASE("a viewer of a live stream is watched as one of a film is", "[verify][waits]") {
    test::TempDir dir;
    const test::OwnState state;
    const std::uint16_t port = test::free_port();
    const test::Background server({"stream", "run", test::sample_film().string(), "--delivery", "live", "--name",
                                   "lanterns", "--loop", "--port", std::to_string(port)},
                                  dir.path());
    REQUIRE(test::wait_for_port(port));
    std::thread player([&] { fetch(port, 20'000'000, 4, "lanterns-live.ts"); });
    const auto ran = run_program({"verify", "--watch", "--for", "30 s", "--json"}, dir.path());
    player.join();
    INFO(ran.out << ran.err);
    CHECK(ran.status == 0);
    const auto result = test::json_of(ran).at("results").at(0);
    CHECK(result.at("stream") == "lanterns (live)");
    CHECK(result.at("verdict") == "warn");  // seen for too short a time
    CHECK(result.at("viewer").at("agent").get<std::string>().find("Wavecrest") != std::string::npos);
    std::set<std::string> passed;
    const auto checks = result.at("checks");
    for (const auto& check : checks) {
        if (check.at("verdict") == "pass") passed.insert(check.at("name").get<std::string>());
    }
    CHECK(passed == std::set<std::string>{"startup", "stalls", "skipped ahead", "behind"});
}

TEST_CASE("what a server says of its viewers is no more trusted than any input", "[verify]") {
    for (const char* text : {"", "[]", "{}", "{\"viewings\":5}", "{\"viewings\":[5,{}]}",
                             "{\"viewings\":[{\"held_back\":5,\"seeks\":\"x\",\"stalls\":{},\"state\":[]}]}",
                             "{\"viewings\":[{\"stalls\":[5,{\"at_s\":\"x\"}],\"began_s\":-1,\"duration_s\":1e300}]}"})
        CHECK_NOTHROW(stream::viewings_in(text));
    CHECK(stream::viewings_in("{\"viewings\":[5,{}]}").size() == 1);
}
