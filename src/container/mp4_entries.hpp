// Sample descriptions (ISO/IEC 14496-12, 8.5.2): what an MP4 track is coded in.
#pragma once

#include "container/mp4_reader.hpp"

namespace wavecrest::container::mp4 {

// Fills in codec, configuration, form and payload of a track whose kind is known, from the body of its stsd box. What
// is not known stays `Codec::unknown` with the entry's four characters as its profile.
void parse_sample_entries(ByteSpan stsd, Mp4Track& track);

}  // namespace wavecrest::container::mp4
