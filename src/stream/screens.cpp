#include "stream/screens.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>
#include <thread>

#include "base/address.hpp"
#include "base/mutex.hpp"
#include "net/url.hpp"
#include "source/media_item.hpp"
#include "stream/stream_server.hpp"
#include "upnp/discovery.hpp"
#include "upnp/eventing.hpp"
#include "upnp/renderer.hpp"

namespace wavecrest::stream {
namespace {

using Clock = std::chrono::steady_clock;
using namespace std::chrono_literals;

constexpr auto kLooked = 10s;       // after the last look nobody looks any more
constexpr auto kEvery = 2s;         // asks
constexpr auto kSearchEvery = 30s;  // searches

// A stream as a renderer is given it: in the first form that it says it takes.
Result<upnp::Object> item_for(const StreamServer& server, const std::string& stream, const upnp::FoundDevice& device) {
    WAVECREST_TRY_ASSIGN(own, upnp::own_address_towards(device.address));
    std::optional<upnp::Object> first;
    for (const StreamAddress& one : server.addresses(own)) {
        if (one.stream != stream || base::Address(one.address).scheme() != base::Scheme::http ||
            one.delivery == "subtitles")
            continue;
        source::Title title;
        std::string container = one.delivery == "hls" || one.delivery == "live-hls" ? "hls" : "mpeg-ts";
        for (const ReadyStream& ready : server.on_demand()) {
            if (ready.name != stream || (one.delivery != "file" && one.delivery != "hls")) continue;
            title.duration = ready.duration;
            title.size_bytes = ready.size_bytes;
            if (ready.hls) title.tracks = ready.hls->tracks();
            if (one.delivery == "file") container = ready.container;
        }
        upnp::Object item;
        item.id = "1";
        item.parent = "0";
        item.title = stream;
        item.upnp_class = "object.item.videoItem";
        item.resources.push_back(source::resource_of(title, container, one.address));
        const auto info = upnp::parse_protocol_infos(item.resources.front().protocol_info);
        if (!info.empty() && upnp::takes(device.takes, info.front())) return item;
        if (!first) first = std::move(item);
    }
    if (!first)
        return fail(ErrorKind::usage, fmt::format("\"{}\" isn't to be had by HTTP", stream), stream,
                    "add a delivery to the stream: file, hls or live");
    return *first;
}

}  // namespace

struct Screens::State {
    struct Known {
        upnp::FoundDevice found;
        upnp::Renderer renderer;
        Screen screen;
    };
    const StreamServer& server;
    base::Mutex mutex;
    base::Condition changed;
    bool ending GUARDED_BY(mutex) = false, searched GUARDED_BY(mutex) = false;
    std::vector<Screen> screens GUARDED_BY(mutex);
    std::deque<ScreenOrder> orders GUARDED_BY(mutex);
    Clock::time_point looked GUARDED_BY(mutex){};
    Cancel cancel;
    std::vector<Known> known;  // of the thread
    std::thread thread;

    explicit State(const StreamServer& s) : server(s) {}

