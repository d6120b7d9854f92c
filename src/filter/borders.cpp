#include "filter/borders.hpp"

#include <algorithm>

namespace wavecrest::filter {
namespace {

constexpr int kDark = 32;   // of 255, in video range a little above black
constexpr int kFewest = 4;  // rows or columns that are a border

}  // namespace

std::optional<Borders> black_borders(const Picture& p) {
    return media::with_sample_type(p.bit_depth, [&](auto sample) -> std::optional<Borders> {
        using Sample = decltype(sample);
        const int dark = kDark << (p.bit_depth - 8);
        const auto dark_row = [&](int y) {
            const Sample* row = p.row<Sample>(0, y);
            return std::count_if(row, row + p.width, [&](Sample s) { return s > dark; }) * 100 < p.width;
        };
        const auto dark_column = [&](int x) {
            int bright = 0;
            for (int y = 0; y < p.height; ++y) bright += p.row<Sample>(0, y)[x] > dark ? 1 : 0;
            return bright * 100 < p.height;
        };
        Borders b;
        while (b.top < p.height && dark_row(b.top)) ++b.top;
        if (b.top == p.height) return std::nullopt;
        while (dark_row(p.height - 1 - b.bottom)) ++b.bottom;
        while (b.left < p.width && dark_column(b.left)) ++b.left;
        if (b.left == p.width) return std::nullopt;
        while (dark_column(p.width - 1 - b.right)) ++b.right;
        return b;
    });
}

Borders common(const Borders& a, const Borders& b) {
    return {std::min(a.left, b.left), std::min(a.right, b.right), std::min(a.top, b.top), std::min(a.bottom, b.bottom)};
}

Borders croppable(const Borders& borders, bool fields) {
    const auto whole = [](int size, int unit) { return size < kFewest ? 0 : size / unit * unit; };
    const int rows = fields ? 4 : 2;
    return {whole(borders.left, 2), whole(borders.right, 2), whole(borders.top, rows), whole(borders.bottom, rows)};
}

Picture cropped(Picture picture, const Borders& borders) {
    for (int plane = 0; plane < 3; ++plane) {
        const int part = plane == 0 ? 1 : 2;
        picture.planes[plane] += std::ptrdiff_t{borders.top / part} * picture.strides[plane] +
                                 std::ptrdiff_t{borders.left / part} * picture.sample_bytes();
    }
    picture.width -= borders.left + borders.right;
    picture.height -= borders.top + borders.bottom;
    return picture;
}

}  // namespace wavecrest::filter
