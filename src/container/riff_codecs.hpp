// Codec descriptions that came with RIFF files and are used in others, too: BITMAPINFOHEADER and WAVEFORMATEX.
#pragma once

#include <string>
#include <string_view>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::container {

// A codec that isn't read, by the four characters that files give it (also QuickTime's): "Cinepak (cvid)"; the
// characters alone where they are not known.
std::string name_of_code(std::string_view code);

struct BitmapInfo {
    Codec codec = Codec::unknown;
    std::string name;  // the four characters
    int width = 0, height = 0;
    Bytes extra;  // what follows the header
};
BitmapInfo parse_bitmap_info(ByteSpan bytes);

struct WaveFormat {
    Codec codec = Codec::unknown;
    std::string name;  // for those that are not read: "format 0x1234"
    int channels = 0;
    int sample_rate = 0;
    int bits = 0;
    int block_align = 0;
    std::int64_t byte_rate = 0;
    Speakers speakers = 0;
    bool little_endian = false;  // plain samples
    bool unsigned_bytes = false;
    Bytes extra;
};
// Little-endian WAVEFORMAT, WAVEFORMATEX or WAVEFORMATEXTENSIBLE.
WaveFormat parse_wave_format(ByteSpan bytes);

}  // namespace wavecrest::container
