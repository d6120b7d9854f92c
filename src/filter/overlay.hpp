// Subtitles laid over pictures.
#pragma once

#include "filter/borders.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

// Draws the overlay's regions onto the picture, which must not be shared. A canvas of another size is stretched to the
// picture's.
void lay_over(Picture& picture, const Overlay& overlay);

// For pictures of which borders were cut away, of width x height before that: the regions stay where they are on what
// is left, in their own size; where one lay on a border all of them move in as far as it must.
void move_inside(Overlay& overlay, const Borders& cut, int width, int height);

}  // namespace wavecrest::filter
