#include "filter/rgb.hpp"

#include <algorithm>
#include <cmath>

#include "filter/depth.hpp"

namespace wavecrest::filter {
namespace {

// Luma's parts of red and blue (H.273, table 4).
struct Parts {
    double red, blue;
};
Parts parts_of(const Picture& picture) {
    constexpr Parts kBt601{0.299, 0.114}, kBt709{0.2126, 0.0722}, kBt2020{0.2627, 0.0593};
    constexpr int kHighDefinition = 720;
    switch (picture.colour.matrix) {
        case 1:
            return kBt709;
        case 5:
        case 6:
            return kBt601;
        case 9:
        case 10:
            return kBt2020;
        default:
            return picture.height >= kHighDefinition ? kBt709 : kBt601;
    }
}

std::uint8_t level(double value) {
    return static_cast<std::uint8_t>(std::clamp(std::lround(value), 0L, 255L));
}

}  // namespace

ByteVector to_rgb(const Picture& given) {
    const Picture picture = given.bit_depth > 8 ? to_depth(given, 8) : given;
    const auto [red, blue] = parts_of(picture);
    const double green = 1 - red - blue;
    const bool full = picture.colour.full_range;
    const double black = full ? 0 : 16, luma_gain = full ? 1 : 255.0 / 219, chroma_gain = full ? 1 : 255.0 / 224;
    ByteVector rgb(static_cast<std::size_t>(picture.width) * static_cast<std::size_t>(picture.height) * 3);
    std::uint8_t* out = rgb.data();
    for (int y = 0; y < picture.height; ++y) {
        const auto* luma = picture.row<std::uint8_t>(0, y);
        const auto* cb = picture.row<std::uint8_t>(1, y / 2);
        const auto* cr = picture.row<std::uint8_t>(2, y / 2);
        for (int x = 0; x < picture.width; ++x) {
            const double l = (luma[x] - black) * luma_gain;
            const double b = (cb[x / 2] - 128) * chroma_gain, r = (cr[x / 2] - 128) * chroma_gain;
            *out++ = level(l + 2 * (1 - red) * r);
            *out++ = level(l - 2 * (blue * (1 - blue) * b + red * (1 - red) * r) / green);
            *out++ = level(l + 2 * (1 - blue) * b);
        }
    }
    return rgb;
}

}  // namespace wavecrest::filter
