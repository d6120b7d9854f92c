#include "verify/renderer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <thread>

#include "base/mutex.hpp"
#include "base/units.hpp"
#include "measure/rendering.hpp"
#include "net/url.hpp"
#include "upnp/eventing.hpp"
#include "verify/checks.hpp"

namespace wavecrest::verify {
namespace {

using device::Verdict;
using measure::Reading;
using upnp::TransportState;
using namespace std::chrono_literals;

constexpr auto kPoll = 250ms;
constexpr double kEndPart = 6;    // s that are played before the end
constexpr double kAfterSeek = 3;  // s that are played after a seek
constexpr double kMostOff = 10;   // s that a seek may land off its target: keyframes lie no farther apart, mostly

Reading::State state_of(TransportState state) {
    switch (state) {
        case TransportState::playing:
            return Reading::State::playing;
        case TransportState::paused:
            return Reading::State::paused;
        case TransportState::transitioning:
            return Reading::State::waiting;
        default:
            return Reading::State::stopped;
    }
}

// A renderer at work: polled, and listened to in between.
class Watch {
  public:
    Watch(upnp::Renderer& renderer, const Cancel& cancel) : renderer_(renderer), cancel_(cancel) {
        const auto take = [this](const std::string&, const upnp::Arguments& properties) {
            const auto changed = upnp::parse_last_change(upnp::value_of(properties, "LastChange"));
            const std::string state = changed ? upnp::value_of(*changed, "TransportState") : "";
            if (state.empty()) return;
            const base::MutexLock lock(mutex_);
            ++events_;
            if (begun_) readings_.push_back({since_start(), state_of(upnp::transport_state(state)), latest_.position});
        };
        auto listener = upnp::EventListener::start(take);
        const auto at = net::split_address(renderer.transport().control);
        const auto own = at ? upnp::own_address_towards(at->host) : Result<std::string>("");
        if (listener && own && (*listener)->subscribe(renderer.transport(), *own)) listener_ = std::move(*listener);
    }

    void begin() {
        const base::MutexLock lock(mutex_);
        begun_ = true;
        start_ = std::chrono::steady_clock::now();
        readings_.clear();
        latest_ = {};
        failed_ = {};
    }
    // Asks once. False where it doesn't answer.
    bool look() {
        std::this_thread::sleep_for(kPoll);
        if (listener_) listener_->keep();
        const auto state = renderer_.state();
        const auto position = renderer_.position();
        const base::MutexLock lock(mutex_);
        if (!state || !position) {
            failed_ = state ? position.error() : state.error();
            return ++silent_ < 4;
        }
        silent_ = 0;
        error_ = error_ || state->error;
        if (position->duration) duration_ = position->duration;
        latest_ = {since_start(), state_of(state->state), position->position};
        readings_.push_back(latest_);
        return true;
    }
    Time since_start() const { return std::chrono::duration_cast<Time>(std::chrono::steady_clock::now() - start_); }
    Reading latest() const {
        const base::MutexLock lock(mutex_);
        return latest_;
    }
    std::vector<Reading> readings() const {
        const base::MutexLock lock(mutex_);
        return readings_;
    }
    std::optional<Time> duration() const { return duration_; }
    bool error() const { return error_; }
    const Error& failed() const { return failed_; }
    bool listens() const { return listener_ != nullptr; }
    bool cancelled() const { return cancel_.requested(); }

