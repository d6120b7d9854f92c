// LPCM as discs carry it: the headers of DVD-Video (private stream 1) and Blu-ray, and the samples behind them.
// Packets of LPCM tracks hold plain samples everywhere above this: big-endian, interleaved in the order of Speakers, 16
// bits, or 24 bits when the source has 20 or 24.
#pragma once

#include <optional>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

struct DvdLpcmHeader {
    int frames = 0;           // frames (1/600 s) that begin in the packet
    int first_frame_at = 0;   // offset of the first of them after the header; -1 when none begins
    int bits = 16;            // 16, 20 or 24
    int sample_rate = 48000;  // 48000 or 96000
    int channels = 2;

    // Samples come in groups that end at a byte boundary: one of every channel, or two with 20 and 24 bits.
    std::size_t group_bytes() const {
        return static_cast<std::size_t>(bits == 16 ? channels * 2 : channels * bits / 4);
    }
    int group_samples() const { return bits == 16 ? 1 : 2; }
};

inline constexpr std::size_t kDvdLpcmHeaderSize = 6;  // after the substream number

inline std::optional<DvdLpcmHeader> parse_dvd_lpcm_header(ByteSpan bytes) {
    if (bytes.size() < kDvdLpcmHeaderSize) return std::nullopt;
    DvdLpcmHeader header;
    header.frames = bytes[0];
    const int pointer = bytes[1] << 8 | bytes[2];
    header.first_frame_at = pointer >= 4 ? pointer - 4 : -1;
    const int quantization = bytes[4] >> 6;
    const int rate = bytes[4] >> 4 & 3;
    if (quantization > 2 || rate > 1) return std::nullopt;
    header.bits = 16 + 4 * quantization;
    header.sample_rate = rate == 0 ? 48000 : 96000;
    header.channels = (bytes[4] & 7) + 1;
    return header;
}

// Whole groups of DVD samples as plain ones; a group that is cut is left out. With 20 and 24 bits a group has the upper
// 16 bits of two sample frames, then their lower bits in the same order.
inline ByteVector plain_dvd_lpcm(const DvdLpcmHeader& header, ByteSpan data) {
    const std::size_t groups = data.size() / header.group_bytes();
    if (header.bits == 16)
        return {data.begin(), data.begin() + static_cast<std::ptrdiff_t>(groups * header.group_bytes())};
    const auto samples = static_cast<std::size_t>(header.channels) * 2;
    ByteVector out;
    out.reserve(groups * samples * 3);
    for (std::size_t g = 0; g < groups; ++g) {
        const ByteSpan group = data.subspan(g * header.group_bytes(), header.group_bytes());
        for (std::size_t i = 0; i < samples; ++i) {
            out.push_back(group[2 * i]);
            out.push_back(group[2 * i + 1]);
            if (header.bits == 24) {
                out.push_back(group[2 * samples + i]);
            } else {
                const std::uint8_t pair = group[2 * samples + i / 2];
                out.push_back(static_cast<std::uint8_t>(i % 2 == 0 ? pair & 0xF0 : pair << 4));
            }
        }
    }
    return out;
}

struct BluRayLpcmHeader {
    int bits = 16;
    int sample_rate = 48000;  // 48000, 96000 or 192000
    int channels = 2;
    int coded_channels = 2;  // an odd channel count is filled up with a silent one
    Speakers speakers = media::speaker::kStereo;
    const std::uint8_t* order = nullptr;  // coded position of each channel in the order of Speakers
};

inline constexpr std::size_t kBluRayLpcmHeaderSize = 4;

inline std::optional<BluRayLpcmHeader> parse_blu_ray_lpcm_header(ByteSpan bytes) {
    using namespace media::speaker;
    if (bytes.size() < kBluRayLpcmHeaderSize) return std::nullopt;
    static constexpr std::uint8_t kSame[] = {0, 1, 2, 3, 4, 5};
    static constexpr std::uint8_t kFiveOneOrder[] = {0, 1, 2, 5, 3, 4};         // coded L R C Ls Rs LFE
    static constexpr std::uint8_t kSevenOrder[] = {0, 1, 2, 3, 6, 4, 5};        // coded L R C Ls Lb Rb Rs
    static constexpr std::uint8_t kSevenOneOrder[] = {0, 1, 2, 7, 3, 6, 4, 5};  // and LFE last
    BluRayLpcmHeader header;
    header.order = kSame;
    switch (bytes[2] >> 4) {
        case 1:
            header.speakers = kCentre;
            break;
        case 3:
            header.speakers = kStereo;
            break;
        case 4:
            header.speakers = kStereo | kCentre;
            break;
        case 5:
            header.speakers = kStereo | kCentreSurround;
            break;
        case 6:
            header.speakers = kStereo | kCentre | kCentreSurround;
            break;
        case 7:
            header.speakers = kStereo | kLeftSurround | kRightSurround;
            break;
        case 8:
            header.speakers = kStereo | kCentre | kLeftSurround | kRightSurround;
            break;
        case 9:
            header.speakers = kFiveOne;
            header.order = kFiveOneOrder;
            break;
        case 10:
            header.speakers = kStereo | kCentre | kLeftSurround | kRightSurround | kLeftBack | kRightBack;
            header.order = kSevenOrder;
            break;
        case 11:
            header.speakers = kFiveOne | kLeftBack | kRightBack;
            header.order = kSevenOneOrder;
            break;
        default:
            return std::nullopt;
    }
    switch (bytes[2] & 15) {
        case 1:
            header.sample_rate = 48000;
            break;
        case 4:
            header.sample_rate = 96000;
            break;
        case 5:
            header.sample_rate = 192000;
            break;
        default:
            return std::nullopt;
    }
    const int quantization = bytes[3] >> 6;
    if (quantization == 0) return std::nullopt;
    header.bits = 12 + 4 * quantization;
    header.channels = media::speaker_count(header.speakers);
    header.coded_channels = (header.channels + 1) / 2 * 2;
    return header;
}

// Samples behind the header as plain ones; a sample frame that is cut is left out.
inline ByteVector plain_blu_ray_lpcm(const BluRayLpcmHeader& header, ByteSpan data) {
    const std::size_t width = header.bits == 16 ? 2 : 3;
    const auto frame = static_cast<std::size_t>(header.coded_channels) * width;
    ByteVector out;
    out.reserve(data.size());
    for (std::size_t at = 0; at + frame <= data.size(); at += frame) {
        for (int channel = 0; channel < header.channels; ++channel) {
            const std::size_t from = at + header.order[channel] * width;
            out.insert(out.end(), data.begin() + static_cast<std::ptrdiff_t>(from),
                       data.begin() + static_cast<std::ptrdiff_t>(from + width));
        }
    }
    return out;
}

}  // namespace wavecrest::bitstream
