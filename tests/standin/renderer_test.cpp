#include "standin/renderer.hpp"

#include <catch2/catch.hpp>

#include <chrono>
#include <thread>

#include "net/http_server.hpp"
#include "source/media_item.hpp"
#include "support/support.hpp"
#include "upnp/discovery.hpp"
#include "upnp/renderer.hpp"
#include "verify/renderer.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;

namespace {

struct House {
    std::unique_ptr<net::HttpServer> server;
    std::unique_ptr<standin::Renderer> standin;
    std::unique_ptr<source::Input> input;

    explicit House(const std::string& device_class, standin::RendererFault fault = standin::RendererFault::none,
                   std::int64_t link_bps = 0) {
        net::HttpServerSettings settings;
        settings.port = 0;
        settings.answer = net::serve_files({{"/film.mp4", test::sample_film(), "video/mp4", "film"}});
        server = std::move(*net::HttpServer::start(std::move(settings)));
        standin::RendererSettings renderer;
        renderer.name = "Den TV";
        renderer.device = *device::find(device_class);
        renderer.fault = fault;
        renderer.link_bps = link_bps;
        renderer.announced = false;
        auto made = standin::Renderer::start(std::move(renderer));
        REQUIRE(made);
        standin = std::move(*made);
        input = std::move(*source::open_input(test::sample_film()));
    }
    upnp::Renderer renderer() const {
        const auto found = upnp::ask_device(standin->location());
        REQUIRE(found);
        CHECK(found->kind == upnp::FoundDevice::Kind::renderer);
        return *upnp::Renderer::of(found->description);
    }
    upnp::Object film() const {
        return source::item_of("Film", fmt::format("http://127.0.0.1:{}/film.mp4", server->port()), input.get());
    }
    bool reaches(const std::string& state) const {
        const auto until = std::chrono::steady_clock::now() + 15s;
        while (standin->status().state != state && std::chrono::steady_clock::now() < until)
            std::this_thread::sleep_for(20ms);
        return standin->status().state == state;
    }
    verify::Verification verify(Time listen, Time patience = base::from_seconds(4)) const {
        auto on = renderer();
        verify::RendererJob job;
        job.stream = "Film";
        job.item = film();
        job.device = "Den TV";
        job.listen = listen;
        job.patience = patience;
        const Cancel cancel;
        const auto done = verify::run_on_renderer(job, on, {}, cancel);
        REQUIRE(done);
        return *done;
    }
    static const device::Check* check(const verify::Verification& v, const std::string& name) {
        for (const device::Check& one : v.checks) {
            if (one.name == name) return &one;
        }
        return nullptr;
    }
};

}  // namespace

TEST_CASE("a renderer is told to play, pause, seek and stop, and its volume", "[renderer][waits]") {
    const House house("tv-hd");
    auto renderer = house.renderer();
    CHECK(renderer.name() == "Den TV");
    CHECK(renderer.state()->state == upnp::TransportState::no_media);
    CHECK(renderer.play().error().what.find("present state") != std::string::npos);
    REQUIRE(renderer.set(house.film()));
    REQUIRE(renderer.play());
    REQUIRE(house.reaches("PLAYING"));
    CHECK(renderer.position()->duration);
    CHECK(renderer.position()->title == "Film");
    REQUIRE(renderer.pause());
    REQUIRE(house.reaches("PAUSED_PLAYBACK"));
    const Time stands = house.standin->status().position;
    std::this_thread::sleep_for(300ms);
    CHECK(house.standin->status().position == stands);
    REQUIRE(renderer.play());
    REQUIRE(house.reaches("PLAYING"));
    REQUIRE(renderer.seek(base::from_seconds(9)));
    REQUIRE(house.reaches("PLAYING"));
    CHECK(house.standin->status().position > base::from_seconds(5));
    CHECK_FALSE(renderer.seek(base::from_seconds(5000)));
    REQUIRE(renderer.set_volume(62));
    CHECK(*renderer.volume() == 62);
    REQUIRE(renderer.set_mute(true));
    CHECK(*renderer.mute());
    REQUIRE(renderer.stop());
    CHECK(house.reaches("STOPPED"));
}

TEST_CASE("a renderer refuses what it doesn't take, and gives up what it can't play", "[renderer][waits]") {
    const House optical("box-sd");  // no MP4
    auto renderer = optical.renderer();
    const auto refused = renderer.set(optical.film());
    REQUIRE_FALSE(refused);
    CHECK(refused.error().what.find("714") != std::string::npos);
    const auto v = optical.verify(base::from_seconds(3));
    CHECK(v.verdict == device::Verdict::fail);
    CHECK(v.cause == verify::Cause::device);
    CHECK(v.grounds == "device");

    const House boaster("box-sd", standin::RendererFault::false_claims);
    const auto boast = boaster.verify(base::from_seconds(3));
    CHECK(boast.verdict == device::Verdict::fail);
    CHECK(boast.cause == verify::Cause::device);
    CHECK(boast.summary.find("gives up") != std::string::npos);

    // What isn't there.
    auto on = boaster.renderer();
    upnp::Object nowhere = boaster.film();
    nowhere.resources.front().address = fmt::format("http://127.0.0.1:{}/gone.mp4", boaster.server->port());
    REQUIRE(on.set(nowhere));
    REQUIRE(on.play());
    REQUIRE(boaster.reaches("STOPPED"));
    CHECK(on.state()->error);
}

TEST_CASE("a film played on a renderer passes: it starts, seeks and ends", "[renderer][waits]") {
    const auto v = House("tv-hd").verify(base::from_seconds(10));
    CAPTURE(v.summary);
    CHECK(v.verdict == device::Verdict::pass);
    CHECK(v.started);
    CHECK(v.stalls.empty());
    CHECK(v.seeks.size() == 1);
    REQUIRE(House::check(v, "ends") != nullptr);
    CHECK(House::check(v, "ends")->measured == "at the end");
    CHECK(House::check(v, "events") == nullptr);
}

TEST_CASE("a renderer that stands still after a seek fails", "[renderer][waits]") {
    const auto v = House("tv-hd", standin::RendererFault::stops_at_seek).verify(base::from_seconds(8));
    CHECK(v.verdict == device::Verdict::fail);
    CHECK(v.cause == verify::Cause::device);
    REQUIRE(House::check(v, "seeking") != nullptr);
    CHECK(House::check(v, "seeking")->verdict == device::Verdict::fail);
}

TEST_CASE("a renderer behind a link that is too slow stalls, and the link is named", "[renderer][waits]") {
    const auto film = source::open_input(test::sample_film());
    const double seconds = base::to_seconds((*film)->titles().front().duration);
    const auto mean =
        static_cast<std::int64_t>(static_cast<double>(std::filesystem::file_size(test::sample_film())) * 8 / seconds);
    const auto v = House("tv-hd", standin::RendererFault::none, mean * 6 / 10)
                       .verify(base::from_seconds(10), base::from_seconds(12));
    CAPTURE(v.summary);
    CHECK(v.verdict == device::Verdict::fail);
    CHECK(v.cause == verify::Cause::network);
    CHECK_FALSE(v.stalls.empty());
}

TEST_CASE("names of faults are read", "[renderer]") {
    for (const std::string& name : standin::fault_names()) CHECK(standin::fault_from_name(name));
    CHECK_FALSE(standin::fault_from_name("nice"));
}
