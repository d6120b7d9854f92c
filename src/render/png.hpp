// Pictures as PNG files (ISO/IEC 15948).
#pragma once

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::render {

// `rgb`: rows of three bytes a pixel. Replaces a file of this name.
Status write_rgb_png(const base::Path& path, int width, int height, ByteSpan rgb);

}  // namespace wavecrest::render
