// Devices of the network found and driven, in a network of the test's own: multicast goes nowhere else.
#include <catch2/catch.hpp>

#include <unistd.h>

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
    // Daemons give files to their own users, which only real root can.
    const std::string run = std::string("timeout 100 unshare ") + (::geteuid() == 0 ? "-nm" : "-rnm") + " bash '" +
                            (folder / "script.sh").string() + "' > '" + (folder / "out").string() + "' 2>'" +
                            (folder / "err").string() + "'";
    (void)std::system(run.c_str());
    return test::read_text(folder / "out");
}

std::string waits_for(const std::string& file, const std::string& text) {
    return "for i in $(seq 100); do grep -q '" + text + "' " + file + " && break; sleep 0.1; done\n";
}

// Two hosts on one wire: this one, and another in which $FAR runs commands.
const char* const kTwoHosts =
    "ip link add va type veth peer name vb\nunshare -n sleep 90 & OTHER=$!\n"
    // (It has its network a moment after it has its number.)
    "for i in $(seq 100); do [ \"$(readlink /proc/$OTHER/ns/net)\" != \"$(readlink /proc/self/ns/net)\" ] && break; "
    "sleep 0.1; done\nip link set vb netns $OTHER\n"
    "FAR=\"nsenter -t $OTHER -n\"\nip addr add 192.168.77.1/24 dev va\nip link set va up\n$FAR ip link set lo up\n"
    "$FAR ip addr add 192.168.77.2/24 dev vb\n$FAR ip link set vb up\n"
    "for i in $(seq 50); do ip addr show dev va | grep -q 'fe80.*scope link $' && break; sleep 0.1; done\n"
    "for i in $(seq 50); do $FAR ip addr show dev vb | grep -q 'fe80.*scope link $' && break; sleep 0.1; done\n";

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

TEST_CASE("a device of another host is found, gone, and found by IPv6 alone", "[cli][renderer][waits]") {
    test::TempDir folder;
    in_own_network(folder, std::string(kTwoHosts) + "$FAR $W standin renderer 'Far TV' > far & FARTV=$!\n" +
                               "$W standin renderer 'Near TV' > near &\n" + waits_for("far", "waits") +
                               waits_for("near", "waits") +
                               "$W device find --for '2 s' --json > both.json\n"
                               "pkill -P $FARTV; kill $FARTV; wait $FARTV 2>/dev/null\n"
                               "$W device find --for '2 s' --json > gone.json\n"
                               "ip addr del 192.168.77.1/24 dev va\nip addr add 192.168.77.9/24 dev va\n"
                               "for i in $(seq 10); do $W device find --for '1 s' --json > moved.json; "
                               "grep -q 192.168.77.9 moved.json && break; done\n"
                               "$FAR ip addr del 192.168.77.2/24 dev vb\nip addr del 192.168.77.9/24 dev va\n"
                               "$FAR $W standin renderer 'Sixth TV' > sixth &\n" +
                               waits_for("sixth", "waits") +
                               "$W device volume 'Sixth TV' --interface va --json > volume.json\n");
    CAPTURE(test::read_text(folder / "err"));
    const json both = json::parse(test::read_text(folder / "both.json"));
    REQUIRE(both["devices"].size() == 2);  // each once, though both are found by more than one way
    CHECK(both["devices"][0]["name"] == "Far TV");
    CHECK(both["devices"][0]["address"] == "192.168.77.2");
    CHECK(both["devices"][1]["address"] == "192.168.77.1");  // as other hosts reach it, not by loopback
    const json gone = json::parse(test::read_text(folder / "gone.json"));
    REQUIRE(gone["devices"].size() == 1);
    CHECK(gone["devices"][0]["name"] == "Near TV");
    // Its address has changed while it ran.
    const json moved = json::parse(test::read_text(folder / "moved.json"));
    REQUIRE(moved["devices"].size() == 1);
    CHECK(moved["devices"][0]["address"] == "192.168.77.9");
    const json volume = json::parse(test::read_text(folder / "volume.json"));
    CHECK(volume["devices"][0]["state"] == "volume 30 %");
}

