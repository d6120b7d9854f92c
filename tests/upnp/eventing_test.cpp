#include "upnp/eventing.hpp"

#include <catch2/catch.hpp>

#include <atomic>
#include <chrono>
#include <thread>

#include "base/mutex.hpp"
#include "net/http_client.hpp"
#include "support/support.hpp"
#include "upnp/device_host.hpp"

using namespace wavecrest;
using upnp::Arguments;

namespace {

// A device with a volume that is evented.
struct Box {
    std::atomic<int> volume{5};
    std::unique_ptr<upnp::DeviceHost> host;
    std::unique_ptr<net::HttpServer> server;

    Box() {
        upnp::DeviceDescription d;
        d.type = "urn:schemas-upnp-org:device:MediaRenderer:1";
        d.name = "Box";
        d.udn = "uuid:box";
        const auto act = [this](const upnp::Action& action,
                                const net::HttpRequest&) -> tl::expected<Arguments, upnp::Fault> {
            if (action.name == "GetVolume") return Arguments{{"CurrentVolume", std::to_string(volume)}};
            if (action.name == "SetVolume") {
                volume = std::stoi(upnp::value_of(action.arguments, "DesiredVolume"));
                host->changed("RenderingControl", change());
                return Arguments{};
            }
            return tl::unexpected(upnp::Fault{602, "not here"});
        };
        host = std::make_unique<upnp::DeviceHost>(
            std::move(d),
            std::vector<upnp::HostedService>{{upnp::rendering_control(), act, [this] { return change(); }}}, "/box");
        net::HttpServerSettings settings;
        settings.port = 0;
        settings.answer = [this](const net::HttpRequest& request) { return host->answer(request); };
        server = std::move(*net::HttpServer::start(std::move(settings)));
    }
    Arguments change() const {
        return {{"LastChange", upnp::write_last_change("RenderingControl", {{"Volume", std::to_string(volume)}})}};
    }
    std::string address(const std::string& path) const {
        return fmt::format("http://127.0.0.1:{}{}", server->port(), path);
    }
    net::HttpAnswered ask(const std::string& method, const std::string& path,
                          std::vector<std::pair<std::string, std::string>> fields = {},
                          const std::string& body = "") const {
        net::HttpExchange request;
        request.method = method;
        request.fields = std::move(fields);
        request.body = body;
        request.media_type = "text/xml";
        return *net::HttpClient::exchange(test::local_url(server->port(), path), request);
    }
};

}  // namespace

TEST_CASE("properties and last changes are written and read", "[upnp]") {
    const Arguments properties = {{"A", "1"}, {"LastChange", "<Event a=\"&\"/>"}};
    CHECK(*upnp::parse_properties(upnp::write_properties(properties)) == properties);
    const Arguments changes = {{"TransportState", "PLAYING"}, {"CurrentTrackMetaData", "<DIDL \"x\">"}};
    CHECK(*upnp::parse_last_change(upnp::write_last_change("AVTransport", changes)) == changes);
    // Of other instances and channels nothing is taken.
    const auto other = upnp::parse_last_change(
        "<Event xmlns=\"urn:schemas-upnp-org:metadata-1-0/RCS/\"><InstanceID val=\"1\"><Volume val=\"9\"/></InstanceID>"
        "<InstanceID val=\"0\"><Volume Channel=\"LF\" val=\"1\"/><Volume Channel=\"Master\" "
        "val=\"2\"/></InstanceID></Event>");
    REQUIRE(other);
    CHECK(*other == Arguments{{"Volume", "2"}});
    CHECK_FALSE(upnp::parse_last_change("junk"));
}

TEST_CASE("a subscriber is told the state, then each change", "[upnp][waits]") {
    Box box;
    const auto description =
        upnp::parse_description(box.ask("GET", "/box/device.xml").body, box.address("/box/device.xml"));
    REQUIRE(description);
    const auto* service = description->service(upnp::kRenderingControl);
    REQUIRE(service != nullptr);
    base::Mutex mutex;
    base::Condition changed;
    std::vector<std::string> seen;
    auto listener = upnp::EventListener::start([&](const std::string& type, const Arguments& properties) {
        const base::MutexLock lock(mutex);
        CHECK(type == service->type);
        seen.push_back(upnp::value_of(*upnp::parse_last_change(upnp::value_of(properties, "LastChange")), "Volume"));
        changed.notify_all();
    });
    REQUIRE(listener);
    REQUIRE((*listener)->subscribe(*service, "127.0.0.1"));
    const auto wait_for = [&](const std::string& volume) {
        const base::MutexLock lock(mutex);
        const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(10);
        while ((seen.empty() || seen.back() != volume) && std::chrono::steady_clock::now() < until)
            changed.wait_until(mutex, until);
        return !seen.empty() && seen.back() == volume;
    };
    CHECK(wait_for("5"));
    REQUIRE(upnp::call(
        service->control,
        {service->type, "SetVolume", {{"InstanceID", "0"}, {"Channel", "Master"}, {"DesiredVolume", "44"}}}));
    CHECK(wait_for("44"));
}