  private:
    upnp::Renderer& renderer_;
    const Cancel& cancel_;
    mutable base::Mutex mutex_;
    std::chrono::steady_clock::time_point start_{};
    std::vector<Reading> readings_ GUARDED_BY(mutex_);
    Reading latest_ GUARDED_BY(mutex_){};
    bool begun_ GUARDED_BY(mutex_) = false;
    int events_ GUARDED_BY(mutex_) = 0;
    int silent_ = 0;
    bool error_ = false;
    Error failed_{};
    std::optional<Time> duration_;
    std::unique_ptr<upnp::EventListener> listener_;  // ends first
};

// Which of the house's parts a refusal points at, by the renderer's words.
Cause cause_of(const Error& error) {
    if (error.what.find("reach") != std::string::npos || error.what.find("find what") != std::string::npos ||
        error.what.find("can't read") != std::string::npos)
        return Cause::network;
    return Cause::device;
}

struct Seeked {
    SeekOrder order;
    bool landed = false;
    std::string refused;  // in its words
};

// False where it was cancelled or fell silent.
bool seek_to(upnp::Renderer& renderer, Watch& watch, Time to, Time patience, Seeked& result) {
    result.order.to = to;
    watch.begin();
    if (const Status done = renderer.seek(to); !done) {
        result.refused = done.error().what;
        return true;
    }
    std::optional<Time> first;
    while (watch.since_start() < patience && !watch.cancelled()) {
        if (!watch.look()) return false;
        const Reading now = watch.latest();
        if (now.state == Reading::State::stopped) break;
        if (!now.position || std::abs(base::to_seconds(*now.position - to)) > kMostOff) continue;
        if (!first) {
            first = *now.position;
            result.order.landed = *first;
        }
        // It has landed when it moves again.
        if (*now.position > *first && now.state == Reading::State::playing) {
            result.landed = true;
            result.order.first_picture = std::max(now.clock - (*now.position - *first), Time{});
            return true;
        }
    }
    return !watch.cancelled();
}

// Positions come in whole seconds mostly: less can't be told.
std::string within(Time time) {
    return time < base::from_seconds(1) ? "within 1 s" : "after " + base::format_span(time);
}

// Verdict, cause and words from the checks. What stood still is put down to the link, all else to the device.
void conclude(Verification& v, Time played) {
    const device::Check* worst = nullptr;
    for (const device::Check& check : v.checks) {
        v.verdict = device::worse(v.verdict, check.verdict);
        if (check.verdict != Verdict::pass && (worst == nullptr || check.verdict > worst->verdict)) worst = &check;
    }
    if (worst == nullptr) {
        std::string seeks;
        for (const SeekOrder& seek : v.seeks)
            seeks += (seeks.empty() ? ", seeks to " : " and ") + base::format_clock(seek.to);
        v.summary = fmt::format("starts {}, plays {} without stalls{}", within(v.startup), base::format_span(played),
                                seeks + (v.seeks.empty() ? "" : ", and ends"));
        return;
    }
    v.remedy = worst->why;
    v.summary =
        fmt::format("{}{}: {}", worst->verdict == Verdict::warn ? "plays, but " : "", worst->name, worst->measured);
    if (worst->verdict == Verdict::warn) return;
    v.cause = worst->name == "stalls" || worst->name == "startup" ? Cause::network : Cause::device;
    if (worst->name != "stalls") return;
    Time stood{};
    for (const measure::Stall& stall : v.stalls) stood += stall.length;
    v.summary =
        fmt::format("it stood still {}, {} in all",
                    v.stalls.size() == 1 ? "once" : fmt::format("{} times", v.stalls.size()), base::format_span(stood));
    v.remedy = "connect the device by Ethernet or a better link, or use a smaller profile";
}

void add_speed(Verification& v, const measure::Rendering& r) {
    if (r.speed == 0) return;
    const bool right = std::abs(r.speed - 1) <= 0.03 + r.speed_margin;
    add(v, "speed", right ? Verdict::pass : Verdict::warn, fmt::format("{:.2f} x real time", r.speed), "1.00",
        "its position doesn't advance with time");
}

}  // namespace

Result<Verification> run_on_renderer(const RendererJob& job, upnp::Renderer& renderer, const Progress& progress,
                                     const Cancel& cancel) {
    Verification v;
    v.grounds = "device";
    v.stream = job.stream;
    v.device = job.device;
    v.link = job.link;
    v.address = job.item.resources.empty() ? "" : job.item.resources.front().address;
    if (!job.item.resources.empty()) v.mean_bps = job.item.resources.front().bitrate_bps;
    Watch watch(renderer, cancel);
    if (const Status given = renderer.set(job.item); !given)
        return failed(std::move(v), cause_of(given.error()), given.error(), "accepted");
    watch.begin();
    if (const Status told = renderer.play(); !told)
        return failed(std::move(v), cause_of(told.error()), told.error(), "plays");
    const auto stop = [&] { (void)renderer.stop(); };
    const auto silent = [&] {
        return failed(std::move(v), Cause::device,
                      {ErrorKind::wanting,
                       "the device no longer answers: " + watch.failed().what,
                       v.address,
                       "check that it is still switched on and in the network",
                       {}},
                      "answers");
    };

    // Until it moves.
    bool moving = false, gave_up = false;
    Time played_until = job.listen;
    while (!moving && !gave_up && watch.since_start() < job.patience) {
        if (cancel.requested()) return stop(), base::interrupted();
        if (!watch.look()) return silent();
        const Reading now = watch.latest();
        moving = now.state == Reading::State::playing && now.position && now.position->count() > 0;
        // Something was tried, and it stands again.
        gave_up = now.state == Reading::State::stopped && watch.since_start() > base::from_seconds(1.5);
    }
    if (!moving) {
        stop();
        const bool says_playing = watch.latest().state == Reading::State::playing;
        return failed(
            std::move(v), gave_up || watch.error() ? Cause::device : Cause::network,
            {ErrorKind::wanting,
             gave_up || watch.error() ? "the device gives up: it can't play this, or can't read it"
             : says_playing           ? fmt::format("the device says it plays, but its position doesn't move within {}",
                                                    base::format_span(job.patience))
                                      : fmt::format("no video appeared within {}", base::format_span(job.patience)),
             v.address,
             gave_up ? "see whether it plays this format: device test; and that it reaches this machine (firewall)"
                     : "check that the device reaches this machine's address, and its link",
             {}},
            "startup");
    }
    std::optional<Time> duration = watch.duration();
    if (!duration && !job.item.resources.empty()) duration = job.item.resources.front().duration;
    v.duration = duration.value_or(Time{});
    const bool whole = duration && *duration <= job.listen + job.listen / 2;
    // What is played whole is sought in, too: from its middle to behind it.
    if (whole) played_until = *duration / 2;

    bool stands = false;
    Time moved_at = watch.since_start();
    Time reached{};
    while (watch.latest().position.value_or(Time{}) < played_until) {
        if (cancel.requested()) return stop(), base::interrupted();
        if (!watch.look()) return silent();
        const Reading now = watch.latest();
        if (now.state == Reading::State::stopped) break;
        if (now.position && *now.position > reached) {
            reached = *now.position;
            moved_at = watch.since_start();
        }
        stands = watch.since_start() - moved_at > job.patience;
        if (stands) break;
        if (progress) progress({reached, played_until});
    }
    const measure::Rendering played = measure::rendering_of(watch.readings());
    v.started = played.started;
    v.startup = played.startup;
    v.stalls = played.stalls;
    add_speed(v, played);
    Time legs = played.last;  // that were played in all
    bool seeks_done = false;
    const bool cut_off = played.ended && duration && reached + base::from_seconds(3) < played_until;
    if (cut_off)
        add(v, "plays on", Verdict::fail, fmt::format("stopped by itself at {}", base::format_clock(played.last)),
            "until it is stopped", "see its own screen for a message; then verify again with another stream");

    if (!cut_off && !stands && duration && *duration >= base::from_seconds(kEndPart)) {
        std::vector<Time> targets = {whole ? *duration * 2 / 3 : *duration / 2};
        const Time last = *duration - base::from_seconds(kEndPart);
        if (last > targets.front() + base::from_seconds(2 * kAfterSeek)) targets.push_back(last);
        std::string refused;
        bool all_landed = true;
        // What it plays after a seek counts, too.
        const auto take_leg = [&] {
            const Time landed = v.seeks.back().landed;
            measure::Rendering leg = measure::rendering_of(watch.readings(), landed);
            // At the end it may stand as long as it likes.
            std::erase_if(leg.stalls, [&](const measure::Stall& stall) {
                return stall.at < landed || stall.at > *duration - base::from_seconds(1.5);
            });
            v.stalls.insert(v.stalls.end(), leg.stalls.begin(), leg.stalls.end());
            legs = legs + std::max(leg.last - v.seeks.back().landed, Time{});
        };
        for (const Time target : targets) {
            Seeked seeked;
            const bool answers = seek_to(renderer, watch, target, job.patience, seeked);
            if (cancel.requested()) return stop(), base::interrupted();
            if (!answers) return silent();
            if (!seeked.refused.empty()) {
                refused = seeked.refused;
                break;
            }
            if (!seeked.landed) {
                all_landed = false;
                add(v, "seeking", Verdict::fail,
                    fmt::format("nothing moves after a seek to {}", base::format_clock(target)), "lands within 3 s",
                    "the device can't seek in this format, or the server was too slow");
                break;
            }
            v.seeks.push_back(seeked.order);
            if (target == targets.back()) break;
            const Time landed = watch.since_start();
            while (watch.since_start() < landed + base::from_seconds(kAfterSeek) && !cancel.requested())
                if (!watch.look()) return silent();
            take_leg();
        }
        if (!refused.empty())
            add(v, "seeking", Verdict::warn, refused, "seeks", "viewers can't seek on this device");
        else if (all_landed)
            seeks_done = true;
        // To its end, from where it is.
        if (refused.empty() && all_landed) {
            const Time left = *duration - watch.latest().position.value_or(Time{});
            const Time from = watch.since_start();
            const Time patience_at_end = std::min(job.patience, base::from_seconds(10));
            while (watch.since_start() - from < left + patience_at_end &&
                   watch.latest().state != Reading::State::stopped) {
                if (cancel.requested()) return stop(), base::interrupted();
                if (!watch.look()) return silent();
            }
            take_leg();
            const bool ended = watch.latest().state == Reading::State::stopped;
            add(v, "ends", ended ? Verdict::pass : Verdict::warn, ended ? "at the end" : "still says that it plays",
                "at the end", "the next title in a list won't start by itself on this device");
        }
    }
    stop();
    if (!watch.listens())
        add(v, "events", Verdict::warn, "not told", "told", "the device was asked four times a second instead");
    std::vector<device::Check> rest = std::move(v.checks);
    v.checks.clear();
    add_seen_playback(v);
    if (v.startup < base::from_seconds(1)) v.checks.front().measured = within(v.startup);
    if (seeks_done) {
        add_skips(v);
        std::string measured;
        for (const SeekOrder& seek : v.seeks) measured += (measured.empty() ? "" : ", ") + within(seek.first_picture);
        v.checks.back().measured = measured;
    }
    v.checks.insert(v.checks.end(), rest.begin(), rest.end());
    conclude(v, legs);
    return v;
}

}  // namespace wavecrest::verify