TEST_CASE("a hostile network leads nowhere, and holds nothing up", "[cli][renderer][waits]") {
    test::TempDir folder;
    const std::string hostile =
        "/usr/bin/python3 '" + std::string(WAVECREST_SOURCE) + "/tests/support/upnp_hostile.py'";
    test::write_all(folder / "x.mp4", std::string("what a device would be given"));
    in_own_network(folder, std::string(kTwoHosts) +
                               // What would be asked for here is written down.
                               "/usr/bin/python3 -m http.server 8000 > own.log 2>&1 &\n"
                               "$FAR " +
                               hostile + " 192.168.77.2 192.168.77.1 > hostile.log 2>&1 &\n" +
                               waits_for("hostile.log", "ready") +
                               "SECONDS=0; $W device find --for '2 s' --json > found.json; echo $SECONDS > took\n"
                               "$W device find --for '1 s' > table\n"
                               "$W device play fault http://192.168.77.1:8000/x.mp4 > play 2>&1; echo $? >> play\n");
    CAPTURE(test::read_text(folder / "err"), test::read_text(folder / "hostile.log"));
    const json found = json::parse(test::read_text(folder / "found.json"));
    std::size_t renderers = 0, with_problem = 0;
    for (const json& one : found["devices"]) {
        renderers += one["kind"] == "renderer" ? 1 : 0;
        with_problem += one.contains("problem") ? 1 : 0;
        CHECK(one["address"] == "192.168.77.2");
        CHECK(one["name"].get<std::string>().find("aaaaaaaaaa") == std::string::npos);
    }
    CHECK(found["devices"].size() == 9);  // one of them answered twice
    CHECK(renderers >= 2);
    CHECK(with_problem >= 7);
    CHECK(std::stoi(test::read_text(folder / "took")) <= 12);
    CHECK(test::read_text(folder / "table").find('\x1b') == std::string::npos);
    // Nothing was asked for of this host but what somebody here named.
    const std::string own = test::read_text(folder / "own.log");
    CHECK(own.find("stolen") == std::string::npos);
    CHECK(own.find("d.xml") == std::string::npos);
    CHECK(own.find("control") == std::string::npos);
    const std::string play = test::read_text(folder / "play");
    CHECK(play.find("error 501") != std::string::npos);
    CHECK(play.ends_with("1\n"));
}

TEST_CASE("file servers that announce themselves by mDNS are found, where the daemon runs", "[cli][renderer][waits]") {
    if (::geteuid() != 0) {
        WARN("not tried: the daemon needs root");
        return;
    }
    test::TempDir folder;
    std::filesystem::create_directories(folder / "services");
    test::write_all(folder / "services/files.service",
                    "<?xml version=\"1.0\"?><service-group><name>Attic server</name><service><type>_smb._tcp</type>"
                    "<port>445</port></service></service-group>\n");
    test::write_all(folder / "bus.conf",
                    "<busconfig><type>system</type><listen>unix:path=" + (folder / "bus").string() +
                        "</listen><auth>EXTERNAL</auth><policy context=\"default\"><allow send_destination=\"*\"/>"
                        "<allow eavesdrop=\"true\"/><allow own=\"*\"/></policy></busconfig>\n");
    test::write_all(folder / "avahi.conf",
                    "[server]\nhost-name=attic\nuse-ipv6=no\nallow-interfaces=va\n[publish]\npublish-workstation=no\n");
    in_own_network(folder,
                   "ip link add va type veth peer name vb\nip addr add 192.168.77.1/24 dev va\n"
                   "ip link set va up\nip link set vb up\n"
                   "$W device find --for '300 ms' --interface va --json > without.json\n"
                   "mount -t tmpfs none /run\nmkdir -p /etc/avahi/services\n"
                   "mount --bind services /etc/avahi/services\n"
                   "export DBUS_SYSTEM_BUS_ADDRESS=unix:path=$PWD/bus\n"
                   "dbus-daemon --config-file=$PWD/bus.conf --nofork > dbus.log 2>&1 &\n"
                   "for i in $(seq 50); do [ -S bus ] && break; sleep 0.1; done\n"
                   "avahi-daemon --no-drop-root --no-chroot --no-proc-title -f $PWD/avahi.conf > avahi.log 2>&1 &\n" +
                       waits_for("avahi.log", "Service .*established") +
                       "$W device find --for '2 s' --interface va --json > found.json\n");
    CAPTURE(test::read_text(folder / "err"), test::read_text(folder / "avahi.log"));
    const json without = json::parse(test::read_text(folder / "without.json"));
    CHECK(without["services"].empty());
    CHECK(without["services_unavailable"].get<std::string>().find("Avahi") != std::string::npos);
    const json found = json::parse(test::read_text(folder / "found.json"));
    REQUIRE(found["services"].size() == 1);
    CHECK(found["services"][0]["name"] == "Attic server");
    CHECK(found["services"][0]["type"] == "_smb._tcp");
    CHECK(found["services"][0]["address"] == "192.168.77.1");
    CHECK(found["services"][0]["port"] == 445);
}

