#include "trial/on_renderer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <thread>

#include "measure/rendering.hpp"
#include "upnp/protocol_info.hpp"

namespace wavecrest::trial {
namespace {

using measure::Reading;
using upnp::TransportState;
using Clock = std::chrono::steady_clock;
using namespace std::chrono_literals;

constexpr double kPatience = 12;  // s until a clip starts
constexpr double kSeekPatience = 8;

double since(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

class Showing {
  public:
    Showing(upnp::Renderer& renderer, const net::Url& page, const Cancel& cancel)
        : renderer_(renderer), page_(page), cancel_(cancel) {}

    Result<Seen> play(const ShownStep& shown) {
        Seen seen;
        if (!begin(shown, seen)) return seen;
        const double length = base::to_seconds(shown.step.clip->length);
        const auto start = Clock::now();
        std::vector<Reading> readings;
        while (since(start) < kPatience + length * 2 + 3) {
            if (cancel_.requested()) return end(), base::interrupted();
            if (!look(start, readings, seen)) break;
            const Reading& now = readings.back();
            const bool moved = measure::rendering_of(readings).started;
            if (!moved && since(start) > kPatience) break;
            // It stands again: it came to its end, or gave up.
            if (now.state == Reading::State::stopped && (moved || since(start) > 2)) break;
        }
        end();
        const measure::Rendering r = measure::rendering_of(readings);
        seen.started = r.started;
        seen.startup_s = base::to_seconds(r.startup);
        // Positions come in whole seconds, and the last isn't seen: one that ended by itself is at its end.
        const double last = base::to_seconds(r.last);
        seen.played_s = r.ended && last > length - 2.1 ? length : last;
        double waited = 0;
        for (const measure::Stall& stall : r.stalls) {
            const double at = base::to_seconds(stall.at);
            if (at < length - 1.5) waited += base::to_seconds(stall.length), ++seen.waits;
        }
        seen.waited_s = waited;
        seen.wall_s = seen.played_s + waited;
        if (shown.step.clip->video && seen.started) seen.width = 1, seen.height = 1;  // it is told nothing of its size
        if (!seen.started && seen.error.empty()) seen.error = "nothing moves";
        return seen;
    }

    Result<Seen> seek(const ShownStep& shown) {
        Seen seen;
        if (!begin(shown, seen)) return seen;
        const auto start = Clock::now();
        std::vector<Reading> readings;
        while (!measure::rendering_of(readings).started && since(start) < kPatience) {
            if (cancel_.requested()) return end(), base::interrupted();
            if (!look(start, readings, seen)) return end(), seen;
        }
        seen.started = measure::rendering_of(readings).started;
        for (const double to : shown.step.positions) {
            Seen::Seek one{to, -1, 0, -1};
            const auto asked = Clock::now();
            if (!seen.started || !renderer_.seek(base::from_seconds(to))) {
                seen.seeks.push_back(one);
                break;
            }
            std::optional<double> first;
            while (since(asked) < kSeekPatience && one.took_s < 0) {
                if (cancel_.requested()) return end(), base::interrupted();
                if (!look(start, readings, seen)) break;
                const Reading& now = readings.back();
                if (now.state == Reading::State::stopped) break;
                if (!now.position || std::abs(base::to_seconds(*now.position) - to) > 2) continue;
                const double at = base::to_seconds(*now.position);
                if (!first) first = at;
                if (at > *first) one.took_s = std::max(since(asked) - (at - *first), 0.0), one.landed_s = *first;
            }
            seen.seeks.push_back(one);
            if (one.took_s < 0) break;
        }
        end();
        return seen;
    }

  private:
    // Whether it took the clip.
    bool begin(const ShownStep& shown, Seen& seen) {
        net::Url url = page_;
        url.target = shown.target;
        upnp::Object item;
        item.id = "1";
        item.parent = "0";
        item.title = shown.step.what;
        if (!shown.step.clip->video) item.upnp_class = "object.item.audioItem.musicTrack";
        const std::string type = shown.step.delivery == Step::Delivery::file
                                     ? shown.type.substr(0, shown.type.find(';'))
                                     : "application/vnd.apple.mpegurl";
        upnp::TransferTraits traits;
        traits.seeks_by_bytes = shown.step.delivery == Step::Delivery::file;
        upnp::Resource resource;
        resource.address = url.text();
        resource.protocol_info = upnp::ProtocolInfo{"http-get", "*", type, upnp::extra_fields(traits)}.text();
        resource.duration = shown.step.clip->length;
        item.resources.push_back(std::move(resource));
        const Status given = renderer_.set(item);
        const Status playing = given ? renderer_.play() : given;
        if (!playing) seen.error = playing.error().what;
        return playing.has_value();
    }
    // False where it doesn't answer.
    bool look(Clock::time_point start, std::vector<Reading>& readings, Seen& seen) {
        std::this_thread::sleep_for(200ms);
        const auto state = renderer_.state();
        const auto position = renderer_.position();
        if (!state || !position) {
            seen.error = "the device no longer answers";
            return false;
        }
        if (state->error) seen.error = "the device reports an error";
        const auto now = state->state == TransportState::playing         ? Reading::State::playing
                         : state->state == TransportState::transitioning ? Reading::State::waiting
                         : state->state == TransportState::paused        ? Reading::State::paused
                                                                         : Reading::State::stopped;
        readings.push_back({base::from_seconds(since(start)), now, position->position});
        return !state->error;
    }
    void end() { (void)renderer_.stop(); }

    upnp::Renderer& renderer_;
    const net::Url& page_;
    const Cancel& cancel_;
};

}  // namespace

PageClient::Show show_on(upnp::Renderer& renderer, std::vector<upnp::ProtocolInfo> takes, const net::Url& page,
                         std::function<std::string(const Step& step)> ask, const Cancel& cancel) {
    return [&renderer, takes = std::move(takes), page, ask = std::move(ask),
            &cancel](const ShownStep& shown) -> Result<Seen> {
        Showing showing(renderer, page, cancel);
        switch (shown.step.kind) {
            case Step::Kind::play:
            case Step::Kind::motion:
            case Step::Kind::sync:
                return showing.play(shown);
            case Step::Kind::seek:
                return showing.seek(shown);
            case Step::Kind::question: {
                Seen seen;
                if (shown.target.empty() || !ask) return seen;
                WAVECREST_TRY(showing.play(shown));
                seen.answer = ask(shown.step);
                return seen;
            }
            case Step::Kind::claims: {
                Seen seen;
                for (const std::string& type : shown.step.types) {
                    // It says nothing of codecs: at most "maybe".
                    const upnp::ProtocolInfo info{"http-get", "*", type.substr(0, type.find(';')), "*"};
                    seen.claims.emplace_back(type, upnp::takes(takes, info) ? "maybe" : "no");
                }
                return seen;
            }
            default:
                return Seen{};
        }
    };
}

}  // namespace wavecrest::trial
