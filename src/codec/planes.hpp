// Decoders that give one plane of 256 samples a channel, put into interleaved audio.
#pragma once

#include <initializer_list>

#include "media/types.hpp"

namespace wavecrest::codec {

inline constexpr int kPlaneSamples = 256;

// Puts the planes of block number `block` where they belong in `audio`; `order` says which speaker each plane is for.
// Planes of speakers that the audio does not have are left out.
template <typename Sample>
void place_planes(const Sample* planes, const std::vector<Speakers>& order, int block, AudioFrames& audio) {
    for (const Speakers speaker : order) {
        const Sample* plane = planes;
        planes += kPlaneSamples;
        if ((audio.speakers & speaker) == 0) continue;
        const int channel = media::speaker_count(audio.speakers & (speaker - 1));
        float* to = audio.samples.data() + block * kPlaneSamples * audio.channels + channel;
        for (int i = 0; i < kPlaneSamples; ++i, to += audio.channels) *to = static_cast<float>(plane[i]);
    }
}

}  // namespace wavecrest::codec
