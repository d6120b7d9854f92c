// verify over a network that is worse than this machine's own: what it lacks is named.
#include <algorithm>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "net/udp.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

Json check_of(const Json& result, const std::string& name) {
    for (const Json& check : result["checks"]) {
        if (check["name"] == name) return check;
    }
    FAIL("there is no check " << name);
    return {};
}

// A busy machine may hold the player up: then it stalls, and nothing else is found wanting.
bool at_most_stalls(const Json& result) {
    return std::all_of(result["checks"].begin(), result["checks"].end(), [](const Json& check) {
        return check["verdict"] != "fail" || check["name"].get<std::string>().starts_with("stall");
    });
}

}  // namespace

TEST_CASE("verify over a worse network: loss, delay and outages of every protocol", "[cli][verify][link][waits]") {
    const TempDir dir;
    std::filesystem::copy_file(sample_film(), dir / "film.mp4");
    const std::uint16_t port = free_port(), rtmp = free_port();
    const auto udp = net::free_udp_port();
    REQUIRE(udp);
    const std::string group = "127.0.0.1:" + std::to_string(*udp);
    const Background server(
        {"stream", "run", "film.mp4", "--name", "Film", "--port", std::to_string(port), "--rtmp-port",
         std::to_string(rtmp), "--delivery", "file,live,rtmp", "--rtp", group, "--loop", "-q"},
        dir.path());
    REQUIRE(wait_for_port(port));
    const std::string http = "http://127.0.0.1:" + std::to_string(port);
    const auto verify = [&](std::vector<std::string> more) {
        std::vector<std::string> words = {"verify"};
        words.insert(words.end(), more.begin(), more.end());
        words.insert(words.end(), {"--device", "player-full", "--json"});
        return run_program(words, dir.path());
    };

    SECTION("datagrams that are lost fail, and the network is what is short") {
        const Ran ran = verify({"rtp://" + group, "--loss", "3", "--jitter", "5 ms", "--for", "5 s"});
        INFO(ran.out << ran.err);
        REQUIRE(ran.status == 1);
        const Json result = json_of(ran)["results"][0];
        CHECK(result["cause"] == "network");
        CHECK(result["url"] == "rtp://" + group);
        CHECK(check_of(result, "packets lost")["verdict"] == "fail");
        CHECK(check_of(result, "network")["measured"].get<std::string>().find("3 % loss") != std::string::npos);
    }
    SECTION("a connection repeats what is lost: it plays, a little later") {
        const Ran ran = verify({http + "/film-live.ts", "--loss", "1", "--delay", "20 ms", "--for", "5 s"});
        INFO(ran.out << ran.err);
        const Json result = json_of(ran)["results"][0];
        CHECK(at_most_stalls(result));
        CHECK(check_of(result, "frames")["verdict"] == "pass");
        CHECK(check_of(result, "packets")["verdict"] == "pass");
        CHECK(result["startup_s"].get<double>() > 0.04);
    }
    SECTION("RTMP goes the same way") {
        const Ran ran =
            verify({"rtmp://127.0.0.1:" + std::to_string(rtmp) + "/house/film", "--delay", "30 ms", "--for", "4 s"});
        INFO(ran.out << ran.err);
        const Json result = json_of(ran)["results"][0];
        CHECK(at_most_stalls(result));
        CHECK(check_of(result, "network")["measured"] == "30 ms delay");
    }
    SECTION("outages longer than the player's buffer stop a live stream, and the network is blamed") {
        const Ran ran = verify({http + "/film-live.ts", "--outage", "4 s", "--every", "9 s", "--for", "12 s"});
        INFO(ran.out << ran.err);
        CHECK(ran.status == 1);
        const Json result = json_of(ran)["results"][0];
        CHECK(result["cause"] == "network");
        CHECK_FALSE(result["stalls"].empty());
    }
    SECTION("a film is judged with outages on its own clock, as long as connections see them") {
        const auto begun = std::chrono::steady_clock::now();
        const auto ask = [&](const std::string& outage) {
            return verify({http + "/film.mp4", "--link", "2 Mbit/s", "--outage", outage, "--every", "12 s"});
        };
        const Ran hardly = ask("300 ms");
        INFO(hardly.out << hardly.err);
        CHECK(hardly.status == 0);
        const Ran ran = ask("6 s");
        INFO(ran.out << ran.err);
        CHECK(ran.status == 1);
        const Json result = json_of(ran)["results"][0];
        CHECK(result["cause"] == "network");
        REQUIRE_FALSE(result["stalls"].empty());
        CHECK(check_of(result, "network")["measured"].get<std::string>().find("after 10.3 s") != std::string::npos);
        // Nobody waited for it.
        CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(10));
        const Ran never = verify({http + "/film.mp4", "--outage", "6 s", "--every", "8 s"});
        CHECK(never.status == 2);
        CHECK((never.out + never.err).find("more than 10.3 s") != std::string::npos);
        // The same again.
        const Json again = json_of(ask("6 s"))["results"][0]["stalls"];
        REQUIRE(again.size() == result["stalls"].size());
        for (std::size_t i = 0; i < again.size(); ++i)
            CHECK(again[i]["for_s"].get<double>() == Approx(result["stalls"][i]["for_s"].get<double>()).margin(0.5));
    }
    SECTION("an outage of which only the length is said") {
        const Ran ran = verify({http + "/film-live.ts", "--outage", "2 s"});
        CHECK(ran.status == 2);
        CHECK(ran.out.find("--every") != std::string::npos);
    }
}
