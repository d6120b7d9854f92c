// Prediction from other pictures (8.4.2): samples between samples, and weights.
#include <algorithm>
#include <cstdlib>
#include <cstring>

#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

// A field or frame to predict from.
struct Source {
    const std::uint8_t* at = nullptr;
    std::ptrdiff_t stride = 0;
    int width = 0, height = 0;
};

std::uint8_t clip(int value) {
    return static_cast<std::uint8_t>(value < 0 ? 0 : value > 255 ? 255 : value);
}

constexpr int kMost = 16 + 5;  // rows and columns that a block of 16 needs
constexpr int kRow = 24;       // of a copy of them

// Where the block's samples lie; those outside the picture are copies of its border (8.4.2.2.1), made in `copy`.
Source fetch(const Source& from, int x, int y, int width, int height, std::uint8_t* copy) {
    if (x >= 0 && y >= 0 && x + width <= from.width && y + height <= from.height)
        return {from.at + y * from.stride + x, from.stride, width, height};
    for (int j = 0; j < height; ++j) {
        const std::uint8_t* row = from.at + std::clamp(y + j, 0, from.height - 1) * from.stride;
        for (int i = 0; i < width; ++i) copy[j * kRow + i] = row[std::clamp(x + i, 0, from.width - 1)];
    }
    return {copy, kRow, width, height};
}

int six(int a, int b, int c, int d, int e, int f) {
    return a - 5 * b + 20 * c + 20 * d - 5 * e + f;
}

// Blocks between: Width x height samples, rows 16 apart.
template <int Width>
void copy_block(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, int height) {
    for (int y = 0; y < height; ++y, from += stride, to += 16) std::memcpy(to, from, Width);
}
template <int Width>
void across(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, int height) {
    for (int y = 0; y < height; ++y, from += stride, to += 16) {
        for (int x = 0; x < Width; ++x)
            to[x] = clip((six(from[x - 2], from[x - 1], from[x], from[x + 1], from[x + 2], from[x + 3]) + 16) >> 5);
    }
}
template <int Width>
void down(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, int height) {
    for (int y = 0; y < height; ++y, from += stride, to += 16) {
        for (int x = 0; x < Width; ++x)
            to[x] = clip((six(from[x - 2 * stride], from[x - stride], from[x], from[x + stride], from[x + 2 * stride],
                              from[x + 3 * stride]) +
                          16) >>
                         5);
    }
}
template <int Width>
void centre(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, int height) {
    std::int16_t rows[kMost * Width];
    const std::uint8_t* at = from - 2 * stride;
    for (int y = 0; y < height + 5; ++y, at += stride) {
        for (int x = 0; x < Width; ++x)
            rows[y * Width + x] =
                static_cast<std::int16_t>(six(at[x - 2], at[x - 1], at[x], at[x + 1], at[x + 2], at[x + 3]));
    }
    for (int y = 0; y < height; ++y, to += 16) {
        const std::int16_t* r = rows + y * Width;
        for (int x = 0; x < Width; ++x)
            to[x] =
                clip((six(r[x], r[x + Width], r[x + 2 * Width], r[x + 3 * Width], r[x + 4 * Width], r[x + 5 * Width]) +
                      512) >>
                     10);
    }
}
template <int Width>
void mean(std::uint8_t* to, const std::uint8_t* other, std::ptrdiff_t stride, int height) {
    for (int y = 0; y < height; ++y, to += 16, other += stride) {
        for (int x = 0; x < Width; ++x) to[x] = static_cast<std::uint8_t>((to[x] + other[x] + 1) >> 1);
    }
}

