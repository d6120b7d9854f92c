#include "bitstream/aac.hpp"

#include <algorithm>
#include <array>

#include "base/bits.hpp"

namespace wavecrest::bitstream::aac {
namespace {

constexpr std::array<int, 13> kRates = {96000, 88200, 64000, 48000, 44100, 32000, 24000,
                                        22050, 16000, 12000, 11025, 8000,  7350};
constexpr int kChannels[] = {0, 1, 2, 3, 4, 5, 6, 8};

}  // namespace

std::string Config::profile_name() const {
    switch (object_type) {
        case 1:
            return "AAC Main";
        case 2:
            return "AAC-LC";
        case 5:
            return "HE-AAC";
        case 29:
            return "HE-AAC v2";
        default:
            return "AAC object type " + std::to_string(object_type);
    }
}

std::optional<Config> parse_config(ByteSpan bytes) {
    base::BitReader bits(bytes);
    Config config;
    config.object_type = static_cast<int>(bits.bits(5));
    if (config.object_type == 31) config.object_type = 32 + static_cast<int>(bits.bits(6));
    const std::uint32_t index = bits.bits(4);
    if (index == 15) {
        config.sample_rate = static_cast<int>(bits.bits(24));
    } else if (index < kRates.size()) {
        config.sample_rate = kRates[index];
    }
    const std::uint32_t channels = bits.bits(4);
    if (channels < std::size(kChannels)) config.channels = kChannels[channels];
    if (!bits.ok() || config.sample_rate == 0) return std::nullopt;
    return config;
}

ByteVector make_config(int sample_rate, int channels) {
    const auto* found = std::find(kRates.begin(), kRates.end(), sample_rate);
    if (found == kRates.end()) return {};
    base::BitWriter bits;
    bits.bits(2, 5);
    bits.bits(static_cast<std::uint32_t>(found - kRates.begin()), 4);
    bits.bits(static_cast<std::uint32_t>(channels), 4);
    bits.bits(0, 3);  // 1024-sample frames, no core coder, no extension
    return bits.release();
}

}  // namespace wavecrest::bitstream::aac
