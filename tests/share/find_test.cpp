// Finding file servers: what the protocols say, by their own examples and lies, and by real servers in a network of
// their own.
#include "share/find.hpp"

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "share/netbios.hpp"
#include "share/ws_discovery.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

constexpr const char* kMatches = R"(<?xml version="1.0" encoding="utf-8"?>
<soap:Envelope xmlns:soap="http://www.w3.org/2003/05/soap-envelope" xmlns:wsa="http://schemas.xmlsoap.org/ws/2004/08/addressing"
 xmlns:wsd="http://schemas.xmlsoap.org/ws/2005/04/discovery" xmlns:wsdp="http://schemas.xmlsoap.org/ws/2006/02/devprof"
 xmlns:pub="http://schemas.microsoft.com/windows/pub/2005/07"><soap:Body><wsd:ProbeMatches>
 <wsd:ProbeMatch><wsa:EndpointReference><wsa:Address>urn:uuid:1234</wsa:Address></wsa:EndpointReference>
 <wsd:Types>wsdp:Device pub:Computer</wsd:Types><wsd:XAddrs>http://192.0.2.20:5357/1234/ https://x/</wsd:XAddrs></wsd:ProbeMatch>
 <wsd:ProbeMatch><wsa:EndpointReference><wsa:Address>urn:uuid:99</wsa:Address></wsa:EndpointReference>
 <wsd:Types>wsdp:Device print:PrintDeviceType</wsd:Types></wsd:ProbeMatch>
</wsd:ProbeMatches></soap:Body></soap:Envelope>)";

}  // namespace

TEST_CASE("computers among the answers to WS-Discovery are taken, with their names", "[share][find]") {
    const auto hosts = share::parse_probe_matches(kMatches);
    REQUIRE(hosts.size() == 1);
    CHECK(hosts[0].endpoint == "urn:uuid:1234");
    CHECK(hosts[0].addresses == std::vector<std::string>{"http://192.0.2.20:5357/1234/"});
    const std::string whole = kMatches;
    for (std::size_t cut = 0; cut < whole.size(); cut += 7)
        CHECK(share::parse_probe_matches(whole.substr(0, cut)).empty());
    CHECK(share::parse_probe_matches("<!DOCTYPE x [<!ENTITY a \"b\">]><x/>").empty());
    const auto computer = share::parse_ws_computer(
        "<e><b><m><pub:Computer xmlns:pub=\"p\">ATTIC/Workgroup:CEDAR</pub:Computer></m></b></e>");
    CHECK(computer.name == "ATTIC");
    CHECK(computer.group == "CEDAR");
    CHECK(share::parse_ws_computer("<Computer>alone</Computer>").name == "alone");
    CHECK(share::parse_ws_computer("junk").name.empty());
    std::string deep;
    for (int i = 0; i < 2000; ++i) deep += "<a>";
    CHECK(share::parse_ws_computer(deep).name.empty());
    CHECK(share::ws_get("1", "<&>").find("&lt;&amp;&gt;") != std::string::npos);
}

TEST_CASE("names of NetBIOS are read, and a cut answer gives none", "[share][find]") {
    // RFC 1002, 4.2.18: two unique names and a group.
    std::string answer("\x12\x34\x84\x00\x00\x00\x00\x01\x00\x00\x00\x00\x20", 13);
    answer += "CKAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    answer += std::string("\0\0\x21\0\x01\0\0\0\0\0\x47\x03", 12);
    const auto name = [&](const char* text, char kind, char flags) {
        std::string padded(text);
        padded.resize(15, ' ');
        answer += padded + kind + flags + '\0';
    };
    name("CEDAR", 0, '\x84');
    name("ATTIC", 0, 0x04);
    name("ATTIC", 0x20, 0x04);
    CHECK(share::is_netbios_answer(answer, 0x1234));
    CHECK_FALSE(share::is_netbios_answer(answer, 0x1235));
    CHECK_FALSE(share::is_netbios_answer(share::netbios_query(0x1234), 0x1234));
    const auto names = share::parse_netbios_status(answer);
    CHECK(names.computer == "ATTIC");
    CHECK(names.group == "CEDAR");
    for (std::size_t cut = 0; cut < answer.size(); ++cut)
        CHECK(share::parse_netbios_status(answer.substr(0, cut)).computer.size() <= 5);
    CHECK(share::netbios_query(7).size() == 50);
}