// 8.4.2.2.1: `dx` and `dy` quarters beyond the sample at `from`.
template <int Width>
void luma_block(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to, int height) {
    alignas(16) std::uint8_t other[16 * 16];
    if (dx == 0 && dy == 0) return copy_block<Width>(from, stride, to, height);
    if (dy == 0) {
        across<Width>(from, stride, to, height);
        if (dx != 2) mean<Width>(to, from + (dx == 3 ? 1 : 0), stride, height);
    } else if (dx == 0) {
        down<Width>(from, stride, to, height);
        if (dy != 2) mean<Width>(to, from + (dy == 3 ? stride : 0), stride, height);
    } else if (dx == 2) {
        centre<Width>(from, stride, to, height);
        if (dy == 2) return;
        across<Width>(from + (dy == 3 ? stride : 0), stride, other, height);
        mean<Width>(to, other, 16, height);
    } else if (dy == 2) {
        centre<Width>(from, stride, to, height);
        down<Width>(from + (dx == 3 ? 1 : 0), stride, other, height);
        mean<Width>(to, other, 16, height);
    } else {
        across<Width>(from + (dy == 3 ? stride : 0), stride, to, height);
        down<Width>(from + (dx == 3 ? 1 : 0), stride, other, height);
        mean<Width>(to, other, 16, height);
    }
}

// 8.4.2.2.2: in eighths.
template <int Width>
void chroma_block(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to, int height) {
    const int a = (8 - dx) * (8 - dy), b = dx * (8 - dy), c = (8 - dx) * dy, d = dx * dy;
    for (int y = 0; y < height; ++y, from += stride, to += 16) {
        const std::uint8_t* below = from + stride;
        for (int x = 0; x < Width; ++x)
            to[x] =
                static_cast<std::uint8_t>((a * from[x] + b * from[x + 1] + c * below[x] + d * below[x + 1] + 32) >> 6);
    }
}

void luma(const Source& from, int x, int y, Vector mv, int width, int height, std::uint8_t* to) {
    const int dx = mv.x & 3, dy = mv.y & 3;
    x += mv.x >> 2;
    y += mv.y >> 2;
    std::uint8_t copy[kMost * kRow];
    const Source block = fetch(from, x - 2, y - 2, width + 5, height + 5, copy);
    const std::uint8_t* const at = block.at + 2 * block.stride + 2;
    if (width == 16) {
        luma_block<16>(at, block.stride, dx, dy, to, height);
    } else if (width == 8) {
        luma_block<8>(at, block.stride, dx, dy, to, height);
    } else {
        luma_block<4>(at, block.stride, dx, dy, to, height);
    }
}

void chroma(const Source& from, int x, int y, int vx, int vy, int width, int height, std::uint8_t* to) {
    const int dx = vx & 7, dy = vy & 7;
    std::uint8_t copy[kMost * kRow];
    const Source block = fetch(from, x + (vx >> 3), y + (vy >> 3), width + 1, height + 1, copy);
    if (width == 8) {
        chroma_block<8>(block.at, block.stride, dx, dy, to, height);
    } else if (width == 4) {
        chroma_block<4>(block.at, block.stride, dx, dy, to, height);
    } else {
        chroma_block<2>(block.at, block.stride, dx, dy, to, height);
    }
}

Source source_of(const Reference& reference, int component) {
    const Picture& picture = reference.frame->picture;
    Source source;
    source.at = picture.planes[component];
    source.stride = picture.strides[component];
    source.width = component == 0 ? picture.width : picture.width / 2;
    source.height = component == 0 ? picture.height : picture.height / 2;
    if (reference.structure != kFrame) {
        if (reference.structure == kBottom) source.at += source.stride;
        source.stride *= 2;
        source.height /= 2;
    }
    return source;
}

}  // namespace

// 8.4.2.3: of component 0 luma, 1 and 2 chroma.
SliceDecoder::Weights SliceDecoder::weights_of(int ref0, int ref1, int component) const {
    Weights weights;
    const bool b = header_->type == SliceType::b;
    if (!b ? !pps_->weighted_p : pps_->weighted_b == 0) return weights;
    const int shift = adaptive_ && mb_->field ? 1 : 0;
    if (!header_->weights[0].empty() || !header_->weights[1].empty()) {
        weights.explicit_weights = true;
        weights.denominator = component == 0 ? header_->luma_denominator : header_->chroma_denominator;
        const int refs[2] = {ref0, ref1};
        for (int list = 0; list < 2; ++list) {
            if (refs[list] < 0) continue;
            const auto& all = header_->weights[list];
            if (all.empty()) continue;
            const auto& one = all[std::min(static_cast<std::size_t>(refs[list] >> shift), all.size() - 1)];
            weights.weight[list] = one.weight[component];
            weights.offset[list] = one.offset[component];
        }
        return weights;
    }
    if (!b || pps_->weighted_b != 2 || ref0 < 0 || ref1 < 0) return weights;
    const Reference r0 = reference(0, ref0), r1 = reference(1, ref1);
    weights.denominator = 5;
    int second = 32;
    const int td = std::clamp(r1.order_count() - r0.order_count(), -128, 127);
    if (td != 0 && !r0.long_term() && !r1.long_term()) {
        const int tb = std::clamp(current_order() - r0.order_count(), -128, 127);
        const int tx = (16384 + std::abs(td / 2)) / td;
        const int scale = std::clamp((tb * tx + 32) >> 6, -1024, 1023) >> 2;
        if (scale >= -64 && scale <= 128) second = scale;
    }
    if (second == 32) return weights;  // the plain mean
    weights.explicit_weights = true;
    weights.weight[0] = 64 - second;
    weights.weight[1] = second;
    return weights;
}

