#include "bitstream/aac.hpp"

#include <algorithm>
#include <array>

#include "base/bits.hpp"

namespace wavecrest::bitstream::aac {
namespace {

constexpr std::array<int, 13> kRates = {96000, 88200, 64000, 48000, 44100, 32000, 24000,
                                        22050, 16000, 12000, 11025, 8000,  7350};
constexpr int kChannels[] = {0, 1, 2, 3, 4, 5, 6, 8};

int read_rate(base::BitReader& bits) {
    const std::uint32_t index = bits.bits(4);
    if (index == 15) return static_cast<int>(bits.bits(24));
    return index < kRates.size() ? kRates[index] : 0;
}

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
    config.core_rate = config.sample_rate = read_rate(bits);
    const std::uint32_t channels = bits.bits(4);
    if (channels < std::size(kChannels)) config.channels = kChannels[channels];
    if (config.object_type == 5 || config.object_type == 29) {
        config.sample_rate = read_rate(bits);
        std::uint32_t core = bits.bits(5);
        if (core == 31) core = 32 + bits.bits(6);
    }
    if (!bits.ok() || config.sample_rate == 0 || config.core_rate == 0) return std::nullopt;
    // GASpecificConfig, 4.4.1
    if (bits.flag()) config.frame_samples = 960;
    if (!bits.ok()) config.frame_samples = kFrameSamples;
    if (config.object_type == 29) config.channels = 2;
    return config;
}

std::optional<AdtsHeader> parse_adts(ByteSpan b) {
    if (b.size() < kAdtsHeader || b[0] != 0xFF || (b[1] & 0xF6) != 0xF0) return std::nullopt;
    AdtsHeader header;
    header.header_bytes = (b[1] & 1) != 0 ? 7 : 9;
    header.object_type = (b[2] >> 6) + 1;
    header.rate_index = b[2] >> 2 & 15;
    header.channel_configuration = (b[2] & 1) << 2 | b[3] >> 6;
    header.frame_bytes = static_cast<std::size_t>((b[3] & 3) << 11 | b[4] << 3 | b[5] >> 5);
    header.blocks = (b[6] & 3) + 1;
    if (static_cast<std::size_t>(header.rate_index) >= kRates.size() || header.frame_bytes <= header.header_bytes)
        return std::nullopt;
    header.sample_rate = kRates[static_cast<std::size_t>(header.rate_index)];
    return header;
}

ByteVector make_adts(ByteSpan bytes, std::size_t payload) {
    if (bytes.size() < 2) return {};
    // An extension signalled in front names the core behind it; in ADTS it is found in the frames.
    base::BitReader bits(bytes);
    std::uint32_t type = bits.bits(5);
    const std::uint32_t index = bits.bits(4);
    const std::uint32_t channels = bits.bits(4);
    if (type == 5 || type == 29) {
        if (bits.bits(4) == 15) bits.skip(24);
        type = bits.bits(5);
    }
    const std::size_t size = payload + kAdtsHeader;
    if (!bits.ok() || type < 1 || type > 4 || index >= kRates.size() || channels == 0 || channels > 7 || size > 0x1FFF)
        return {};
    base::BitWriter out;
    out.bits(0xFFF1, 16);
    out.bits(type - 1, 2);
    out.bits(index, 4);
    out.bits(0, 1);
    out.bits(channels, 3);
    out.bits(0, 4);
    out.bits(static_cast<std::uint32_t>(size), 13);
    out.bits(0x7FF, 11);
    out.bits(0, 2);
    return out.release();
}

ByteVector config_of(const AdtsHeader& header) {
    base::BitWriter bits;
    bits.bits(static_cast<std::uint32_t>(header.object_type), 5);
    bits.bits(static_cast<std::uint32_t>(header.rate_index), 4);
    bits.bits(static_cast<std::uint32_t>(header.channel_configuration), 4);
    bits.bits(0, 3);
    return bits.release();
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
