// The level a stream needs, by what it is rather than by what its header declares; and the tables it is found in.
#pragma once

#include <cstdint>
#include <functional>
#include <span>
#include <string>

#include "media/types.hpp"

namespace wavecrest::bitstream {

// H.265, tables A.8 and A.9: level_idc, luma samples of a picture and in a second, and rate and buffer of the main and
// the high tier in 1100 bits (main profiles). Below level 4 there is no high tier.
struct HevcLevel {
    int idc;
    std::int64_t picture, samples;
    std::int64_t rate, high_rate, buffer, high_buffer;
};
std::span<const HevcLevel> hevc_levels();

// Bits that a decoder's buffer must hold if it is filled at this many bits a second; empty: not known.
using BufferNeed = std::function<double(double rate_bps)>;

// The lowest level whose limits are kept: size, samples a second, reference pictures, and rate with its buffer. Of
// H.264 by A.3.1 and table A-1, of H.265 by A.4.1, A.4.2 and tables A.8 and A.9 (the tier stays that of the header):
// "4.1", "5 High"; "above 6.2". Empty for other codecs, and where size or frame rate isn't known.
std::string needed_level(const Track& track, const BufferNeed& need = {});

// A level as a number that grows with it, the same for a codec's declared, needed and limiting ones: 41 for "4.1"; 0:
// none.
int level_number(Codec codec, const std::string& level);

}  // namespace wavecrest::bitstream
