#include "measure/rendering.hpp"

#include <algorithm>

namespace wavecrest::measure {
namespace {

constexpr double kToldHalt = 0.5;  // seconds

double seconds(Time time) {
    return base::to_seconds(time);
}

}  // namespace

Rendering rendering_of(const std::vector<Reading>& readings, Time from) {
    Rendering r;
    r.last = from;
    using State = Reading::State;
    // How far the position is behind the clock: grows by what it stood still. Between two seconds that are told it
    // grows by up to one, and falls back.
    struct Lag {
        Time clock;
        double behind;
        Time position;
        bool waiting;
    };
    std::vector<Lag> lags;
    bool moved = false;
    for (const Reading& one : readings) {
        if (one.state == State::stopped) {
            if (moved) r.ended = true;
            continue;
        }
        r.ended = false;
        if (!one.position) continue;
        // A seek at the beginning lands before its target: at a keyframe.
        const double at = seconds(*one.position - from);
        if (!moved && (one.state != State::playing || at <= 0)) continue;
        if (!moved) {
            moved = true;
            r.started = true;
            r.startup = std::max(one.clock - (*one.position - from), Time{});
        }
        r.last = *one.position;
        lags.push_back({one.clock, seconds(one.clock) - at, *one.position, one.state == State::waiting});
    }
    if (lags.empty()) return r;

    // The least lag from each reading on: what it really is, without the seconds' rounding. It never falls.
    std::vector<double> least(lags.size());
    double after = lags.back().behind;
    for (std::size_t i = lags.size(); i-- > 0;) least[i] = after = std::min(after, lags[i].behind);

    // Halts: where the position stood though the player waited or the clock went on.
    double halted = 0;
    for (std::size_t i = 0; i + 1 < lags.size();) {
        std::size_t end = i;
        bool told = false;
        while (end + 1 < lags.size() && lags[end + 1].position == lags[i].position) {
            ++end;
            told = told || lags[end].waiting;
        }
        const std::size_t next = std::min(end + 1, lags.size() - 1);
        const double grown = least[next] - least[i];
        const bool open = end + 1 >= lags.size() && seconds(lags[end].clock - lags[i].clock) >= kUnseenHalt + 1;
        const double length = open ? seconds(lags[end].clock - lags[i].clock) : grown;
        if (length >= (told ? kToldHalt : kUnseenHalt) || open) {
            r.stalls.push_back({lags[i].position, base::from_seconds(length), lags[i].clock});
            halted += length;
        }
        i = std::max(end, i) + 1;
    }
    const double clock = seconds(lags.back().clock - lags.front().clock) - halted;
    const double position = seconds(lags.back().position - lags.front().position);
    if (clock < 3) return r;
    r.speed = position / clock;
    r.speed_margin = 1 / clock;
    return r;
}

}  // namespace wavecrest::measure
