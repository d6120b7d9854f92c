// How much a decoder buffers of a stream, and how fast it is filled: what the stream's headers claim, else what its
// level allows.
#pragma once

#include <optional>

#include "bitstream/mpeg2.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

struct DecoderBuffer {
    std::int64_t rate_bps = 0;
    std::int64_t size_bits = 0;
    bool claimed = false;  // by the header; else of the level
};
// For pictures of H.264 (annex C and table A-1), H.265 in the main profiles (tables A.8 and A.9) and, with its sequence
// header, MPEG-1 and MPEG-2; nothing for others.
std::optional<DecoderBuffer> decoder_buffer(const Track& track, const mpeg2::Sequence* sequence = nullptr);

}  // namespace wavecrest::bitstream
