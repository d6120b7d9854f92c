// Pictures of one bit depth made another's.
#pragma once

#include "media/types.hpp"

namespace wavecrest::filter {

// To 8 or 10 bits; unchanged where it has them. Fewer bits are dithered by a pattern of 2x2 samples, whose means are
// exact, so that soft gradients get no steps.
Picture to_depth(const Picture& picture, int bit_depth);

}  // namespace wavecrest::filter
