#include "measure/playback.hpp"

#include <algorithm>

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
        const Time passed = clock - now_;
        if (passed < left) {
            position_ += passed;
        } else {
            position_ = available_;
            if (position_ < settings_.duration) {
                playing_ = false;
                const Time dry = now_ + left;
                levels_.push_back({dry, {}});
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
    const bool enough = available_ - position_ >= settings_.start_buffer || available_ >= settings_.duration;
    if (!playing_ && enough && position_ < settings_.duration && available_ > position_) {
        playing_ = true;
        if (!startup_) {
            startup_ = now_;
        } else if (!stalls_.empty()) {
            stalls_.back().length = now_ - stalls_.back().clock;
        }
        note_level(now_, true);
    }
    note_level(now_, false);
}

Time PlaybackModel::room_at(Time clock) const {
    const Time level = available_ - position_ - (playing_ ? std::max(clock - now_, Time{}) : Time{});
    const Time excess = level - settings_.buffer;
    return excess.count() > 0 && playing_ ? clock + excess : clock;
}

void PlaybackModel::finish(Time clock) {
    advance(std::max(clock, now_));
    if (playing_) {
        const Time end = now_ + (available_ - position_);
        advance(end);
        playing_ = false;
        note_level(end, true);
    } else if (startup_ && !stalls_.empty() && stalls_.back().length.count() == 0) {
        stalls_.back().length = now_ - stalls_.back().clock;
    }
}

}  // namespace wavecrest::measure