TEST_CASE("the graded clips are played on a renderer, and it is described by what it took", "[cli][renderer][waits]") {
    test::TempDir folder;
    in_own_network(folder, "$W standin renderer 'Den TV' --class tv-720 > den &\n" + waits_for("den", "waits") +
                               "$W device test --on 'Den TV' --only video --max-size 480p --into . --json < /dev/null "
                               "> test.json\n$W device check 'Den TV.toml' > check\n");
    CAPTURE(test::read_text(folder / "err"));
    const json result = json::parse(test::read_text(folder / "test.json"));
    REQUIRE(result["devices"].size() == 1);
    const std::string text = test::read_text(folder / "Den TV.toml");
    CHECK(text.find("measured by playing on it (UPnP)") != std::string::npos);
    CHECK(text.find("its frames weren't seen") != std::string::npos);  // nobody looked at its screen
    CHECK(text.find("codec = \"h264\"") != std::string::npos);
    CHECK(text.find("codec = \"av1\"") == std::string::npos);
}

TEST_CASE("another library's control point browses and searches ours", "[cli][renderer][waits]") {
    test::TempDir folder;
    std::filesystem::create_directories(folder / "films/Shore/Season 01");
    std::filesystem::copy_file(test::sample_film(), folder / "films/Lanterns & Fog (2019).mp4");
    std::filesystem::copy_file(test::sample_film(), folder / "films/Shore/Season 01/Shore - S01E02 - Pier.mp4");
    test::write_all(folder / "site.toml",
                    "[site]\nname = \"Cedar Landing\"\n[server]\nport = 8124\n[[collection]]\nname = \"Films\"\n"
                    "folder = \"films\"\n");
    in_own_network(folder, "export XDG_STATE_HOME=$PWD/state\n$W stream run --site site.toml > run 2>&1 &\n" +
                               waits_for("run", "library: 2 files") + "$PEER browse 'Cedar Landing' > told.json\n");
    CAPTURE(test::read_text(folder / "err"), test::read_text(folder / "run"));
    const json told = json::parse(test::read_text(folder / "told.json"));
    CHECK(told["0"] == json::array({"Films", "Series", "Recently added", "By year"}));
    CHECK(told["films"] == json::array({"Lanterns & Fog"}));
    CHECK(told["episodes"] == json::array({"Shore"}));
    CHECK(told["found"] == json::array({"Lanterns & Fog"}));
    CHECK(told["wrong"] == "fault 708");
    REQUIRE(told["resources"].size() == 2);
    CHECK(told["resources"][0]["type"] == "video/mp4");
    CHECK(told["resources"][0]["size"] == std::filesystem::file_size(test::sample_film()));
    CHECK(told["resources"][0]["width"] == 854);
    CHECK(told["resources"][1]["type"] == "application/vnd.apple.mpegurl");
    CHECK(told["actions"] == 5);
}

