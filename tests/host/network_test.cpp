// What stands in the way of a stream on this machine: firewall rules as nft prints them, mounts as the kernel does.
#include "host/network.hpp"

#include <catch2/catch.hpp>

#include "host/mounts.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using host::FirewallAnswer;
using host::judge_ruleset;
using host::Transport;
using Kind = host::FirewallAnswer::Kind;

namespace {

// A table with one input chain of this policy, and rules given as their expressions.
std::string ruleset(const std::string& policy, const std::vector<std::string>& rules,
                    const std::vector<std::string>& others = {}) {
    std::string text =
        R"({"nftables": [{"metainfo": {"version": "1.0.6"}}, {"table": {"family": "inet", "name": "house"}},
        {"chain": {"family": "inet", "table": "house", "name": "in", "type": "filter", "hook": "input", "prio": 0, "policy": ")" +
        policy + "\"}}, {\"chain\": {\"family\": \"inet\", \"table\": \"house\", \"name\": \"screens\"}}";
    const auto add = [&](const std::string& chain, const std::string& expressions) {
        text += ", {\"rule\": {\"family\": \"inet\", \"table\": \"house\", \"chain\": \"" + chain + "\", \"expr\": [" +
                expressions + "]}}";
    };
    for (const std::string& rule : rules) add("in", rule);
    for (const std::string& rule : others) add("screens", rule);
    return text + "]}";
}
std::string port_rule(const std::string& protocol, const std::string& right, const std::string& verdict) {
    return R"({"match": {"op": "==", "left": {"payload": {"protocol": ")" + protocol +
           R"(", "field": "dport"}}, "right": )" + right + "}}, {\"" + verdict + "\": null}";
}

}  // namespace

TEST_CASE("firewall rules are followed for a port", "[host]") {
    const auto at = [](const std::string& rules, std::uint16_t port, Transport transport = Transport::tcp) {
        return judge_ruleset(rules, transport, port).kind;
    };
    CHECK(at(R"({"nftables": []})", 8080) == Kind::open);
    CHECK(at(ruleset("accept", {}), 8080) == Kind::open);
    const auto closed = judge_ruleset(ruleset("drop", {}), Transport::tcp, 8080);
    CHECK(closed.kind == Kind::closed);
    CHECK(closed.why.find("house in") != std::string::npos);
    const std::string one = ruleset("drop", {port_rule("tcp", "8080", "accept")});
    CHECK(at(one, 8080) == Kind::open);
    CHECK(at(one, 8081) == Kind::closed);
    CHECK(at(one, 8080, Transport::udp) == Kind::closed);
    const std::string some = ruleset("drop", {port_rule("tcp", R"({"set": [22, {"range": [8000, 8100]}]})", "accept")});
    CHECK(at(some, 8050) == Kind::open);
    CHECK(at(some, 22) == Kind::open);
    CHECK(at(some, 8101) == Kind::closed);
    CHECK(at(ruleset("accept", {port_rule("tcp", "8080", "drop")}), 8080) == Kind::closed);
    CHECK(at(ruleset("accept", {port_rule("tcp", "8080", "reject")}), 8080) == Kind::closed);
    // Loopback and connections that are there already say nothing of a new one from a screen.
    const std::string usual = ruleset(
        "drop",
        {R"({"match": {"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "lo"}}, {"accept": null})",
         R"({"match": {"op": "in", "left": {"ct": {"key": "state"}}, "right": ["established", "related"]}}, {"accept": null})"});
    CHECK(at(usual, 8080) == Kind::closed);
    // Through another chain.
    const std::string jump =
        ruleset("drop", {R"({"jump": {"target": "screens"}})"}, {port_rule("tcp", "1935", "accept")});
    CHECK(at(jump, 1935) == Kind::open);
    CHECK(at(jump, 1936) == Kind::closed);
    CHECK(at("no json", 1) == Kind::unknown);
    // A chain that goes to itself ends.
    CHECK(at(ruleset("drop", {R"({"jump": {"target": "in"}})"}), 8080) == Kind::closed);
}

TEST_CASE("a path's mount is the innermost that holds it, names with blanks and all", "[host]") {
    const char* const table =
        "/dev/sda1 / ext4 rw 0 0\n//tower/films /srv/the\\040films cifs rw 0 0\ntower:/music /srv/music nfs4 rw 0 0\n"
        "# a comment\n/dev/sdb1 /srv ext4 rw 0 0\n";
    const auto films = host::find_mount(table, "/srv/the films/lake.mp4");
    REQUIRE(films);
    CHECK(films->device == "//tower/films");
    CHECK(films->is_share());
    CHECK(host::find_mount(table, "/srv/music")->type == "nfs4");
    CHECK(host::find_mount(table, "/srv/musical/x.mp4")->at == "/srv");
    CHECK_FALSE(host::find_mount(table, "/home/x")->is_share());
    CHECK_FALSE(host::find_mount("", "/x"));
    CHECK(host::mount_of("/proc/self/mounts"));
    CHECK(host::mount_of("/proc/self/mounts")->type == "proc");
}

