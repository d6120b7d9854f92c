#include "filter/sound_timeline.hpp"

#include <algorithm>

namespace wavecrest::filter {

std::int64_t SoundTimeline::follow_on(Sound& sound) {
    if (!start_) start_ = sound.pts;
    const std::int64_t at = base::to_ticks(sound.pts - *start_, sound.sample_rate);
    // Stamps are rounded to 90 kHz ticks, and packets of some formats to more: differences under 1 ms are no gap. A gap
    // of more than an hour is a broken time stamp, not an hour of silence.
    const std::int64_t tolerance = sound.sample_rate / 1000, longest = std::int64_t{3600} * sound.sample_rate;
    const std::int64_t difference = at - frames_;
    std::int64_t silent = 0;
    if (difference > tolerance && difference < longest) {
        silent = difference;
    } else if (difference < -tolerance) {
        const auto drop = std::min(static_cast<std::size_t>(-difference), sound.frames());
        sound.samples.erase(
            sound.samples.begin(),
            sound.samples.begin() + static_cast<std::ptrdiff_t>(drop * static_cast<std::size_t>(sound.channels)));
    }
    frames_ += silent;
    sound.pts = *start_ + base::from_ticks(frames_, sound.sample_rate);
    frames_ += static_cast<std::int64_t>(sound.frames());
    return silent;
}

}  // namespace wavecrest::filter
