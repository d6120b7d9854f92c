#include "filter/audio_timeline.hpp"

#include <algorithm>

namespace wavecrest::filter {

Status AudioTimeline::push(AudioFrames audio) {
    if (!start_) start_ = audio.pts;
    const std::int64_t at = base::to_ticks(audio.pts - *start_, audio.sample_rate);
    // Stamps are rounded to 90 kHz ticks, and packets of some formats to more: differences under 1 ms are no gap. A gap
    // of more than an hour is a broken timestamp, not an hour of silence.
    const std::int64_t tolerance = audio.sample_rate / 1000, longest = std::int64_t{3600} * audio.sample_rate;
    const std::int64_t difference = at - frames_;
    if (difference > tolerance && difference < longest) {
        WAVECREST_TRY(give(0));
        for (std::int64_t silent = difference; silent > 0;) {
            AudioFrames piece;
            piece.sample_rate = audio.sample_rate;
            piece.channels = audio.channels;
            piece.pts = *start_ + base::from_ticks(frames_, audio.sample_rate);
            const std::int64_t count = std::min<std::int64_t>(silent, audio.sample_rate);
            piece.samples.assign(static_cast<std::size_t>(count * audio.channels), 0.0f);
            silent -= count;
            frames_ += count;
            WAVECREST_TRY(next_(std::move(piece)));
        }
    } else if (difference < -tolerance) {
        // What is out already can't be cut, and what lies far back is no part's beginning: that goes from the new
        // audio.
        const std::int64_t from_tail = -difference <= audio.sample_rate / 10 ? std::min(-difference, held_frames_) : 0;
        cut_tail(from_tail);
        const auto drop = std::min(static_cast<std::size_t>(-difference - from_tail), audio.frames());
        audio.samples.erase(
            audio.samples.begin(),
            audio.samples.begin() + static_cast<std::ptrdiff_t>(drop * static_cast<std::size_t>(audio.channels)));
    }
    audio.pts = *start_ + base::from_ticks(frames_, audio.sample_rate);
    frames_ += static_cast<std::int64_t>(audio.frames());
    held_frames_ += static_cast<std::int64_t>(audio.frames());
    const int rate = audio.sample_rate;
    if (!audio.samples.empty()) held_.push_back(std::move(audio));
    return give(rate / 5);
}

Status AudioTimeline::flush() {
    return give(0);
}

void AudioTimeline::cut_tail(std::int64_t frames) {
    frames_ -= frames;
    held_frames_ -= frames;
    while (frames > 0 && !held_.empty()) {
        AudioFrames& last = held_.back();
        const auto cut = std::min<std::int64_t>(frames, static_cast<std::int64_t>(last.frames()));
        last.samples.resize(last.samples.size() - static_cast<std::size_t>(cut * last.channels));
        frames -= cut;
        if (last.samples.empty()) held_.pop_back();
    }
}

// Lets out whole pieces as long as `keep` frames stay.
Status AudioTimeline::give(std::int64_t keep) {
    while (!held_.empty() && held_frames_ - static_cast<std::int64_t>(held_.front().frames()) >= keep) {
        held_frames_ -= static_cast<std::int64_t>(held_.front().frames());
        AudioFrames audio = std::move(held_.front());
        held_.pop_front();
        WAVECREST_TRY(next_(std::move(audio)));
    }
    return {};
}

}  // namespace wavecrest::filter
