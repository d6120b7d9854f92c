#include "filter/remix.hpp"

#include <array>

#include "filter/downmix.hpp"

namespace wavecrest::filter {
namespace {

using namespace media::speaker;

constexpr float kHalfPower = 0.70710678f;

struct Share {
    Speakers to;
    float gain;
};

// Where a channel goes that has no speaker of its own.
std::vector<Share> shares_of(Speakers from, Speakers to) {
    if (from & to) return {{from, 1}};
    const auto pair = [&](Speakers left, Speakers right) -> std::vector<Share> {
        return {{left, kHalfPower}, {right, kHalfPower}};
    };
    const bool sides = (to & kLeftSurround) != 0 && (to & kRightSurround) != 0;
    switch (from) {
        case kCentre:
            return pair(kLeft, kRight);
        case kLeftSurround:
        case kLeftBack:
            if (sides) return {{kLeftSurround, 1}};
            if (to & kLeftBack) return {{kLeftBack, 1}};
            if (to & kCentreSurround) return {{kCentreSurround, kHalfPower}};
            return {{kLeft, kHalfPower}};
        case kRightSurround:
        case kRightBack:
            if (sides) return {{kRightSurround, 1}};
            if (to & kRightBack) return {{kRightBack, 1}};
            if (to & kCentreSurround) return {{kCentreSurround, kHalfPower}};
            return {{kRight, kHalfPower}};
        case kCentreSurround:
            if (sides) return pair(kLeftSurround, kRightSurround);
            if (to & kLeftBack) return pair(kLeftBack, kRightBack);
            return {{kLeft, 0.5f}, {kRight, 0.5f}};
        case kLeft:
        case kRight:
            return {{kCentre, kHalfPower}};
        default:
            return {};  // low frequencies
    }
}

std::vector<Speakers> list_of(Speakers set) {
    std::vector<Speakers> list;
    for (Speakers bit = 1; bit <= kRightBack; bit <<= 1) {
        if (set & bit) list.push_back(bit);
    }
    return list;
}

}  // namespace

void remix(AudioFrames& audio, Speakers to) {
    const Speakers from = audio.speakers != 0 ? audio.speakers : media::usual_speakers(audio.channels);
    if (from == to || audio.channels <= 0) return;
    const int wanted = media::speaker_count(to);
    if (wanted <= 2) {
        fold_to_stereo(audio);
        match_channels(audio, wanted);
        audio.speakers = to;
        return;
    }
    const std::vector<Speakers> sources = list_of(from), targets = list_of(to);
    if (static_cast<int>(sources.size()) != audio.channels) return;
    std::vector<float> matrix(targets.size() * sources.size());
    for (std::size_t s = 0; s < sources.size(); ++s) {
        for (const Share& share : shares_of(sources[s], to)) {
            for (std::size_t t = 0; t < targets.size(); ++t) {
                if (targets[t] == share.to) matrix[t * sources.size() + s] += share.gain;
            }
        }
    }
    const std::size_t frames = audio.frames();
    std::vector<float> mixed(frames * targets.size());
    for (std::size_t n = 0; n < frames; ++n) {
        for (std::size_t t = 0; t < targets.size(); ++t) {
            float sum = 0;
            for (std::size_t s = 0; s < sources.size(); ++s)
                sum += matrix[t * sources.size() + s] * audio.samples[n * sources.size() + s];
            mixed[n * targets.size() + t] = sum;
        }
    }
    audio.samples = std::move(mixed);
    audio.channels = wanted;
    audio.speakers = to;
}

}  // namespace wavecrest::filter
