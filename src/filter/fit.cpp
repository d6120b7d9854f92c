#include "filter/fit.hpp"

#include <algorithm>
#include <cmath>
#include <cstring>

namespace wavecrest::filter {
namespace {

// Shapes that differ by less are the same: sizes are rounded.
constexpr double kSameShape = 0.02;

double shape_of(base::Size size, Ratio pixel_aspect) {
    const double pixel = pixel_aspect.num > 0 && pixel_aspect.den > 0
                             ? static_cast<double>(pixel_aspect.num) / static_cast<double>(pixel_aspect.den)
                             : 1;
    return pixel * size.width / std::max(size.height, 1);
}

int even(double size, int most) {
    return std::clamp(static_cast<int>(std::lround(size / 2)) * 2, 2, most);
}

// Video black of every depth and range.
template <typename Sample>
void blacken(Picture& picture) {
    const int shift = picture.bit_depth - 8;
    for (int plane = 0; plane < 3; ++plane) {
        const int level = plane > 0 ? 128 : picture.colour.full_range ? 0 : 16;
        for (int y = 0; y < picture.plane_height(plane); ++y) {
            Sample* row = picture.row<Sample>(plane, y);
            std::fill(row, row + picture.plane_width(plane), static_cast<Sample>(level << shift));
        }
    }
}

Picture in_the_middle(const Picture& picture, base::Size of) {
    Picture out = picture.allocate_alike(of.width, of.height);
    media::with_sample_type(picture.bit_depth, [&](auto sample) { blacken<decltype(sample)>(out); });
    // Even, so that chroma stays where it is.
    const int left = (of.width - picture.width) / 4 * 2, top = (of.height - picture.height) / 4 * 2;
    for (int plane = 0; plane < 3; ++plane) {
        const int part = plane == 0 ? 1 : 2;
        for (int y = 0; y < picture.plane_height(plane); ++y)
            std::memcpy(out.row<std::uint8_t>(plane, top / part + y) + left / part * picture.sample_bytes(),
                        picture.row<std::uint8_t>(plane, y), picture.row_bytes(plane));
    }
    return out;
}

}  // namespace

base::Size Fitter::room_for(const Picture& picture) {
    const base::Size size{picture.width, picture.height};
    const double shape = shape_of(size, picture.pixel_aspect);
    if (!shape_) shape_ = size == planned_ ? shape : shape_of(to_, pixel_aspect_);
    const double wider = shape / *shape_;
    if (std::abs(wider - 1) < kSameShape) return to_;
    return wider > 1 ? base::Size{to_.width, even(to_.height / wider, to_.height)}
                     : base::Size{even(to_.width * wider, to_.width), to_.height};
}

Result<Picture> Fitter::apply(Picture picture) {
    const base::Size size{picture.width, picture.height};
    const base::Size room = room_for(picture);
    if (size == to_ && room == to_) return picture;
    if (!scaler_ || size != from_ || room != room_ || picture.bit_depth != depth_) {
        WAVECREST_TRY_ASSIGN(
            scaler, Scaler::create(size.width, size.height, room.width, room.height, pixel_aspect_, picture.bit_depth));
        scaler_ = std::move(scaler);
        from_ = size;
        room_ = room;
        depth_ = picture.bit_depth;
    }
    WAVECREST_TRY_ASSIGN(scaled, scaler_->apply(picture));
    return room == to_ ? std::move(scaled) : in_the_middle(scaled, to_);
}

}  // namespace wavecrest::filter
