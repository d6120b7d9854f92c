#include "filter/depth.hpp"

#include <algorithm>

namespace wavecrest::filter {

Picture to_depth(const Picture& picture, int bit_depth) {
    if (picture.bit_depth == bit_depth) return picture;
    Picture out = picture.allocate_alike(picture.width, picture.height, bit_depth);
    for (int plane = 0; plane < 3; ++plane) {
        const int width = picture.plane_width(plane);
        for (int y = 0; y < picture.plane_height(plane); ++y) {
            if (bit_depth > picture.bit_depth) {
                const auto* from = picture.row<std::uint8_t>(plane, y);
                auto* to = out.row<std::uint16_t>(plane, y);
                const int shift = bit_depth - picture.bit_depth;
                for (int x = 0; x < width; ++x) to[x] = static_cast<std::uint16_t>(from[x] << shift);
                continue;
            }
            // Of 10 bits.
            constexpr int kPattern[2][2] = {{0, 2}, {3, 1}};
            const int even = kPattern[y % 2][0], odd = kPattern[y % 2][1];
            const auto* from = picture.row<std::uint16_t>(plane, y);
            auto* to = out.row<std::uint8_t>(plane, y);
            for (int x = 0; x < width; ++x)
                to[x] = static_cast<std::uint8_t>(std::min((from[x] + (x % 2 == 0 ? even : odd)) >> 2, 255));
        }
    }
    return out;
}

}  // namespace wavecrest::filter
