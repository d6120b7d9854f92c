#include "upnp/soap.hpp"

#include <catch2/catch.hpp>

#include "net/http_server.hpp"
#include "support/support.hpp"
#include "upnp/description.hpp"

using namespace wavecrest;
using upnp::Action;

TEST_CASE("an action is written and read, with any text in it", "[upnp]") {
    const Action action{
        "urn:schemas-upnp-org:service:AVTransport:1",
        "SetAVTransportURI",
        {{"InstanceID", "0"}, {"CurrentURI", "http://h/a?b=1&c=<2>"}, {"CurrentURIMetaData", "<DIDL \"x\"/>"}}};
    const auto back = upnp::parse_action(upnp::write_action(action));
    REQUIRE(back);
    CHECK(back->name == action.name);
    CHECK(back->service == action.service);
    CHECK(back->arguments == action.arguments);
    // As a toolkit of others writes it: another prefix, attributes, blanks.
    const auto other = upnp::parse_action(
        "<?xml version=\"1.0\"?>\n<SOAP-ENV:Envelope xmlns:SOAP-ENV=\"http://schemas.xmlsoap.org/soap/envelope/\">\n"
        " <SOAP-ENV:Body>\n  <m:Stop xmlns:m=\"urn:schemas-upnp-org:service:AVTransport:1\">\n"
        "   <InstanceID xmlns:dt=\"urn:x\" dt:dt=\"ui4\">0</InstanceID>\n  </m:Stop>\n "
        "</SOAP-ENV:Body>\n</SOAP-ENV:Envelope>");
    REQUIRE(other);
    CHECK(other->name == "Stop");
    CHECK(upnp::value_of(other->arguments, "InstanceID") == "0");
}

TEST_CASE("an answer or a fault is read, and nothing else is taken for one", "[upnp]") {
    const Action action{"urn:x:1", "GetVolume", {}};
    const auto answer = upnp::parse_answer(upnp::write_answer(action, {{"CurrentVolume", "12"}}), "GetVolume");
    REQUIRE(answer);
    CHECK_FALSE(answer->fault);
    CHECK(upnp::value_of(answer->arguments, "CurrentVolume") == "12");
    const auto fault = upnp::parse_answer(upnp::write_fault({718, "Invalid InstanceID"}), "GetVolume");
    REQUIRE(fault);
    REQUIRE(fault->fault);
    CHECK(fault->fault->code == 718);
    CHECK(fault->fault->description == "Invalid InstanceID");
    CHECK_FALSE(upnp::parse_answer(upnp::write_answer(action, {}), "GetMute"));
    CHECK_FALSE(upnp::parse_answer("<html>busy</html>", "GetVolume"));
    CHECK_FALSE(upnp::parse_answer("", "GetVolume"));
    CHECK_FALSE(upnp::parse_answer("<!DOCTYPE x><Envelope><Body><GetVolumeResponse/></Body></Envelope>", "GetVolume"));
}

TEST_CASE("a fault is told in words, by its service", "[upnp]") {
    const std::string transport = std::string(upnp::kAvTransport) + "1",
                      control = std::string(upnp::kRenderingControl) + "1";
    const auto words = [](int code, const std::string& service) {
        return upnp::in_words({code, "said"}, {service, "Play", {}}, "there").what;
    };
    CHECK(words(714, transport).find("media type") != std::string::npos);
    CHECK(words(701, transport) != words(701, control));
    CHECK(words(999, transport).find("error 999: said") != std::string::npos);
    CHECK_FALSE(upnp::in_words({701, ""}, {transport, "Play", {}}, "there").remedy.empty());
}

TEST_CASE("calls fail in bounded time and size, whatever answers", "[upnp]") {
    std::string body;
    int status = 200;
    net::HttpServerSettings settings;
    settings.port = 0;
    settings.answer = [&](const net::HttpRequest& request) {
        CHECK(request.method == "POST");
        CHECK(request.field("soapaction") == "\"urn:x:1#Act\"");
        net::HttpReply reply = net::HttpReply::text(status, body);
        return reply;
    };
    const auto server = net::HttpServer::start(std::move(settings));
    REQUIRE(server);
    const std::string at = fmt::format("http://127.0.0.1:{}/c", (*server)->port());
    const Action action{"urn:x:1", "Act", {}};
    body = upnp::write_answer(action, {{"Out", "1"}});
    const auto good = upnp::call(at, action);
    REQUIRE(good);
    CHECK(upnp::value_of(*good, "Out") == "1");
    status = 500;
    body = upnp::write_fault({501, "no"});
    CHECK_FALSE(upnp::call(at, action));
    status = 404;
    CHECK(upnp::call(at, action).error().what.find("404") != std::string::npos);
    status = 200;
    body = std::string(5 << 20, 'x');
    CHECK_FALSE(upnp::call(at, action));
    const auto nobody = upnp::call(fmt::format("http://127.0.0.1:{}/c", test::free_port()), action);
    REQUIRE_FALSE(nobody);
    CHECK(nobody.error().kind == ErrorKind::wanting);
}
