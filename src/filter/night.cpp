#include "filter/night.hpp"

#include <algorithm>
#include <cmath>

namespace wavecrest::filter {
namespace {

constexpr double kMiddle = -27, kRatio = 3, kMostGain = 12, kMostLoss = 15, kNoise = -55;  // dB
constexpr int kStep = 16;  // frames for which one gain is computed

double wanted_gain(double power) {
    const double level = 10 * std::log10(std::max(power, 1e-12));
    double gain = (kMiddle - std::max(level, kNoise)) * (1 - 1 / kRatio);
    // Below what counts as noise the gain goes back as far as the level does.
    if (level < kNoise) gain -= kNoise - level;
    return std::pow(10, std::clamp(gain, -kMostLoss, kMostGain) / 20);
}

}  // namespace

NightRange::NightRange(int sample_rate) {
    const auto share = [&](double seconds) { return 1 - std::exp(-1 / (seconds * sample_rate)); };
    level_share_ = share(0.03);
    fall_share_ = share(0.004);
    rise_share_ = share(0.4);
}

void NightRange::apply(AudioFrames& audio) {
    const auto channels = static_cast<std::size_t>(std::max(audio.channels, 1));
    double wanted = wanted_gain(power_);
    for (std::size_t n = 0; n < audio.frames(); ++n) {
        float* const frame = audio.samples.data() + n * channels;
        float loudest = 0;
        for (std::size_t c = 0; c < channels; ++c) loudest = std::max(loudest, std::abs(frame[c]));
        power_ += (static_cast<double>(loudest) * static_cast<double>(loudest) - power_) * level_share_;
        if (n % kStep == 0) wanted = wanted_gain(power_);
        gain_ += (wanted - gain_) * (wanted < gain_ ? fall_share_ : rise_share_);
        for (std::size_t c = 0; c < channels; ++c) frame[c] *= static_cast<float>(gain_);
    }
}

}  // namespace wavecrest::filter
