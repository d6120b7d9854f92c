#include "upnp/ssdp.hpp"

#include <catch2/catch.hpp>

#include "net/udp_socket.hpp"

using namespace wavecrest;
using upnp::SsdpMessage;

TEST_CASE("SSDP messages are read as the architecture writes them", "[upnp]") {
    // UPnP Device Architecture 1.1, 1.3.2, 1.3.3, 1.2.2 and 1.2.3, with values filled in.
    const auto search = upnp::parse_ssdp(
        "M-SEARCH * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nMAN: \"ssdp:discover\"\r\nMX: 3\r\n"
        "ST: urn:schemas-upnp-org:device:MediaRenderer:1\r\nUSER-AGENT: OS/version UPnP/1.1 product/version\r\n\r\n");
    REQUIRE(search);
    CHECK(search->kind == SsdpMessage::Kind::search);
    CHECK(search->target == "urn:schemas-upnp-org:device:MediaRenderer:1");
    CHECK(search->mx == 3);

    const auto response = upnp::parse_ssdp(
        "HTTP/1.1 200 OK\r\nCACHE-CONTROL: max-age = 1800\r\nDATE: when\r\nEXT:\r\n"
        "LOCATION: http://192.168.1.20:8080/d.xml\r\nSERVER: OS/version UPnP/1.1 product/version\r\n"
        "ST: upnp:rootdevice\r\nUSN: uuid:abc::upnp:rootdevice\r\n\r\n");
    REQUIRE(response);
    CHECK(response->kind == SsdpMessage::Kind::response);
    CHECK(response->location == "http://192.168.1.20:8080/d.xml");
    CHECK(response->max_age == 1800);
    CHECK(upnp::udn_of(response->usn) == "uuid:abc");

    const auto alive = upnp::parse_ssdp(
        "NOTIFY * HTTP/1.1\nHOST:239.255.255.250:1900\nCache-Control:max-age=100\nlocation:http://10.0.0.1/\n"
        "nt:upnp:rootdevice\nnts:ssdp:alive\nusn:uuid:x::upnp:rootdevice\n\n");
    REQUIRE(alive);
    CHECK(alive->kind == SsdpMessage::Kind::alive);
    CHECK(alive->max_age == 100);

    const auto byebye = upnp::parse_ssdp(
        "NOTIFY * HTTP/1.1\r\nHOST: 239.255.255.250:1900\r\nNT: upnp:rootdevice\r\nNTS: ssdp:byebye\r\nUSN: "
        "uuid:x\r\n\r\n");
    REQUIRE(byebye);
    CHECK(byebye->kind == SsdpMessage::Kind::byebye);
}

TEST_CASE("what is no SSDP message is passed over", "[upnp]") {
    for (const char* text :
         {"", "\r\n", "GET / HTTP/1.1\r\n\r\n", "M-SEARCH * HTTP/1.1\r\nST: ssdp:all\r\n\r\n",
          "M-SEARCH * HTTP/1.1\r\nMAN: \"ssdp:discover\"\r\n\r\n", "HTTP/1.1 200 OK\r\nUSN: uuid:x\r\n\r\n",
          "HTTP/1.1 404 Not Found\r\nUSN: uuid:x\r\nLOCATION: http://a/\r\n\r\n",
          "NOTIFY * HTTP/1.1\r\nNTS: ssdp:other\r\nUSN: uuid:x\r\nLOCATION: http://a/\r\n\r\n"}) {
        CAPTURE(text);
        CHECK_FALSE(upnp::parse_ssdp(text));
    }
    CHECK_FALSE(upnp::parse_ssdp("HTTP/1.1 200 OK\r\nUSN: uuid:x\r\nLOCATION: http://a/" + std::string(3000, 'a')));
}