TEST_CASE("streams are played on screens from the control page, and the library is browsed", "[cli][renderer][waits]") {
    test::TempDir folder;
    std::filesystem::create_directories(folder / "films");
    std::filesystem::copy_file(test::sample_film(), folder / "films/Lanterns (2019).mp4");
    test::write_all(folder / "site.toml",
                    "[site]\nname = \"Cedar Landing\"\n[server]\nport = 8123\n[[stream]]\nname = \"Lanterns\"\n"
                    "file = \"films/Lanterns (2019).mp4\"\n[[collection]]\nname = \"Films\"\nfolder = \"films\"\n");
    test::write_all(
        folder / "ask.py",
        "import json, sys, time, urllib.request\n"
        "code = open(sys.argv[1]).read().strip()\n"
        "def ask(body=None, code=code):\n"
        "    r = urllib.request.Request('http://127.0.0.1:8123/control/screens', data=body and "
        "json.dumps(body).encode(), headers={'Authorization': 'Bearer ' + code})\n"
        "    try:\n        return json.load(urllib.request.urlopen(r))\n"
        "    except urllib.error.HTTPError as e:\n        return {'status': e.code}\n"
        "def until(fits):\n    for i in range(100):\n        seen = ask()\n        if fits(seen): return seen\n"
        "        time.sleep(0.2)\n    return seen\n"
        "out = {'locked': ask(code='wrong'), 'found': until(lambda s: s['screens'])}\n"
        "out['wrong'] = [ask({'screen': 'all', 'do': 'dance'}), ask({'do': 'play'}), "
        "ask({'screen': 'all', 'do': 'play', 'stream': 'nothing'}), ask({'screen': 'all', 'do': 'volume', "
        "'percent': 400})]\n"
        "ask({'screen': 'all', 'do': 'volume', 'percent': 45})\n"
        "out['ordered'] = ask({'screen': out['found']['screens'][0]['id'], 'do': 'play', 'stream': 'Lanterns'})\n"
        "out['playing'] = until(lambda s: s['screens'][0].get('state') == 'playing' and "
        "s['screens'][0].get('volume') == 45)\n"
        "ask({'screen': 'all', 'do': 'stop'})\n"
        "out['stopped'] = until(lambda s: s['screens'][0]['state'] == 'stopped')\n"
        "print(json.dumps(out))\n");
    in_own_network(
        folder, "export XDG_STATE_HOME=$PWD/state\n$W standin renderer 'Den TV' > den &\n" + waits_for("den", "waits") +
                    "$W stream run --site site.toml > run 2>&1 &\n" + waits_for("run", "library: 1 file") +
                    "/usr/bin/python3 ask.py state/wavecrest/access-code > told.json\n"
                    "$W device find --for '1500 ms' --json > found.json\n"
                    "$W library find lantern --json > library.json\n$W library find nothing > none; echo $? >> "
                    "none\n");
    CAPTURE(test::read_text(folder / "err"), test::read_text(folder / "run"));
    const json told = json::parse(test::read_text(folder / "told.json"));
    CHECK(told["locked"]["status"] == 401);
    REQUIRE(told["found"]["screens"].size() == 1);
    CHECK(told["found"]["screens"][0]["name"] == "Den TV");
    CHECK(told["wrong"][0]["status"] == 400);
    CHECK(told["wrong"][1]["status"] == 400);
    CHECK(told["wrong"][2]["status"] == 404);
    CHECK(told["wrong"][3]["status"] == 400);
    const json playing = told["playing"]["screens"][0];
    CHECK(playing["state"] == "playing");
    CHECK(playing["title"] == "Lanterns");
    CHECK(playing["volume"] == 45);
    CHECK(playing["trouble"] == "");
    CHECK(told["stopped"]["screens"][0]["state"] == "stopped");
    // The house's own library is a server among what is found.
    const json found = json::parse(test::read_text(folder / "found.json"));
    REQUIRE(found["devices"].size() == 2);
    CHECK(found["devices"][1]["name"] == "Cedar Landing");
    CHECK(found["devices"][1]["kind"] == "server");
    const json library = json::parse(test::read_text(folder / "library.json"));
    REQUIRE(library["total"] == 1);
    CHECK(library["items"][0]["title"] == "Lanterns");
    CHECK(library["items"][0]["date"] == "2019");
    CHECK(test::read_text(folder / "none").ends_with("1\n"));
}
