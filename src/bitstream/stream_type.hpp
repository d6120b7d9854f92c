// The stream types by which transport streams and Blu-ray discs name codecs: ISO/IEC 13818-1, table 2-34; ATSC A/52 and
// A/53; the Blu-ray Disc format's coding types.
#pragma once

#include "media/types.hpp"

namespace wavecrest::bitstream {

// Codec::unknown for types that are not read; 0x06 (private data) is told by descriptors.
Codec codec_of_stream_type(int type);

// What a track is written as; 0x06 where its codec has no type.
int stream_type_of(const Track& track);

}  // namespace wavecrest::bitstream