TEST_CASE("SSDP messages are written so that they are read back", "[upnp]") {
    SsdpMessage m;
    m.target = "upnp:rootdevice";
    m.usn = "uuid:x::upnp:rootdevice";
    m.location = "http://192.168.1.5:80/d.xml";
    m.max_age = 1700;
    for (const auto kind : {SsdpMessage::Kind::alive, SsdpMessage::Kind::byebye, SsdpMessage::Kind::response,
                            SsdpMessage::Kind::search}) {
        m.kind = kind;
        const auto back = upnp::parse_ssdp(upnp::write_ssdp(m, kind == SsdpMessage::Kind::search));
        REQUIRE(back);
        CHECK(back->kind == kind);
        CHECK(back->target == m.target);
        if (kind != SsdpMessage::Kind::search) CHECK(back->usn == m.usn);
        if (kind == SsdpMessage::Kind::alive || kind == SsdpMessage::Kind::response) {
            CHECK(back->location == m.location);
            CHECK(back->max_age == 1700);
        }
    }
}

TEST_CASE("an answer can't send this program to another host", "[upnp]") {
    CHECK(upnp::is_senders_own("http://192.168.1.20:80/d.xml", {"192.168.1.20", 1900}));
    CHECK(upnp::is_senders_own("http://[fe80::1]:80/d.xml", {"fe80::1%eth0", 1900}));
    CHECK_FALSE(upnp::is_senders_own("http://192.168.1.21/d.xml", {"192.168.1.20", 1900}));
    CHECK_FALSE(upnp::is_senders_own("https://192.168.1.20/d.xml", {"192.168.1.20", 1900}));
    CHECK_FALSE(upnp::is_senders_own("http://a.example/d.xml", {"192.168.1.20", 1900}));
    CHECK_FALSE(upnp::is_senders_own("file:///etc/passwd", {"192.168.1.20", 1900}));
    CHECK_FALSE(upnp::is_senders_own("http://192.168.1.20@10.0.0.1/", {"192.168.1.20", 1900}));
}

TEST_CASE("a device that advertises itself is found, by what it is asked for", "[upnp][waits]") {
    upnp::Advertiser::Settings settings;
    settings.udn = upnp::udn_of("uuid:0000-found-by-test::x");
    settings.targets = {"urn:schemas-upnp-org:device:MediaRenderer:2"};
    settings.path = "/d.xml";
    settings.port = 8765;
    settings.interface = "lo";
    const auto advertiser = upnp::Advertiser::start(settings);
    REQUIRE(advertiser);
    const Cancel cancel;
    const auto found = [&](const std::string& target) {
        std::vector<upnp::SearchAnswer> answers;
        upnp::SearchSettings search;
        search.target = target;
        search.interface = "127.0.0.1";
        search.length = base::from_seconds(10);
        search.enough = [&] { return !answers.empty(); };
        const auto done = upnp::search(
            search,
            [&](const upnp::SearchAnswer& a) {
                if (a.message.usn.starts_with(settings.udn)) answers.push_back(a);
            },
            cancel);
        CHECK(done);
        return answers;
    };
    const auto root = found("upnp:rootdevice");
    REQUIRE(root.size() == 1);
    CHECK(root[0].message.location == "http://127.0.0.1:8765/d.xml");
    CHECK(root[0].from.address == "127.0.0.1");
    // A version below its own is answered as it was asked for (1.3.3).
    const auto renderer = found("urn:schemas-upnp-org:device:MediaRenderer:1");
    REQUIRE(renderer.size() == 1);
    CHECK(renderer[0].message.target == "urn:schemas-upnp-org:device:MediaRenderer:1");
}

TEST_CASE("a search names interfaces that aren't there", "[upnp]") {
    upnp::SearchSettings settings;
    settings.interface = "nowhere0";
    const Cancel cancel;
    const auto done = upnp::search(
        settings, [](const upnp::SearchAnswer&) {}, cancel);
    REQUIRE_FALSE(done);
    CHECK(done.error().kind == ErrorKind::usage);
    CHECK(done.error().remedy.find("lo (127.0.0.1)") != std::string::npos);
}