void SliceDecoder::inter_partition(const Partition& p) {
    const std::size_t block8 = static_cast<std::size_t>(p.y / 2 * 2 + p.x / 2);
    const auto block = static_cast<std::size_t>(p.y * 4 + p.x);
    const int refs[2] = {mb_->ref[0][block8], mb_->ref[1][block8]};
    alignas(16) std::uint8_t made[2][16 * 16];
    for (int component = 0; component < 3; ++component) {
        const int unit = component == 0 ? 4 : 2, size = component == 0 ? 16 : 8;
        const int width = p.width * unit, height = p.height * unit;
        const int x = x_ * size + p.x * unit, y = (mb_->field ? row_ >> 1 : row_) * size + p.y * unit;
        int used = 0;
        for (int list = 0; list < 2; ++list) {
            if (refs[list] < 0) continue;
            const Reference ref = reference(list, refs[list]);
            if (ref.frame == nullptr || ref.frame->picture.storage == nullptr) continue;
            const Vector mv = mb_->mv[static_cast<std::size_t>(list)][block];
            const Source source = source_of(ref, component);
            if (component == 0) {
                luma(source, x, y, mv, width, height, made[list]);
            } else {
                // Table 8-9: fields of different parity lie a quarter of a chroma row apart.
                int vy = mv.y;
                if (mb_->field && ref.structure != ((row_ & 1) != 0 ? kBottom : kTop))
                    vy += ref.structure == kBottom ? -2 : 2;
                chroma(source, x, y, mv.x, vy, width, height, made[list]);
            }
            used |= 1 << list;
        }
        const Plane to = plane(component);
        std::uint8_t* at = to.at + p.y * unit * to.stride + p.x * unit;
        if (used == 0) continue;
        const Weights w = weights_of(refs[0], refs[1], component);
        if (used == 3) {
            const std::uint8_t *a = made[0], *b = made[1];
            for (int j = 0; j < height; ++j, at += to.stride, a += 16, b += 16) {
                if (!w.explicit_weights) {
                    for (int i = 0; i < width; ++i) at[i] = static_cast<std::uint8_t>((a[i] + b[i] + 1) >> 1);
                } else {
                    const int offset = (w.offset[0] + w.offset[1] + 1) >> 1;
                    for (int i = 0; i < width; ++i)
                        at[i] = clip(
                            ((a[i] * w.weight[0] + b[i] * w.weight[1] + (1 << w.denominator)) >> (w.denominator + 1)) +
                            offset);
                }
            }
            continue;
        }
        const int list = used == 1 ? 0 : 1;
        const std::uint8_t* a = made[list];
        for (int j = 0; j < height; ++j, at += to.stride, a += 16) {
            if (!w.explicit_weights) {
                std::memcpy(at, a, static_cast<std::size_t>(width));
            } else if (w.denominator > 0) {
                for (int i = 0; i < width; ++i)
                    at[i] =
                        clip(((a[i] * w.weight[list] + (1 << (w.denominator - 1))) >> w.denominator) + w.offset[list]);
            } else {
                for (int i = 0; i < width; ++i) at[i] = clip(a[i] * w.weight[list] + w.offset[list]);
            }
        }
    }
}

}  // namespace wavecrest::codec::h264
