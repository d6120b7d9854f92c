// Black borders around a picture, and the picture without them.
#pragma once

#include <optional>

#include "media/types.hpp"

namespace wavecrest::filter {

// Rows and columns of the coded picture.
struct Borders {
    int left = 0, right = 0, top = 0, bottom = 0;

    bool any() const { return left + right + top + bottom > 0; }
    bool operator==(const Borders&) const = default;
};

// Rows and columns at the edges of which less than one in a hundred samples is brighter than a little above black.
// Nothing of a picture that is all dark.
std::optional<Borders> black_borders(const Picture& picture);
// What is black in both.
Borders common(const Borders& a, const Borders& b);
// Rounded down so that fields and chroma samples stay whole, and left out on a side where it is too little to be one.
Borders croppable(const Borders& borders, bool fields);
// Shares the samples.
Picture cropped(Picture picture, const Borders& borders);

}  // namespace wavecrest::filter
