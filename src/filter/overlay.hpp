// Subtitles laid over pictures.
#pragma once

#include "media/types.hpp"

namespace wavecrest::filter {

// Draws the overlay's regions onto the picture, which must not be shared. A canvas of another size is stretched to the
// picture's.
void lay_over(Picture& picture, const Overlay& overlay);

}  // namespace wavecrest::filter
