// AudioFrames to AAC-LC, by vo-aacenc: mono and stereo only.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

// Samples a decoder gives out before the first one that was put in.
inline constexpr int kAacPriming = 1600;

// Fails (kind usage) for more than two channels or a rate AAC does not list. AudioFrames must come without gaps;
// packets begin kAacPriming samples before the first audio.
Result<std::unique_ptr<media::AudioEncoder>> make_aac_encoder(int sample_rate, int channels, std::int64_t bitrate_bps);

}  // namespace wavecrest::codec
