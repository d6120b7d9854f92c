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
    explicit Watch(upnp::Renderer& renderer) : renderer_(renderer) {
        const auto take = [this](const std::string&, const upnp::Arguments& properties) {
            const auto changed = upnp::parse_last_change(upnp::value_of(properties, "LastChange"));
            const std::string state = changed ? upnp::value_of(*changed, "TransportState") : "";
            if (state.empty()) return;
            const base::MutexLock lock(mutex_);
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

  private:
    upnp::Renderer& renderer_;
    mutable base::Mutex mutex_;
    std::chrono::steady_clock::time_point start_{};
    std::vector<Reading> readings_ GUARDED_BY(mutex_);
    Reading latest_ GUARDED_BY(mutex_){};
    bool begun_ GUARDED_BY(mutex_) = false;
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
bool seek_to(upnp::Renderer& renderer, Watch& watch, Time to, Time patience, const Cancel& cancel, Seeked& result) {
    result.order.to = to;
    watch.begin();
    if (const Status done = renderer.seek(to); !done) {
        result.refused = done.error().what;
        return true;
    }
    std::optional<Time> first;
    while (watch.since_start() < patience && !cancel.requested()) {
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
    return !cancel.requested();
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

// One stream on one renderer, from its beginning to its end. Each part says how it went.
class Trial {
  public:
    Trial(const RendererJob& job, upnp::Renderer& renderer, const Progress& progress, const Cancel& cancel)
        : job_(job), renderer_(renderer), progress_(progress), cancel_(cancel), watch_(renderer) {
        v_.grounds = "device";
        v_.stream = job.stream;
        v_.device = job.device;
        v_.link = job.link;
        if (job.item.resources.empty()) return;
        v_.address = job.item.resources.front().address;
        v_.mean_bps = job.item.resources.front().bitrate_bps;
    }

    Result<Verification> run() {
        const Went went = go();
        (void)renderer_.stop();
        if (cancel_.requested()) return base::interrupted();
        if (went == Went::silent)
            return failed(std::move(v_), Cause::device,
                          {ErrorKind::wanting,
                           "the device no longer answers: " + watch_.failed().what,
                           v_.address,
                           "check that it is still switched on and in the network",
                           {}},
                          "answers");
        if (went == Went::over) return std::move(v_);
        add_checks();
        conclude(v_, played_);
        return std::move(v_);
    }

  private:
    enum class Went {
        on,
        over,    // it has failed, and says why
        silent,  // it doesn't answer, or this was cancelled
    };

    Went go() {
        for (const auto part : {&Trial::begin, &Trial::wait_until_it_moves, &Trial::play_beginning,
                                &Trial::seek_through, &Trial::play_to_end}) {
            if (const Went went = (this->*part)(); went != Went::on) return went;
        }
        return Went::on;
    }
    // Asks once more.
    bool look() { return !cancel_.requested() && watch_.look(); }

    Went begin() {
        Status done = renderer_.set(job_.item);
        const char* check = "accepted";
        if (done) {
            watch_.begin();
            done = renderer_.play();
            check = "plays";
        }
        if (done) return Went::on;
        v_ = failed(std::move(v_), cause_of(done.error()), done.error(), check);
        return Went::over;
    }

    Went wait_until_it_moves() {
        bool moving = false, gave_up = false;
        while (!moving && !gave_up && watch_.since_start() < job_.patience) {
            if (!look()) return Went::silent;
            const Reading now = watch_.latest();
            moving = now.state == Reading::State::playing && now.position && now.position->count() > 0;
            // Something was tried, and it stands again.
            gave_up = now.state == Reading::State::stopped && watch_.since_start() > base::from_seconds(1.5);
        }
        if (moving) return Went::on;
        gave_up = gave_up || watch_.error();
        const bool says_playing = watch_.latest().state == Reading::State::playing;
        const std::string patience = base::format_span(job_.patience);
        v_ = failed(
            std::move(v_), gave_up ? Cause::device : Cause::network,
            {ErrorKind::wanting,
             gave_up        ? "the device gives up: it can't play this, or can't read it"
             : says_playing ? fmt::format("the device says it plays, but its position doesn't move within {}", patience)
                            : fmt::format("no video appeared within {}", patience),
             v_.address,
             gave_up ? "see whether it plays this format: device test; and that it reaches this machine (firewall)"
                     : "check that the device reaches this machine's address, and its link",
             {}},
            "startup");
        return Went::over;
    }

    Went play_beginning() {
        duration_ = watch_.duration();
        if (!duration_ && !job_.item.resources.empty()) duration_ = job_.item.resources.front().duration;
        v_.duration = duration_.value_or(Time{});
        // What is hardly longer is played whole, and sought in, too: from its middle to behind it.
        whole_ = duration_ && *duration_ <= job_.listen + job_.listen / 2;
        const Time until = whole_ ? *duration_ / 2 : job_.listen;
        Time reached{}, moved_at = watch_.since_start();
        while (watch_.latest().position.value_or(Time{}) < until) {
            if (!look()) return Went::silent;
            const Reading now = watch_.latest();
            if (now.state == Reading::State::stopped) break;
            if (now.position && *now.position > reached) {
                reached = *now.position;
                moved_at = watch_.since_start();
            }
            stands_ = watch_.since_start() - moved_at > job_.patience;
            if (stands_) break;
            if (progress_) progress_({reached, until});
        }
        const measure::Rendering played = measure::rendering_of(watch_.readings());
        v_.started = played.started;
        v_.startup = played.startup;
        v_.stalls = played.stalls;
        played_ = played.last;
        add_speed(v_, played);
        if (played.ended && reached + base::from_seconds(3) < until) {
            stands_ = true;
            add(v_, "goes on", Verdict::fail, fmt::format("stopped by itself at {}", base::format_clock(played.last)),
                "until it is stopped", "see its own screen for a message; then verify again with another stream");
        }
        return Went::on;
    }

    // What it plays after a seek counts, too.
    void take_leg() {
        const Time landed = v_.seeks.back().landed;
        measure::Rendering leg = measure::rendering_of(watch_.readings(), landed);
        // At the end it may stand as long as it likes.
        std::erase_if(leg.stalls, [&](const measure::Stall& stall) {
            return stall.at < landed || stall.at > *duration_ - base::from_seconds(1.5);
        });
        v_.stalls.insert(v_.stalls.end(), leg.stalls.begin(), leg.stalls.end());
        played_ = played_ + std::max(leg.last - landed, Time{});
    }

    Went seek_through() {
        if (stands_ || !duration_ || *duration_ < base::from_seconds(kEndPart)) return Went::on;
        std::vector<Time> targets = {whole_ ? *duration_ * 2 / 3 : *duration_ / 2};
        const Time last = *duration_ - base::from_seconds(kEndPart);
        if (last > targets.front() + base::from_seconds(2 * kAfterSeek)) targets.push_back(last);
        for (const Time target : targets) {
            if (!v_.seeks.empty()) {
                const Time landed = watch_.since_start();
                while (watch_.since_start() < landed + base::from_seconds(kAfterSeek))
                    if (!look()) return Went::silent;
                take_leg();
            }
            Seeked seeked;
            if (!seek_to(renderer_, watch_, target, job_.patience, cancel_, seeked)) return Went::silent;
            if (!seeked.refused.empty()) {
                add(v_, "seeking", Verdict::warn, seeked.refused, "seeks", "viewers can't seek on this device");
                return Went::on;
            }
            if (!seeked.landed) {
                add(v_, "seeking", Verdict::fail,
                    fmt::format("nothing moves after a seek to {}", base::format_clock(target)), "lands within 3 s",
                    "the device can't seek in this format, or the server was too slow");
                return Went::on;
            }
            v_.seeks.push_back(seeked.order);
        }
        sought_ = true;
        return Went::on;
    }

    // From where the last seek landed.
    Went play_to_end() {
        if (!sought_) return Went::on;
        const Time left = *duration_ - watch_.latest().position.value_or(Time{});
        const Time from = watch_.since_start(), patience = std::min(job_.patience, base::from_seconds(10));
        while (watch_.since_start() - from < left + patience && watch_.latest().state != Reading::State::stopped)
            if (!look()) return Went::silent;
        take_leg();
        const bool ended = watch_.latest().state == Reading::State::stopped;
        add(v_, "ends", ended ? Verdict::pass : Verdict::warn, ended ? "at the end" : "still says that it plays",
            "at the end", "the next title in a list won't start by itself on this device");
        return Went::on;
    }

    void add_checks() {
        if (!watch_.listens())
            add(v_, "events", Verdict::warn, "not told", "told", "the device was asked four times a second instead");
        std::vector<device::Check> rest = std::move(v_.checks);
        v_.checks.clear();
        add_seen_playback(v_);
        if (v_.startup < base::from_seconds(1)) v_.checks.front().measured = within(v_.startup);
        if (sought_) {
            add_skips(v_);
            std::string measured;
            for (const SeekOrder& seek : v_.seeks)
                measured += (measured.empty() ? "" : ", ") + within(seek.first_picture);
            v_.checks.back().measured = measured;
        }
        v_.checks.insert(v_.checks.end(), rest.begin(), rest.end());
    }

    const RendererJob& job_;
    upnp::Renderer& renderer_;
    const Progress& progress_;
    const Cancel& cancel_;
    Watch watch_;
    Verification v_;
    std::optional<Time> duration_;
    bool whole_ = false, stands_ = false, sought_ = false;
    Time played_{};  // in all
};

}  // namespace

Result<Verification> run_on_renderer(const RendererJob& job, upnp::Renderer& renderer, const Progress& progress,
                                     const Cancel& cancel) {
    return Trial(job, renderer, progress, cancel).run();
}

}  // namespace wavecrest::verify
