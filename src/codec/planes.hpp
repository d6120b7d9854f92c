// Decoders that give one plane of 256 samples a channel, put into interleaved sound.
#pragma once

#include <initializer_list>

#include "media/types.hpp"

namespace wavecrest::codec {

inline constexpr int kPlaneSamples = 256;

// Puts the planes of block number `block` where they belong in `sound`; `order` says which speaker each plane is for.
// Planes of speakers that the sound does not have are left out.
template <typename Sample>
void place_planes(const Sample* planes, const std::vector<Speakers>& order, int block, Sound& sound) {
    for (const Speakers speaker : order) {
        const Sample* plane = planes;
        planes += kPlaneSamples;
        if ((sound.speakers & speaker) == 0) continue;
        const int channel = media::speaker_count(sound.speakers & (speaker - 1));
        float* to = sound.samples.data() + block * kPlaneSamples * sound.channels + channel;
        for (int i = 0; i < kPlaneSamples; ++i, to += sound.channels) *to = static_cast<float>(plane[i]);
    }
}

}  // namespace wavecrest::codec
