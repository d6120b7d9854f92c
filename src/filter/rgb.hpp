// Pictures for people to look at on this machine: R, G and B of 8 bits.
#pragma once

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

// Rows of three bytes a pixel, by the picture's matrix (Rec. ITU-T H.273: BT.601, BT.709 or BT.2020; unspecified is
// BT.709 from 720 lines on, else BT.601) and range. High dynamic range must be made standard before.
ByteVector to_rgb(const Picture& picture);

}  // namespace wavecrest::filter
