#include "filter/sound_timeline.hpp"

#include <algorithm>

namespace wavecrest::filter {

Status SoundTimeline::push(Sound sound) {
    if (!start_) start_ = sound.pts;
    const std::int64_t at = base::to_ticks(sound.pts - *start_, sound.sample_rate);
    // Stamps are rounded to 90 kHz ticks, and packets of some formats to more: differences under 1 ms are no gap. A gap
    // of more than an hour is a broken time stamp, not an hour of silence.
    const std::int64_t tolerance = sound.sample_rate / 1000, longest = std::int64_t{3600} * sound.sample_rate;
    const std::int64_t difference = at - frames_;
    if (difference > tolerance && difference < longest) {
        WAVECREST_TRY(give(0));
        for (std::int64_t silent = difference; silent > 0;) {
            Sound piece;
            piece.sample_rate = sound.sample_rate;
            piece.channels = sound.channels;
            piece.pts = *start_ + base::from_ticks(frames_, sound.sample_rate);
            const std::int64_t count = std::min<std::int64_t>(silent, sound.sample_rate);
            piece.samples.assign(static_cast<std::size_t>(count * sound.channels), 0.0f);
            silent -= count;
            frames_ += count;
            WAVECREST_TRY(next_(std::move(piece)));
        }
    } else if (difference < -tolerance) {
        // What is out already can't be cut, and what lies far back is no part's beginning: that goes from the new
        // sound.
        const std::int64_t from_tail = -difference <= sound.sample_rate / 10 ? std::min(-difference, held_frames_) : 0;
        cut_tail(from_tail);
        const auto drop = std::min(static_cast<std::size_t>(-difference - from_tail), sound.frames());
        sound.samples.erase(
            sound.samples.begin(),
            sound.samples.begin() + static_cast<std::ptrdiff_t>(drop * static_cast<std::size_t>(sound.channels)));
    }
    sound.pts = *start_ + base::from_ticks(frames_, sound.sample_rate);
    frames_ += static_cast<std::int64_t>(sound.frames());
    held_frames_ += static_cast<std::int64_t>(sound.frames());
    const int rate = sound.sample_rate;
    if (!sound.samples.empty()) held_.push_back(std::move(sound));
    return give(rate / 5);
}

Status SoundTimeline::flush() {
    return give(0);
}

void SoundTimeline::cut_tail(std::int64_t frames) {
    frames_ -= frames;
    held_frames_ -= frames;
    while (frames > 0 && !held_.empty()) {
        Sound& last = held_.back();
        const auto cut = std::min<std::int64_t>(frames, static_cast<std::int64_t>(last.frames()));
        last.samples.resize(last.samples.size() - static_cast<std::size_t>(cut * last.channels));
        frames -= cut;
        if (last.samples.empty()) held_.pop_back();
    }
}

// Lets out whole pieces as long as `keep` frames stay.
Status SoundTimeline::give(std::int64_t keep) {
    while (!held_.empty() && held_frames_ - static_cast<std::int64_t>(held_.front().frames()) >= keep) {
        held_frames_ -= static_cast<std::int64_t>(held_.front().frames());
        Sound sound = std::move(held_.front());
        held_.pop_front();
        WAVECREST_TRY(next_(std::move(sound)));
    }
    return {};
}

}  // namespace wavecrest::filter
