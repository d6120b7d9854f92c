// The order in which codecs put channels, against that of Speakers.
#pragma once

#include <algorithm>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::codec {

// Of Vorbis (I, 4.3.9), which Opus has, too (RFC 7845, 5.1.1.2); empty where it has none for so many.
inline std::vector<Speakers> vorbis_order(int channels) {
    using namespace media::speaker;
    switch (channels) {
        case 1:
            return {kCentre};
        case 2:
            return {kLeft, kRight};
        case 3:
            return {kLeft, kCentre, kRight};
        case 4:
            return {kLeft, kRight, kLeftSurround, kRightSurround};
        case 5:
            return {kLeft, kCentre, kRight, kLeftSurround, kRightSurround};
        case 6:
            return {kLeft, kCentre, kRight, kLeftSurround, kRightSurround, kLowFrequency};
        case 7:
            return {kLeft, kCentre, kRight, kLeftSurround, kRightSurround, kCentreSurround, kLowFrequency};
        case 8:
            return {kLeft, kCentre, kRight, kLeftSurround, kRightSurround, kLeftBack, kRightBack, kLowFrequency};
        default:
            return {};
    }
}

// Of FLAC (RFC 9639, 9.1.3).
inline std::vector<Speakers> flac_order(int channels) {
    using namespace media::speaker;
    switch (channels) {
        case 1:
            return {kCentre};
        case 2:
            return {kLeft, kRight};
        case 3:
            return {kLeft, kRight, kCentre};
        case 4:
            return {kLeft, kRight, kLeftSurround, kRightSurround};
        case 5:
            return {kLeft, kRight, kCentre, kLeftSurround, kRightSurround};
        case 6:
            return {kLeft, kRight, kCentre, kLowFrequency, kLeftSurround, kRightSurround};
        case 7:
            return {kLeft, kRight, kCentre, kLowFrequency, kCentreSurround, kLeftSurround, kRightSurround};
        case 8:
            return {kLeft, kRight, kCentre, kLowFrequency, kLeftBack, kRightBack, kLeftSurround, kRightSurround};
        default:
            return {};
    }
}

inline Speakers set_of(const std::vector<Speakers>& places) {
    Speakers all = 0;
    for (const Speakers place : places) all |= place;
    return all;
}

// Where each of a codec's channels is among those in the order of Speakers.
inline std::vector<std::size_t> positions_of(const std::vector<Speakers>& places) {
    const Speakers all = set_of(places);
    std::vector<std::size_t> positions;
    for (const Speakers place : places)
        positions.push_back(static_cast<std::size_t>(media::speaker_count(all & (place - 1))));
    return positions;
}

// Puts interleaved channels that stand for `places` into the order of Speakers; leaves them where that isn't one place
// for each.
inline void arrange(AudioFrames& audio, const std::vector<Speakers>& places) {
    if (media::speaker_count(set_of(places)) != audio.channels || static_cast<int>(places.size()) != audio.channels)
        return;
    const std::vector<std::size_t> to = positions_of(places);
    audio.speakers = set_of(places);
    std::vector<float> frame(places.size());
    for (std::size_t at = 0; at + places.size() <= audio.samples.size(); at += places.size()) {
        for (std::size_t i = 0; i < places.size(); ++i) frame[to[i]] = audio.samples[at + i];
        std::copy(frame.begin(), frame.end(), audio.samples.begin() + static_cast<std::ptrdiff_t>(at));
    }
}

}  // namespace wavecrest::codec