TEST_CASE("events go nowhere but to the subscriber itself", "[upnp]") {
    Box box;
    const auto status = [&](const std::string& callback, const std::string& nt = "upnp:event") {
        return box.ask("SUBSCRIBE", "/box/RenderingControl/events", {{"CALLBACK", callback}, {"NT", nt}}).status;
    };
    CHECK(status("<http://192.0.2.1:80/>") == 412);
    CHECK(status("<http://localhost:80/>") == 412);
    CHECK(status("<https://127.0.0.1:80/>") == 412);
    CHECK(status("http://127.0.0.1:80/") == 412);
    CHECK(status("") == 412);
    CHECK(status("<http://127.0.0.1:9/>", "other") == 412);
    CHECK(status("<http://192.0.2.1/><http://127.0.0.1:9/x>") == 200);
    const auto subscribed =
        box.ask("SUBSCRIBE", "/box/RenderingControl/events",
                {{"CALLBACK", "<http://127.0.0.1:9/>"}, {"NT", "upnp:event"}, {"TIMEOUT", "Second-1"}});
    const std::string sid = subscribed.field("SID");
    CHECK(sid.starts_with("uuid:"));
    CHECK(subscribed.field("TIMEOUT") == "Second-30");
    CHECK(box.ask("SUBSCRIBE", "/box/RenderingControl/events", {{"SID", sid}}).status == 200);
    CHECK(box.ask("UNSUBSCRIBE", "/box/RenderingControl/events", {{"SID", sid}}).status == 200);
    CHECK(box.ask("UNSUBSCRIBE", "/box/RenderingControl/events", {{"SID", sid}}).status == 412);
    CHECK(box.ask("SUBSCRIBE", "/box/RenderingControl/events", {{"SID", "uuid:none"}}).status == 412);
    int most = 0;
    for (int i = 0; i < 200; ++i) most += status("<http://127.0.0.1:9/>") == 200 ? 1 : 0;
    CHECK(most < 150);  // not without bound
}

TEST_CASE("a device refuses actions that aren't its own, and arguments that are wrong", "[upnp]") {
    Box box;
    const std::string control = box.address("/box/RenderingControl/control");
    const std::string type = upnp::rendering_control().type;
    const auto code = [&](const std::string& name, const Arguments& arguments) {
        const auto answered =
            box.ask("POST", "/box/RenderingControl/control", {}, upnp::write_action({type, name, arguments}));
        const auto parsed = upnp::parse_answer(answered.body, name);
        return parsed && parsed->fault ? parsed->fault->code : 0;
    };
    CHECK(code("GetVolume", {{"InstanceID", "0"}, {"Channel", "Master"}}) == 0);
    CHECK(code("Explode", {}) == 401);
    CHECK(code("GetVolume", {{"Channel", "Master"}}) == 402);
    CHECK(code("GetVolume", {{"InstanceID", "zero"}, {"Channel", "Master"}}) == 402);
    CHECK(code("GetVolume", {{"InstanceID", "0"}, {"Channel", "Rear"}}) == 600);
    CHECK(code("SetVolume", {{"InstanceID", "0"}, {"Channel", "Master"}, {"DesiredVolume", "101"}}) == 601);
    CHECK(code("GetMute", {{"InstanceID", "0"}, {"Channel", "Master"}}) == 602);
    CHECK(box.ask("POST", "/box/RenderingControl/control", {}, "junk").status == 400);
    CHECK(box.ask("GET", "/box/RenderingControl/control").status == 405);
    CHECK(box.ask("POST", "/box/device.xml", {}, "x").status == 405);
    CHECK(box.ask("GET", "/box/other").status == 404);
    CHECK(box.ask("GET", "/box/RenderingControl.xml").status == 200);
}