TEST_CASE("file servers of a network are found with what they share and who may use it", "[share][find][waits]") {
    const TempDir dir;
    for (const char* folder : {"films", "owner", "private", "state", "cache", "lock", "pid", "ncalrpc", "log"})
        std::filesystem::create_directories(dir / folder);
    std::filesystem::permissions(dir.path(), std::filesystem::perms(0755));
    const std::string d = dir.path().string();
    write_all(dir / "films/a.mkv", std::string("x"));
    write_all(dir / "smb.conf",
              "[global]\nnetbios name = ATTIC\nworkgroup = CEDAR\nserver role = standalone server\ninterfaces = v1\n"
              "bind interfaces only = yes\nprivate dir = " +
                  d + "/private\nstate directory = " + d + "/state\ncache directory = " + d +
                  "/cache\nlock directory = " + d + "/lock\npid directory = " + d + "/pid\nncalrpc dir = " + d +
                  "/ncalrpc\nlog file = " + d + "/log/log\npassdb backend = tdbsam:" + d +
                  "/private/passdb.tdb\nmap to guest = bad user\ndisable spoolss = yes\n[films]\npath = " + d +
                  "/films\nguest ok = yes\n[owner]\npath = " + d + "/owner\nvalid users = root\n");
    // A drive that is found by WS-Discovery, in small.
    write_all(dir / "wsd.py", std::string(R"(import socket, struct, threading, http.server
class Meta(http.server.BaseHTTPRequestHandler):
    def do_POST(self):
        body = b'<e><Computer>LAKE-NAS/Workgroup:CEDAR</Computer></e>'
        self.send_response(200); self.send_header('Content-Length', str(len(body))); self.end_headers(); self.wfile.write(body)
    def log_message(self, *_): pass
s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
s.bind(('', 3702))
s.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP, socket.inet_aton('239.255.255.250') + socket.inet_aton('192.0.2.21'))
threading.Thread(target=http.server.HTTPServer(('192.0.2.21', 5357), Meta).serve_forever, daemon=True).start()
out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
out.bind(('192.0.2.21', 0))
while True:
    data, sender = s.recvfrom(8192)
    if b'/Probe<' in data: out.sendto(open('matches.xml', 'rb').read(), sender)
)"));
    std::string matches = kMatches;
    matches.replace(matches.find("192.0.2.20"), 10, "192.0.2.21");
    write_all(dir / "matches.xml", matches);
    write_all(dir / "run.sh", std::string(R"(cd "$1"
ip link set lo up
unshare -n sleep 60 & server=$!
for i in $(seq 50); do ip link add v0 type veth peer name v1 && ip link set v1 netns $server && break; ip link del v0; sleep 0.1; done
ip addr add 192.0.2.1/24 brd + dev v0; ip link set v0 up
in="nsenter -t $server -n"
$in ip link set lo up; $in ip addr add 192.0.2.20/24 brd + dev v1; $in ip addr add 192.0.2.21/24 brd + dev v1; $in ip link set v1 up
$in smbd -s "$1/smb.conf" --foreground --no-process-group -l "$1/log" &
$in nmbd -s "$1/smb.conf" --foreground --no-process-group -l "$1/log" &
$in python3 wsd.py &
for i in $(seq 100); do $in ss -ltnu | grep -q 192.0.2.20:445 && $in ss -lnu | grep -q :137 && $in ss -lnu | grep -q :3702 && break; sleep 0.1; done
for i in 1 2 3 4; do "$2" share find --for "2 s" --json > found.json 2> found.err; grep -q '"guest"' found.json && break; done
"$2" share find 192.0.2.20 192.0.2.99 > named.txt 2>&1
kill $(jobs -p)
)"));
    REQUIRE(std::system(("timeout 60 unshare -n bash '" + (dir / "run.sh").string() + "' '" + d + "' '" +
                         std::string(WAVECREST_PROGRAM) + "' > '" + (dir / "out").string() + "' 2>&1")
                            .c_str()) >= 0);
    INFO(read_text(dir / "out"));
    INFO(read_text(dir / "found.err"));
    const auto found = nlohmann::json::parse(read_text(dir / "found.json"));
    const auto& servers = found.at("servers");
    REQUIRE(servers.size() >= 1);
    const auto attic =
        std::find_if(servers.begin(), servers.end(), [](const auto& s) { return s.at("address") == "192.0.2.20"; });
    REQUIRE(attic != servers.end());
    CHECK(attic->at("name") == "ATTIC");
    CHECK(attic->at("found_by").get<std::string>().find("NetBIOS") != std::string::npos);
    CHECK(attic->at("smb") == "SMB 3.1.1");
    REQUIRE(attic->at("shares").size() == 2);
    CHECK(attic->at("shares")[0].at("address") == "smb://192.0.2.20/films");
    CHECK(attic->at("shares")[0].at("access") == "guest");
    CHECK(attic->at("shares")[1].at("access") == "needs an account");
    // (The same server answers at both addresses.)
    const auto nas =
        std::find_if(servers.begin(), servers.end(), [](const auto& s) { return s.at("address") == "192.0.2.21"; });
    REQUIRE(nas != servers.end());
    CHECK(nas->at("name") == "LAKE-NAS");
    CHECK(nas->at("found_by").get<std::string>().find("WS-Discovery") != std::string::npos);
    const std::string named = read_text(dir / "named.txt");
    CHECK(named.find("smb://192.0.2.20/films") != std::string::npos);
    CHECK(named.find("192.0.2.99: no file server answers") != std::string::npos);
}

TEST_CASE("servers that announce themselves by DNS-SD are found through a real daemon", "[share][find][waits]") {
    if (!std::filesystem::exists("/usr/sbin/avahi-daemon")) {
        WARN("avahi-daemon isn't installed: not tried");
        return;
    }
    const TempDir dir;
    for (const char* folder : {"films", "services", "private", "state", "cache", "lock", "pid", "ncalrpc", "log"})
        std::filesystem::create_directories(dir / folder);
    std::filesystem::permissions(dir.path(), std::filesystem::perms(0755));
    const std::string d = dir.path().string();
    write_all(dir / "films/a.mkv", std::string("x"));
    write_all(
        dir / "services/files.service",
        std::string("<?xml version=\"1.0\"?><service-group><name>Attic server</name><service><type>_smb._tcp</type>"
                    "<port>445</port></service></service-group>\n"));
    write_all(dir / "bus.conf", "<busconfig><type>system</type><listen>unix:path=" + d +
                                    "/bus</listen><auth>EXTERNAL</auth><policy context=\"default\"><allow "
                                    "send_destination=\"*\"/><allow eavesdrop=\"true\"/><allow own=\"*\"/></policy>"
                                    "</busconfig>\n");
    write_all(dir / "avahi.conf", std::string("[server]\nhost-name=attic\nuse-ipv6=no\nallow-interfaces=va\n[publish]\n"
                                              "publish-workstation=no\n"));
    write_all(dir / "smb.conf",
              "[global]\nserver role = standalone server\ninterfaces = va\nbind interfaces only = yes\nprivate dir = " +
                  d + "/private\nstate directory = " + d + "/state\ncache directory = " + d +
                  "/cache\nlock directory = " + d + "/lock\npid directory = " + d + "/pid\nncalrpc dir = " + d +
                  "/ncalrpc\nlog file = " + d + "/log/log\npassdb backend = tdbsam:" + d +
                  "/private/passdb.tdb\nmap to guest = bad user\ndisable netbios = yes\nmulticast dns register = no\n"
                  "[films]\npath = " +
                  d + "/films\nguest ok = yes\n");
    write_all(dir / "run.sh", std::string(R"(cd "$1"
ip link set lo up
ip link add va type veth peer name vb; ip addr add 192.168.77.1/24 dev va; ip link set va up; ip link set vb up
mount -t tmpfs none /run; mkdir -p /etc/avahi/services; mount --bind services /etc/avahi/services
export DBUS_SYSTEM_BUS_ADDRESS=unix:path=$1/bus XDG_STATE_HOME=$1/own
dbus-daemon --config-file="$1/bus.conf" --nofork > dbus.log 2>&1 &
for i in $(seq 50); do [ -S bus ] && break; sleep 0.1; done
avahi-daemon --no-drop-root --no-chroot --no-proc-title -f "$1/avahi.conf" > avahi.log 2>&1 &
smbd -s "$1/smb.conf" --foreground --no-process-group -l "$1/log" &
for i in $(seq 100); do grep -q "Service .*established" avahi.log && ss -ltn | grep -q :445 && break; sleep 0.1; done
for i in 1 2 3 4; do "$2" share find --for "2 s" --json > found.json 2> found.err; grep -q '"guest"' found.json && break; done
kill $(jobs -p)
)"));
    REQUIRE(std::system(("timeout 60 unshare -n -m bash '" + (dir / "run.sh").string() + "' '" + d + "' '" +
                         std::string(WAVECREST_PROGRAM) + "' > '" + (dir / "out").string() + "' 2>&1")
                            .c_str()) >= 0);
    INFO(read_text(dir / "out"));
    INFO(read_text(dir / "found.err"));
    const auto found = nlohmann::json::parse(read_text(dir / "found.json"));
    INFO(found.dump());
    INFO(read_text(dir / "avahi.log"));
    REQUIRE(found.at("servers").size() == 1);
    const auto& server = found.at("servers")[0];
    CHECK(server.at("name") == "Attic server");
    CHECK(server.at("found_by") == "DNS-SD");
    REQUIRE(server.at("shares").size() == 1);
    CHECK(server.at("shares")[0].at("address") == "smb://192.168.77.1/films");
    CHECK(server.at("shares")[0].at("access") == "guest");
}
