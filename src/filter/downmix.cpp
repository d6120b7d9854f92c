#include "filter/downmix.hpp"

namespace wavecrest::filter {

void fold_to_stereo(Sound& sound) {
    using namespace media::speaker;
    const Speakers speakers = sound.speakers != 0 ? sound.speakers : media::usual_speakers(sound.channels);
    if (speakers == kStereo || sound.channels <= 1) return;
    constexpr float kHalfPower = 0.70710678f;
    const Sound::Downmix mix = sound.downmix;
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
    const std::size_t frames = sound.frames(), channels = left.size();
    if (channels != static_cast<std::size_t>(sound.channels)) return;
    std::vector<float> folded(frames * 2);
    for (std::size_t n = 0; n < frames; ++n) {
        float l = 0, r = 0;
        for (std::size_t c = 0; c < channels; ++c) {
            const float sample = sound.samples[n * channels + c];
            l += left[c] * sample;
            r += right[c] * sample;
        }
        folded[2 * n] = l;
        folded[2 * n + 1] = r;
    }
    sound.samples = std::move(folded);
    sound.channels = 2;
    sound.speakers = kStereo;
}

void match_channels(Sound& sound, int channels) {
    const std::size_t frames = sound.frames();
    if (sound.channels == 1 && channels == 2) {
        std::vector<float> doubled(2 * frames);
        for (std::size_t n = 0; n < frames; ++n) doubled[2 * n] = doubled[2 * n + 1] = sound.samples[n];
        sound.samples = std::move(doubled);
    } else if (sound.channels == 2 && channels == 1) {
        for (std::size_t n = 0; n < frames; ++n)
            sound.samples[n] = (sound.samples[2 * n] + sound.samples[2 * n + 1]) / 2;
        sound.samples.resize(frames);
    } else {
        return;
    }
    sound.channels = channels;
    sound.speakers = 0;
}

}  // namespace wavecrest::filter
