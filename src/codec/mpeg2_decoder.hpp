// MPEG-1/2 video to pictures, by libmpeg2.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

// Pictures carry the times of their packets, field counts and the progressive flag. 4:2:0 only; other formats are
// refused at their first picture.
std::unique_ptr<media::VideoDecoder> make_mpeg2_decoder(const Track& track);

}  // namespace wavecrest::codec