    void search() {
        upnp::FindSettings settings;
        settings.length = base::from_seconds(2.5);
        const auto found = upnp::find_devices(settings, cancel);
        if (!found) return;
        std::vector<Known> now;
        for (const upnp::FoundDevice& one : *found) {
            if (one.kind != upnp::FoundDevice::Kind::renderer) continue;
            auto renderer = upnp::Renderer::of(one.description, base::from_seconds(3));
            if (!renderer) continue;
            Screen screen;
            for (const Known& before : known) {
                if (before.screen.udn == one.description.udn) screen = before.screen;
            }
            screen.udn = one.description.udn;
            screen.name = one.description.name;
            screen.address = one.address;
            now.push_back({one, std::move(*renderer), std::move(screen)});
        }
        known = std::move(now);
    }
    static void look_at(Known& one) {
        Screen& s = one.screen;
        const auto state = one.renderer.state();
        const auto position = one.renderer.position();
        if (!state || !position) {
            s.state = "doesn't answer";
            return;
        }
        s.state = upnp::short_name(state->state);
        if (state->error && s.trouble.empty()) s.trouble = "it reports an error: see its screen";
        const bool shows = state->state == upnp::TransportState::playing ||
                           state->state == upnp::TransportState::paused ||
                           state->state == upnp::TransportState::transitioning;
        s.position = shows ? position->position : std::nullopt;
        s.duration = shows ? position->duration : std::nullopt;
        s.title = shows ? position->title : "";
        if (const auto volume = one.renderer.volume()) s.volume = *volume;
        if (const auto mute = one.renderer.mute()) s.mute = *mute;
    }
    Status obey(Known& one, const ScreenOrder& order) {
        using What = ScreenOrder::What;
        upnp::Renderer& r = one.renderer;
        switch (order.what) {
            case What::play: {
                WAVECREST_TRY_ASSIGN(item, item_for(server, order.stream, one.found));
                WAVECREST_TRY(r.set(item));
                return r.play();
            }
            case What::pause:
                return r.pause();
            case What::resume:
                return r.play();
            case What::stop:
                return r.stop();
            case What::seek_to:
                return r.seek(std::max(order.time, Time{}));
            case What::seek_by: {
                WAVECREST_TRY_ASSIGN(position, r.position());
                return r.seek(std::max(position.position.value_or(Time{}) + order.time, Time{}));
            }
            case What::volume:
                return r.set_volume(order.percent);
            case What::mute:
                return r.set_mute(order.on);
        }
        return {};
    }

    void show() {
        std::vector<Screen> now;
        for (const Known& one : known) now.push_back(one.screen);
        const base::MutexLock lock(mutex);
        screens = std::move(now);
    }
    void run() {
        Clock::time_point last_search{}, last_look{};
        bool ever = false;
        base::MutexLock lock(mutex);
        while (!ending) {
            const auto now = Clock::now();
            const bool watched = now - looked < kLooked && looked != Clock::time_point{};
            if (!orders.empty()) {
                const ScreenOrder order = orders.front();
                orders.pop_front();
                lock.unlock();
                for (Known& one : known) {
                    if (order.screen != "all" && order.screen != one.screen.udn) continue;
                    const Status done = obey(one, order);
                    one.screen.trouble = done ? "" : done.error().what;
                    look_at(one);
                }
                show();
                lock.lock();
            } else if (watched && (!ever || now - last_search > kSearchEvery)) {
                lock.unlock();
                search();
                for (Known& one : known) look_at(one);
                show();
                last_search = last_look = Clock::now();
                ever = true;
                lock.lock();
                searched = true;
            } else if (watched && now - last_look > kEvery) {
                lock.unlock();
                for (Known& one : known) look_at(one);
                show();
                last_look = Clock::now();
                lock.lock();
            } else {
                changed.wait_for(mutex, watched ? std::chrono::milliseconds(200) : std::chrono::milliseconds(5000));
            }
        }
    }
};

Screens::Screens(const StreamServer& server) : state_(std::make_unique<State>(server)) {
    state_->thread = std::thread([s = state_.get()] { s->run(); });
}

Screens::~Screens() {
    state_->cancel.request();
    {
        const base::MutexLock lock(state_->mutex);
        state_->ending = true;
    }
    state_->changed.notify_all();
    state_->thread.join();
}

Screens::Seen Screens::list() {
    const base::MutexLock lock(state_->mutex);
    state_->looked = Clock::now();
    state_->changed.notify_all();
    return {state_->searched, state_->screens};
}

void Screens::order(const ScreenOrder& order) {
    constexpr std::size_t kMost = 50;
    const base::MutexLock lock(state_->mutex);
    state_->looked = Clock::now();
    if (state_->orders.size() < kMost) state_->orders.push_back(order);
    state_->changed.notify_all();
}

}  // namespace wavecrest::stream
