#include "upnp/description.hpp"

#include <catch2/catch.hpp>

#include "upnp/services.hpp"
#include "upnp/xml.hpp"

using namespace wavecrest;

namespace {

std::string document(const std::string& inside, const std::string& base = "") {
    return "<?xml version=\"1.0\"?><root xmlns=\"urn:schemas-upnp-org:device-1-0\"><specVersion><major>1</major>"
           "<minor>0</minor></specVersion>" +
           base + "<device>" + inside + "</device></root>";
}
std::string service(const std::string& name, const std::string& control) {
    return "<service><serviceType>urn:schemas-upnp-org:service:" + name +
           ":1</serviceType><serviceId>urn:upnp-org:serviceId:" + name + "</serviceId><SCPDURL>" + name +
           ".xml</SCPDURL><controlURL>" + control + "</controlURL><eventSubURL>/e</eventSubURL></service>";
}

}  // namespace

TEST_CASE("a device description is read, embedded devices too", "[upnp]") {
    const auto device = upnp::parse_description(
        document("<deviceType>urn:schemas-upnp-org:device:Basic:1</deviceType><friendlyName>  Box &amp; co\n"
                 "</friendlyName><UDN>uuid:1</UDN><deviceList><device>"
                 "<deviceType>urn:schemas-upnp-org:device:MediaRenderer:3</deviceType><UDN>uuid:2</UDN><serviceList>" +
                 service("AVTransport", "control/avt") + service("ConnectionManager", "/cm") +
                 "</serviceList></device></deviceList>"),
        "http://192.168.1.20:49152/dir/desc.xml");
    REQUIRE(device);
    CHECK(device->name == "Box & co");
    const auto* renderer = device->device(upnp::kMediaRenderer);
    REQUIRE(renderer != nullptr);
    CHECK(renderer->udn == "uuid:2");
    const auto* transport = device->service(upnp::kAvTransport);
    REQUIRE(transport != nullptr);
    CHECK(transport->control == "http://192.168.1.20:49152/dir/control/avt");
    CHECK(transport->events == "http://192.168.1.20:49152/e");
    CHECK(renderer->service(upnp::kConnectionManager)->control == "http://192.168.1.20:49152/cm");
    CHECK(device->service(upnp::kRenderingControl) == nullptr);
}

TEST_CASE("a description can't point this program at other hosts", "[upnp]") {
    const std::string at = "http://192.168.1.20:80/d.xml";
    const auto elsewhere =
        upnp::parse_description(document("<serviceList>" + service("AVTransport", "http://10.0.0.1/c") +
                                         service("RenderingControl", "//10.0.0.1/c") +
                                         service("ConnectionManager", "https://192.168.1.20/c") + "</serviceList>"),
                                at);
    REQUIRE(elsewhere);
    CHECK(elsewhere->services.empty());
    const auto based =
        upnp::parse_description(document("<serviceList>" + service("AVTransport", "c") + "</serviceList>",
                                         "<URLBase>http://10.0.0.1/</URLBase>"),
                                at);
    REQUIRE(based);
    REQUIRE(based->services.size() == 1);
    CHECK(based->services[0].control == "http://192.168.1.20:80/c");
    const auto own = upnp::parse_description(document("<serviceList>" + service("AVTransport", "c") + "</serviceList>",
                                                      "<URLBase>http://192.168.1.20:8080/x/</URLBase>"),
                                             at);
    REQUIRE(own);
    CHECK(own->services.at(0).control == "http://192.168.1.20:8080/x/c");
}

TEST_CASE("a link-local address keeps its zone, which isn't the device's to choose", "[upnp]") {
    const auto device = upnp::parse_description(
        document("<serviceList>" + service("AVTransport", "/c") + service("RenderingControl", "http://[fe80::1]:80/r") +
                 service("ConnectionManager", "http://[fe80::2]:80/m") + "</serviceList>"),
        "http://[fe80::1%25eth0]:80/d.xml");
    REQUIRE(device);
    REQUIRE(device->services.size() == 2);
    CHECK(device->services[0].control == "http://[fe80::1%25eth0]:80/c");
    CHECK(device->services[1].control == "http://[fe80::1%25eth0]:80/r");
}

