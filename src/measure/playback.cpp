#include "measure/playback.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>

namespace wavecrest::measure {

void PlaybackModel::note_level(Time clock, bool always) {
    const Time step = base::from_seconds(0.1);
    if (always || levels_.empty() || clock - levels_.back().clock >= step)
        levels_.push_back({clock, available_ - position_});
}

void PlaybackModel::advance(Time clock) {
    if (clock <= now_) return;
    if (playing_) {
        const Time left = available_ - position_;
        const Time passed = std::max(clock - played_from(), Time{});
        if (passed < left) {
            position_ += passed;
        } else {
            position_ = available_;
            if (position_ < settings_.duration) {
                playing_ = false;
                const Time dry = played_from() + left;
                levels_.push_back({dry, {}});
                wanted_ = stalls_.empty()
                              ? (settings_.resume_buffer.count() > 0 ? settings_.resume_buffer : settings_.start_buffer)
                              : base::from_seconds(base::to_seconds(wanted_) * settings_.resume_growth);
                if (settings_.most_resume_buffer.count() > 0) wanted_ = std::min(wanted_, settings_.most_resume_buffer);
                stalls_.push_back({position_, Time{}, dry});
            }
        }
    }
    now_ = clock;
}

void PlaybackModel::arrived(Time clock, Time until) {
    advance(clock);
    until = std::min(until, settings_.duration);
    available_ = std::max(available_, until);
    const bool enough = available_ - position_ >= wanted_ || available_ >= settings_.duration;
    if (!playing_ && enough && position_ < settings_.duration && available_ > position_) {
        playing_ = true;
        if (!startup_) {
            startup_ = begins_ = now_ + settings_.start_delay;
        } else if (!stalls_.empty()) {
            stalls_.back().length = now_ - stalls_.back().clock;
        }
        note_level(now_, true);
    }
    note_level(now_, false);
}

Time PlaybackModel::drop(Time clock) {
    advance(clock);
    available_ = position_;
    note_level(now_, true);
    return position_;
}

Time PlaybackModel::room_at(Time clock) const {
    const Time level = available_ - position_ - (playing_ ? std::max(clock - played_from(), Time{}) : Time{});
    if (level <= settings_.buffer || !playing_) return clock;
    return clock + level -
           (settings_.refill.count() > 0 ? std::min(settings_.refill, settings_.buffer) : settings_.buffer);
}

void PlaybackModel::finish(Time clock) {
    advance(std::max(clock, now_));
    if (playing_) {
        const Time end = played_from() + (available_ - position_);
        advance(end);
        playing_ = false;
        note_level(end, true);
    } else if (startup_ && !stalls_.empty() && stalls_.back().length.count() == 0) {
        stalls_.back().length = now_ - stalls_.back().clock;
    }
}

namespace {

// Nobody sees a shorter one, unless there are several.
constexpr auto kSeen = std::chrono::milliseconds(100), kTogether = std::chrono::milliseconds(250);

}  // namespace

std::vector<Stall> seen_stalls(std::vector<Stall> stalls) {
    constexpr auto kLeast = std::chrono::milliseconds(20);
    Time together{};
    for (const Stall& stall : stalls) together += stall.length;
    std::erase_if(
        stalls, [&](const Stall& stall) { return stall.length < (together < kTogether ? Time(kSeen) : Time(kLeast)); });
    return stalls;
}

namespace {

bool plays_over(const PlayerSettings& settings, Arrivals& arrivals, Time latency, double bytes_a_second) {
    std::size_t counted = 0;
    Time stood{};
    const Time slow_start = base::from_seconds(15);
    arrivals.restart();
    PlaybackModel player(settings);
    Time clock{};
    const std::uint64_t all = arrivals.bytes();
    for (std::uint64_t received = 0; received < all;) {
        const std::uint64_t end = std::min(all, std::max(arrivals.part_end(received), received + 1));
        clock += latency + base::from_seconds(static_cast<double>(end - received) / bytes_a_second);
        received = end;
        player.arrived(clock, arrivals.playable(received));
        if (!player.started() && clock > slow_start) return false;
        while (counted < player.stalls().size()) {
            const Stall& stall = player.stalls()[counted];
            const bool over = player.playing() || counted + 1 < player.stalls().size();
            const Time length = over ? stall.length : clock - stall.clock;
            if (length >= kSeen || stood + length >= kTogether) return false;
            if (!over) break;
            stood += length;
            ++counted;
        }
        clock = player.room_at(clock);
    }
    player.finish(clock);
    return player.started() && player.startup() <= slow_start;
}

}  // namespace

std::optional<std::int64_t> slowest_link(const PlayerSettings& settings, Arrivals& arrivals, Time latency,
                                         std::int64_t most_bps) {
    double high = static_cast<double>(most_bps), low = high / 1000;
    if (!plays_over(settings, arrivals, latency, high / 8)) return std::nullopt;
    while (high / low > 1.02) {
        const double middle = std::sqrt(high * low);
        (plays_over(settings, arrivals, latency, middle / 8) ? high : low) = middle;
    }
    return static_cast<std::int64_t>(high);
}

}  // namespace wavecrest::measure