TEST_CASE("a folder is looked into to see whether something is mounted there", "[host]") {
    const TempDir dir;
    using namespace std::chrono_literals;
    CHECK(*host::mounted_at("/proc", 5s));
    CHECK(*host::mounted_at("/proc/", 5s));
    CHECK(*host::mounted_at("/", 5s));
    CHECK_FALSE(*host::mounted_at(dir.path(), 5s));
    CHECK(host::mounted_at(dir / "nothing", 5s).error().kind == ErrorKind::machine);
    write_all(dir / "film.mp4", std::string("x"));
    CHECK_FALSE(host::mounted_at(dir / "film.mp4", 5s));
    CHECK_FALSE(host::is_mounted("/dev/null"));
    CHECK_FALSE(host::is_mounted(dir / "film.mp4"));
}

TEST_CASE("reading speed is measured, addresses set by hand have no lease", "[host]") {
    const TempDir dir;
    write_all(dir / "x", ByteVector(4 << 20, 7));
    const auto speed = host::read_speed(dir / "x");
    REQUIRE(speed);
    CHECK(*speed > 1e6);
    CHECK_FALSE(host::read_speed(dir / "gone"));
    CHECK_FALSE(host::lease_seconds("127.0.0.1"));
    CHECK_FALSE(host::lease_seconds("203.0.113.250"));
    CHECK_FALSE(host::lease_seconds("lounge"));
}

TEST_CASE("rules as iptables saves them are followed, too", "[host]") {
    const auto at = [](const std::string& rules, std::uint16_t port, Transport transport = Transport::tcp) {
        return host::judge_saved_rules(rules, transport, port).kind;
    };
    CHECK(at("", 8080) == Kind::open);
    CHECK(at("*filter\n:INPUT ACCEPT [0:0]\nCOMMIT\n", 8080) == Kind::open);
    const std::string usual =
        "# Generated\n*nat\n:INPUT DROP [0:0]\nCOMMIT\n*filter\n:INPUT DROP [0:0]\n:FORWARD ACCEPT [0:0]\n:screens - "
        "[0:0]\n"
        "-A INPUT -i lo -j ACCEPT\n-A INPUT -m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT\n"
        "-A INPUT -p tcp -m tcp --dport 22 -m comment --comment \"for the -j DROP man\" -j ACCEPT\n"
        "-A INPUT -p tcp -m multiport --dports 8080,1900:1935 -j screens\n"
        "-A INPUT -s 192.0.2.9/32 -p tcp -m tcp --dport 9000 -j ACCEPT\n"
        "-A INPUT -p udp -m udp ! --dport 5004 -j ACCEPT\n-A screens -m state --state NEW -j ACCEPT\nCOMMIT\n";
    CHECK(at(usual, 22) == Kind::open);
    CHECK(at(usual, 23) == Kind::closed);
    CHECK(at(usual, 8080) == Kind::open);
    CHECK(at(usual, 1920) == Kind::open);
    CHECK(at(usual, 1936) == Kind::closed);
    CHECK(at(usual, 9000) == Kind::closed);  // but for one machine
    CHECK(at(usual, 5004, Transport::udp) == Kind::closed);
    CHECK(at(usual, 5005, Transport::udp) == Kind::open);
    const std::string open = "*filter\n:INPUT ACCEPT [0:0]\n";
    CHECK(at(open + "-A INPUT -p tcp -m tcp --dport 8080 -j REJECT --reject-with icmp-port-unreachable\n", 8080) ==
          Kind::closed);
    CHECK(at(open + "-A INPUT -m limit --limit 3/min -j DROP\n", 8080) == Kind::open);
    CHECK(at(open + "-A INPUT -g INPUT\n", 8080) == Kind::open);
    // nft can't say what such a rule looks at: it takes the other program to know.
    CHECK(judge_ruleset(ruleset("drop", {R"({"xt": null}, {"accept": null})"}), Transport::tcp, 8080).kind ==
          Kind::unknown);
}

TEST_CASE("an interface tells what its wire is set to, or nothing", "[host]") {
    const TempDir dir;
    for (const auto& [name, text] :
         {std::pair{"eth0", "1000\n"}, {"eth1", "100\n"}, {"wlan0", "-1\n"}, {"bridge", "none\n"}}) {
        std::filesystem::create_directory(dir / name);
        write_all(dir / name / "speed", std::string(text));
    }
    CHECK(host::wire_speed("eth0", dir.path().string()) == 1'000'000'000);
    CHECK(host::wire_speed("eth1", dir.path().string()) == 100'000'000);
    for (const char* name : {"wlan0", "bridge", "gone"}) CHECK_FALSE(host::wire_speed(name, dir.path().string()));
    CHECK_FALSE(host::wire_speed("lo"));
}