TEST_CASE("XML that would grow, nest or lie is refused or bounded", "[upnp]") {
    const std::string at = "http://192.168.1.20/d.xml";
    const auto refused = [&](const std::string& text) { return !upnp::parse_description(text, at); };
    CHECK(refused(""));
    CHECK(refused("<root>"));
    CHECK(refused("no xml at all"));
    CHECK(refused("<root xmlns=\"a\"/>"));
    CHECK(refused(
        "<!DOCTYPE lolz [<!ENTITY lol \"lol\"><!ENTITY lol2 \"&lol;&lol;\">]><root><device>&lol2;</device></root>"));
    CHECK(refused(document("<friendlyName>" + std::string(upnp::kMostXml, 'x') + "</friendlyName>")));
    std::string deep;
    for (int i = 0; i < 100'000; ++i) deep += "<deviceList><device>";
    CHECK(refused(document(deep)));  // never closed
    for (int i = 0; i < 20'000; ++i) deep += "";
    std::string nested, ends;
    for (int i = 0; i < 20'000; ++i) {
        nested += "<deviceList><device>";
        ends += "</device></deviceList>";
    }
    CHECK(upnp::parse_description(document(nested + ends), at));
    std::string many;
    for (int i = 0; i < 500; ++i) many += service("S" + std::to_string(i), "/c");
    const auto crowded = upnp::parse_description(document("<serviceList>" + many + "</serviceList>"), at);
    REQUIRE(crowded);
    CHECK(crowded->services.size() <= 64);
}

TEST_CASE("a description that was written is read back", "[upnp]") {
    upnp::DeviceDescription d;
    d.type = "urn:schemas-upnp-org:device:MediaServer:1";
    d.name = "Cedar Landing <library> & \"more\"";
    d.manufacturer = "M";
    d.model = "W";
    d.udn = upnp::udn_from("a");
    d.services = {{"urn:schemas-upnp-org:service:ContentDirectory:1", "id", "/s.xml", "/c", "/e"}};
    const auto back = upnp::parse_description(upnp::write_description(d), "http://127.0.0.1:80/d.xml");
    REQUIRE(back);
    CHECK(back->name == d.name);
    CHECK(back->udn == d.udn);
    CHECK(back->services.at(0).control == "http://127.0.0.1:80/c");
}

TEST_CASE("a name made of a text is a UUID, the same each time", "[upnp]") {
    const std::string udn = upnp::udn_from("Lounge TV");
    CHECK(udn == upnp::udn_from("Lounge TV"));
    CHECK(udn != upnp::udn_from("Lounge TW"));
    REQUIRE(udn.size() == 5 + 36);
    CHECK(udn[5 + 14] == '8');  // RFC 9562: version 8
    CHECK(std::string("89ab").find(udn[5 + 19]) != std::string::npos);
}

TEST_CASE("each service's description names its actions and variables", "[upnp]") {
    for (const auto& service :
         {upnp::av_transport(), upnp::rendering_control(), upnp::connection_manager(), upnp::content_directory()}) {
        CAPTURE(service.type);
        pugi::xml_document document;
        REQUIRE(upnp::parse_xml(upnp::write_service_description(service), "x", document));
        const auto actions = upnp::child(upnp::child(document, "scpd"), "actionList");
        CHECK(static_cast<std::size_t>(std::distance(actions.begin(), actions.end())) == service.actions.size());
        // Every argument is of a variable that is declared (2.5).
        for (const auto& action : service.actions) {
            for (const auto& argument : action.arguments) {
                CAPTURE(action.name, argument.name);
                CHECK(std::any_of(service.variables.begin(), service.variables.end(),
                                  [&](const auto& v) { return v.name == argument.variable; }));
            }
        }
    }
}
