#include "filter/downmix.hpp"

namespace wavecrest::filter {

void fold_to_stereo(AudioFrames& audio) {
    using namespace media::speaker;
    const Speakers speakers = audio.speakers != 0 ? audio.speakers : media::usual_speakers(audio.channels);
    if (speakers == kStereo || audio.channels <= 1) return;
    constexpr float kHalfPower = 0.70710678f;
    const AudioFrames::Downmix mix = audio.downmix;
    // What each channel gives to the left and the right.
    std::vector<float> left, right;
    for (Speakers bit = 1; bit <= kRightBack; bit <<= 1) {
        if ((speakers & bit) == 0) continue;
        float to_left = 0, to_right = 0;
        switch (bit) {
            case kLeft:
                to_left = 1;
                break;
            case kRight:
                to_right = 1;
                break;
            case kCentre:
                to_left = to_right = mix.centre;
                break;
            case kLeftSurround:
            case kLeftBack:
                to_left = mix.surround;
                break;
            case kRightSurround:
            case kRightBack:
                to_right = mix.surround;
                break;
            case kCentreSurround:
                to_left = to_right = mix.surround * kHalfPower;
                break;
            default:
                break;
        }
        left.push_back(to_left * mix.gain);
        right.push_back(to_right * mix.gain);
    }
    const std::size_t frames = audio.frames(), channels = left.size();
    if (channels != static_cast<std::size_t>(audio.channels)) return;
    std::vector<float> folded(frames * 2);
    for (std::size_t n = 0; n < frames; ++n) {
        float l = 0, r = 0;
        for (std::size_t c = 0; c < channels; ++c) {
            const float sample = audio.samples[n * channels + c];
            l += left[c] * sample;
            r += right[c] * sample;
        }
        folded[2 * n] = l;
        folded[2 * n + 1] = r;
    }
    audio.samples = std::move(folded);
    audio.channels = 2;
    audio.speakers = kStereo;
}

void match_channels(AudioFrames& audio, int channels) {
    const std::size_t frames = audio.frames();
    if (audio.channels == 1 && channels == 2) {
        std::vector<float> doubled(2 * frames);
        for (std::size_t n = 0; n < frames; ++n) doubled[2 * n] = doubled[2 * n + 1] = audio.samples[n];
        audio.samples = std::move(doubled);
    } else if (audio.channels == 2 && channels == 1) {
        for (std::size_t n = 0; n < frames; ++n)
            audio.samples[n] = (audio.samples[2 * n] + audio.samples[2 * n + 1]) / 2;
        audio.samples.resize(frames);
    } else {
        return;
    }
    audio.channels = channels;
    audio.speakers = 0;
}

}  // namespace wavecrest::filter
