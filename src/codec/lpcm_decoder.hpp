// DVD LPCM (big-endian; 20 and 24 bits in groups of two samples per channel) to sound.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

// 16-bit tracks; others are refused at the first packet.
std::unique_ptr<media::AudioDecoder> make_lpcm_decoder(const Track& track);

}  // namespace wavecrest::codec
