#include "filter/sound_timeline.hpp"

namespace wavecrest::filter {

void SoundTimeline::apply(Sound& sound) {
    if (!start_) start_ = sound.pts;
    const auto channels = static_cast<std::size_t>(sound.channels);
    const std::int64_t at = base::to_ticks(sound.pts - *start_, sound.sample_rate);
    // Stamps are rounded to 90 kHz ticks, and packets of some formats to more: differences under 1 ms are no gap.
    const std::int64_t tolerance = sound.sample_rate / 1000;
    std::int64_t difference = at - frames_;
    if (difference > tolerance) {
        // A gap of more than an hour is a broken time stamp, not an hour of silence.
        if (difference < std::int64_t{3600} * sound.sample_rate) {
            sound.samples.insert(sound.samples.begin(), static_cast<std::size_t>(difference) * channels, 0.0f);
            filled_ += difference;
        }
    } else if (difference < -tolerance) {
        const auto drop = std::min(static_cast<std::size_t>(-difference), sound.frames());
        sound.samples.erase(sound.samples.begin(),
                            sound.samples.begin() + static_cast<std::ptrdiff_t>(drop * channels));
    }
    sound.pts = *start_ + base::from_ticks(frames_, sound.sample_rate);
    frames_ += static_cast<std::int64_t>(sound.frames());
}

}  // namespace wavecrest::filter
