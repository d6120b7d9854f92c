// Devices of the network found and driven, in a network of the test's own: multicast goes nowhere else.
#include <catch2/catch.hpp>

#include <cstdlib>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using nlohmann::json;

namespace {

// A script in a network namespace of its own, with loopback alone; $W is the program, $PEER the other library's end.
// Gives what it printed.
std::string in_own_network(const test::TempDir& folder, const std::string& script) {
    const std::string peer = std::string(WAVECREST_SOURCE) + "/tests/support/upnp_peer.py";
    test::write_all(folder / "script.sh", "cd '" + folder.path().string() + "'\nip link set lo up\nW='" +
                                              WAVECREST_PROGRAM + "'\nPEER='/usr/bin/python3 -W ignore " + peer +
                                              "'\n" + script + "\nkill $(jobs -p) 2>/dev/null\nwait\n");
    const std::string run = "timeout 100 unshare -rn bash '" + (folder / "script.sh").string() + "' > '" +
                            (folder / "out").string() + "' 2>'" + (folder / "err").string() + "'";
    (void)std::system(run.c_str());
    return test::read_text(folder / "out");
}

std::string waits_for(const std::string& file, const std::string& text) {
    return "for i in $(seq 100); do grep -q '" + text + "' " + file + " && break; sleep 0.1; done\n";
}

}  // namespace

TEST_CASE("renderers are found, described in the site file, played on and stopped", "[cli][renderer][waits]") {
    test::TempDir folder;
    std::filesystem::copy_file(test::sample_film(), folder / "Film.mp4");
    test::write_all(folder / "site.toml", "[site]\nname = \"Cedar Landing\"\n");
    const std::string out = in_own_network(
        folder, "$W standin renderer 'Lounge TV' > lounge &\n$W standin renderer 'Den TV' --fault slow > den &\n" +
                    waits_for("lounge", "waits") + waits_for("den", "waits") +
                    "$W device find --for '2 s' --json --add site.toml > found.json\n"
                    "$W device find --for '2 s' --add site.toml > again\n"
                    "$W device play 'Lounge TV' Film.mp4 > play & PLAY=$!\n" +
                    waits_for("play", "served from here") +
                    "$W device seek 'Lounge TV' soon > wrong 2>&1; echo $? >> wrong\n"
                    "$W device pause 'Lounge TV' > pause\n"
                    "$W device volume lounge 25 --json > volume.json\n"
                    "$W device show 'Lounge TV' --live --json > live.json\n"
                    "$W device stop all > stop\n"
                    "wait $PLAY; echo $? > ended\n"
                    "$W device play 'Kitchen TV' Film.mp4 > kitchen 2>&1; echo $? >> kitchen\n"
                    "$W device play 'Lounge TV' gone.mp4 > gone 2>&1; echo $? >> gone\n"
                    "$W device check 'devices/Lounge TV.toml' > check 2>&1; echo $? >> check\n");
    CAPTURE(out, test::read_text(folder / "err"));
    const json found = json::parse(test::read_text(folder / "found.json"));
    REQUIRE(found["devices"].size() == 2);
    CHECK(found["devices"][0]["name"] == "Den TV");
    CHECK(found["devices"][1]["kind"] == "renderer");
    CHECK(found["devices"][1]["address"] == "127.0.0.1");
    CHECK(found["devices"][1]["takes"].size() >= 2);
    CHECK(found["added"].size() == 2);
    CHECK(test::read_text(folder / "again").find("is in the site file already") != std::string::npos);
    const std::string site = test::read_text(folder / "site.toml");
    CHECK(site.find("[site]\nname = \"Cedar Landing\"") == 0);
    CHECK(site.find("class = \"devices/Lounge TV.toml\"") != std::string::npos);
    CHECK(test::read_text(folder / "devices/Lounge TV.toml").find("GetProtocolInfo") != std::string::npos);
    CHECK(test::read_text(folder / "play").find("playing 0:0") != std::string::npos);
    CHECK(test::read_text(folder / "wrong").find("isn't valid here") != std::string::npos);
    CHECK(json::parse(test::read_text(folder / "volume.json"))["devices"][0]["state"] == "volume 25 %");
    CHECK(test::read_text(folder / "pause").find("paused 0:0") != std::string::npos);
    const json live = json::parse(test::read_text(folder / "live.json"));
    CHECK(live["devices"][0]["state"].get<std::string>().starts_with("paused"));
    CHECK(live["devices"][0]["volume"] == 25);
    CHECK(test::read_text(folder / "stop").find("Lounge TV: stopped") != std::string::npos);
    CHECK(test::read_text(folder / "ended") == "0\n");
    const std::string kitchen = test::read_text(folder / "kitchen");
    CHECK(kitchen.find("there is: Den TV, Lounge TV") != std::string::npos);
    CHECK(kitchen.ends_with("1\n"));
    CHECK(test::read_text(folder / "gone").ends_with("3\n"));
    CHECK(test::read_text(folder / "check").ends_with("0\n"));
}

TEST_CASE("another library's control point finds, calls and hears our renderer", "[cli][renderer][waits]") {
    test::TempDir folder;
    in_own_network(folder, "$W standin renderer 'Lounge TV' > lounge &\n" + waits_for("lounge", "waits") +
                               "$PEER control 'Lounge TV' > told.json\n");
    CAPTURE(test::read_text(folder / "err"));
    const json told = json::parse(test::read_text(folder / "told.json"));
    CHECK(told["udn"].get<std::string>().starts_with("uuid:"));
    CHECK(told["actions"] == 13);
    CHECK(told["set"] == json::array());
    CHECK(told["volume"] == json::array({44}));
    CHECK(told["play"] == "fault 701");
    REQUIRE(told["events"].size() >= 2);
    CHECK(told["events"][0].get<std::string>().find("Volume channel=\"Master\" val=\"30\"") != std::string::npos);
}

TEST_CASE("another library's renderer is found, asked and told to play", "[cli][renderer][waits]") {
    test::TempDir folder;
    std::filesystem::copy_file(test::sample_film(), folder / "Film & more.mp4");
    std::filesystem::create_directory(folder / "peer");
    in_own_network(folder, "$PEER device peer > peer.log 2>&1 &\n" + waits_for("peer.log", "ready") +
                               "$W device find --for '2 s' --json > found.json\n"
                               "$W device play 'Peer TV' 'Film & more.mp4' > play 2>&1; echo $? >> play\n");
    CAPTURE(test::read_text(folder / "err"), test::read_text(folder / "peer.log"));
    const json found = json::parse(test::read_text(folder / "found.json"));
    REQUIRE(found["devices"].size() == 1);
    CHECK(found["devices"][0]["name"] == "Peer TV");
    CHECK(found["devices"][0]["takes"] == json::array({"http-get:*:video/mp4:*", "http-get:*:audio/flac:*"}));
    const std::string peer = test::read_text(folder / "peer.log");
    CHECK(peer.find("/Film%20%26%20more.mp4") != std::string::npos);
    CHECK(peer.find("<dc:title>Film &amp; more</dc:title>") != std::string::npos);
    const std::string play = test::read_text(folder / "play");
    CHECK(play.find("can't find what it is to play") != std::string::npos);
    CHECK(play.ends_with("1\n"));
}
