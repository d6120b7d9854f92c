// LPCM as DVD-Video carries it in private stream 1: the header after the substream number.
#pragma once

#include <optional>

#include "base/bytes.hpp"

namespace wavecrest::bitstream {

struct DvdLpcmHeader {
    int frames = 0;           // frames (1/600 s) that begin in the packet
    int first_frame_at = 0;   // offset of the first of them after the header; -1 when none begins
    int bits = 16;            // 16, 20 or 24
    int sample_rate = 48000;  // 48000 or 96000
    int channels = 2;
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

}  // namespace wavecrest::bitstream
