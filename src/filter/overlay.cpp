#include "filter/overlay.hpp"

#include <algorithm>

namespace wavecrest::filter {
namespace {

template <typename Sample>
Sample mix(Sample under, int over, int opacity) {
    return static_cast<Sample>((under * (255 - opacity) + over * opacity + 127) / 255);
}

template <typename Sample>
void lay_over_samples(Picture& picture, const Overlay& overlay) {
    const int shift = picture.bit_depth - overlay.bit_depth;
    const auto deep = [&](int value) { return shift >= 0 ? value << shift : value >> -shift; };
    const int canvas_width = overlay.canvas_width > 0 ? overlay.canvas_width : picture.width;
    const int canvas_height = overlay.canvas_height > 0 ? overlay.canvas_height : picture.height;
    for (const Overlay::Region& region : overlay.regions) {
        if (region.width <= 0 || region.height <= 0 || region.colours.empty()) continue;
        // The part of the picture it covers, and for each of its points the one of the region.
        const auto scaled = [](int value, int to, int from) {
            return static_cast<int>(static_cast<std::int64_t>(value) * to / from);
        };
        const int left = std::clamp(scaled(region.x, picture.width, canvas_width), 0, picture.width);
        const int right = std::clamp(scaled(region.x + region.width, picture.width, canvas_width), 0, picture.width);
        const int top = std::clamp(scaled(region.y, picture.height, canvas_height), 0, picture.height);
        const int bottom =
            std::clamp(scaled(region.y + region.height, picture.height, canvas_height), 0, picture.height);
        const auto colour_at = [&](int x, int y) -> const Overlay::Colour& {
            const int column = std::clamp(scaled(x, canvas_width, picture.width) - region.x, 0, region.width - 1);
            const int row = std::clamp(scaled(y, canvas_height, picture.height) - region.y, 0, region.height - 1);
            const std::uint8_t index =
                region.pixels[static_cast<std::size_t>(row) * static_cast<std::size_t>(region.width) +
                              static_cast<std::size_t>(column)];
            return region.colours[std::min<std::size_t>(index, region.colours.size() - 1)];
        };
        for (int y = top; y < bottom; ++y) {
            Sample* row = picture.row<Sample>(0, y);
            for (int x = left; x < right; ++x) {
                const Overlay::Colour& colour = colour_at(x, y);
                if (colour.opacity != 0) row[x] = mix(row[x], deep(colour.y), colour.opacity);
            }
        }
        // Chroma samples cover two by two points: the mean of what lies over them.
        for (int y = top / 2; y < (bottom + 1) / 2; ++y) {
            for (int x = left / 2; x < (right + 1) / 2; ++x) {
                int opacity = 0, cb = 0, cr = 0;
                for (int dy = 0; dy < 2; ++dy) {
                    for (int dx = 0; dx < 2; ++dx) {
                        const int px = 2 * x + dx, py = 2 * y + dy;
                        if (px < left || px >= right || py < top || py >= bottom) continue;
                        const Overlay::Colour& colour = colour_at(px, py);
                        opacity += colour.opacity;
                        cb += colour.cb * colour.opacity;
                        cr += colour.cr * colour.opacity;
                    }
                }
                if (opacity == 0) continue;
                Sample& under_cb = picture.row<Sample>(1, y)[x];
                Sample& under_cr = picture.row<Sample>(2, y)[x];
                under_cb = mix(under_cb, deep(cb / opacity), opacity / 4);
                under_cr = mix(under_cr, deep(cr / opacity), opacity / 4);
            }
        }
    }
}

}  // namespace

void lay_over(Picture& picture, const Overlay& overlay) {
    media::with_sample_type(picture.bit_depth,
                            [&](auto sample) { lay_over_samples<decltype(sample)>(picture, overlay); });
}

void move_inside(Overlay& overlay, const Borders& cut, int width, int height) {
    if (!cut.any() || width <= 0 || height <= 0) return;
    if (overlay.canvas_width <= 0) overlay.canvas_width = width;
    if (overlay.canvas_height <= 0) overlay.canvas_height = height;
    const auto scaled = [](int value, int to, int from) {
        return static_cast<int>(static_cast<std::int64_t>(value) * to / from);
    };
    const int left = scaled(cut.left, overlay.canvas_width, width),
              top = scaled(cut.top, overlay.canvas_height, height);
    const int right = scaled(cut.right, overlay.canvas_width, width);
    const int bottom = scaled(cut.bottom, overlay.canvas_height, height);
    overlay.canvas_width -= left + right;
    overlay.canvas_height -= top + bottom;
    // All by the same way, so that letters keep their outlines and lines their distance.
    int beyond_left = 0, beyond_right = 0, beyond_top = 0, beyond_bottom = 0;
    for (Overlay::Region& region : overlay.regions) {
        region.x -= left;
        region.y -= top;
        beyond_left = std::max(beyond_left, -region.x);
        beyond_right = std::max(beyond_right, region.x + region.width - overlay.canvas_width);
        beyond_top = std::max(beyond_top, -region.y);
        beyond_bottom = std::max(beyond_bottom, region.y + region.height - overlay.canvas_height);
    }
    for (Overlay::Region& region : overlay.regions) {
        region.x += beyond_left > 0 ? beyond_left : -beyond_right;
        region.y += beyond_top > 0 ? beyond_top : -beyond_bottom;
    }
}

}  // namespace wavecrest::filter
