#include "codec/h264/kernels.hpp"

#include <algorithm>
#include <cstdlib>
#include <cstring>

namespace wavecrest::codec::h264 {

const Kernels* avx2_kernels();  // null: this processor hasn't got it

namespace {

std::uint8_t clip255(int value) {
    return static_cast<std::uint8_t>(value < 0 ? 0 : value > 255 ? 255 : value);
}

int six(int a, int b, int c, int d, int e, int f) {
    return a - 5 * b + 20 * c + 20 * d - 5 * e + f;
}

template <int Width>
void copy_block(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride,
                int height) {
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) std::memcpy(to, from, Width);
}
template <int Width>
void across(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride, int height) {
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) {
        for (int x = 0; x < Width; ++x)
            to[x] = clip255((six(from[x - 2], from[x - 1], from[x], from[x + 1], from[x + 2], from[x + 3]) + 16) >> 5);
    }
}
template <int Width>
void down(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride, int height) {
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) {
        for (int x = 0; x < Width; ++x)
            to[x] = clip255((six(from[x - 2 * stride], from[x - stride], from[x], from[x + stride],
                                 from[x + 2 * stride], from[x + 3 * stride]) +
                             16) >>
                            5);
    }
}
template <int Width>
void centre(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride, int height) {
    std::int16_t rows[(16 + 5) * Width];
    const std::uint8_t* at = from - 2 * stride;
    for (int y = 0; y < height + 5; ++y, at += stride) {
        for (int x = 0; x < Width; ++x)
            rows[y * Width + x] =
                static_cast<std::int16_t>(six(at[x - 2], at[x - 1], at[x], at[x + 1], at[x + 2], at[x + 3]));
    }
    for (int y = 0; y < height; ++y, to += to_stride) {
        const std::int16_t* r = rows + y * Width;
        for (int x = 0; x < Width; ++x)
            to[x] = clip255(
                (six(r[x], r[x + Width], r[x + 2 * Width], r[x + 3 * Width], r[x + 4 * Width], r[x + 5 * Width]) +
                 512) >>
                10);
    }
}
template <int Width>
void mean_with(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* other, std::ptrdiff_t stride,
               int height) {
    for (int y = 0; y < height; ++y, to += to_stride, other += stride) {
        for (int x = 0; x < Width; ++x) to[x] = static_cast<std::uint8_t>((to[x] + other[x] + 1) >> 1);
    }
}

template <int Width>
void luma_block(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                std::ptrdiff_t to_stride, int height) {
    std::uint8_t other[16 * 16];
    if (dx == 0 && dy == 0) return copy_block<Width>(from, stride, to, to_stride, height);
    if (dy == 0) {
        across<Width>(from, stride, to, to_stride, height);
        if (dx != 2) mean_with<Width>(to, to_stride, from + (dx == 3 ? 1 : 0), stride, height);
    } else if (dx == 0) {
        down<Width>(from, stride, to, to_stride, height);
        if (dy != 2) mean_with<Width>(to, to_stride, from + (dy == 3 ? stride : 0), stride, height);
    } else if (dx == 2) {
        centre<Width>(from, stride, to, to_stride, height);
        if (dy == 2) return;
        across<Width>(from + (dy == 3 ? stride : 0), stride, other, 16, height);
        mean_with<Width>(to, to_stride, other, 16, height);
    } else if (dy == 2) {
        centre<Width>(from, stride, to, to_stride, height);
        down<Width>(from + (dx == 3 ? 1 : 0), stride, other, 16, height);
        mean_with<Width>(to, to_stride, other, 16, height);
    } else {
        across<Width>(from + (dy == 3 ? stride : 0), stride, to, to_stride, height);
        down<Width>(from + (dx == 3 ? 1 : 0), stride, other, 16, height);
        mean_with<Width>(to, to_stride, other, 16, height);
    }
}

template <int Width>
void chroma_block(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                  std::ptrdiff_t to_stride, int height) {
    const int a = (8 - dx) * (8 - dy), b = dx * (8 - dy), c = (8 - dx) * dy, d = dx * dy;
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) {
        const std::uint8_t* below = from + stride;
        for (int x = 0; x < Width; ++x)
            to[x] =
                static_cast<std::uint8_t>((a * from[x] + b * from[x + 1] + c * below[x] + d * below[x + 1] + 32) >> 6);
    }
}

void mean(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b, int width,
          int height) {
    for (int y = 0; y < height; ++y, to += to_stride, a += 16, b += 16) {
        for (int x = 0; x < width; ++x) to[x] = static_cast<std::uint8_t>((a[x] + b[x] + 1) >> 1);
    }
}

void weigh(std::uint8_t* at, std::ptrdiff_t stride, int width, int height, int denominator, int weight, int offset) {
    const int half = denominator > 0 ? 1 << (denominator - 1) : 0;
    for (int y = 0; y < height; ++y, at += stride) {
        for (int x = 0; x < width; ++x) at[x] = clip255(((at[x] * weight + half) >> denominator) + offset);
    }
}

void weigh_both(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b, int width,
                int height, const Kernels::Weights& w) {
    const int offset = (w.offset[0] + w.offset[1] + 1) >> 1;
    for (int y = 0; y < height; ++y, to += to_stride, a += 16, b += 16) {
        for (int x = 0; x < width; ++x)
            to[x] = clip255(((a[x] * w.weight[0] + b[x] * w.weight[1] + (1 << w.denominator)) >> (w.denominator + 1)) +
                            offset);
    }
}

void add_4x4(const std::int16_t* d, std::uint8_t* at, std::ptrdiff_t stride) {
    int rows[16];
    for (int i = 0; i < 4; ++i) {
        const int e0 = d[4 * i] + d[4 * i + 2], e1 = d[4 * i] - d[4 * i + 2];
        const int e2 = (d[4 * i + 1] >> 1) - d[4 * i + 3], e3 = d[4 * i + 1] + (d[4 * i + 3] >> 1);
        rows[4 * i] = e0 + e3;
        rows[4 * i + 1] = e1 + e2;
        rows[4 * i + 2] = e1 - e2;
        rows[4 * i + 3] = e0 - e3;
    }
    for (int i = 0; i < 4; ++i) {
        const int e0 = rows[i] + rows[8 + i], e1 = rows[i] - rows[8 + i];
        const int e2 = (rows[4 + i] >> 1) - rows[12 + i], e3 = rows[4 + i] + (rows[12 + i] >> 1);
        const int column[4] = {e0 + e3, e1 + e2, e1 - e2, e0 - e3};
        for (int k = 0; k < 4; ++k) at[k * stride + i] = clip255(at[k * stride + i] + ((column[k] + 32) >> 6));
    }
}

template <typename In>
void eight(const In* d, std::ptrdiff_t step, int* out) {
    const int d0 = d[0], d1 = d[step], d2 = d[2 * step], d3 = d[3 * step], d4 = d[4 * step], d5 = d[5 * step],
              d6 = d[6 * step], d7 = d[7 * step];
    const int e0 = d0 + d4, e1 = -d3 + d5 - d7 - (d7 >> 1), e2 = d0 - d4, e3 = d1 + d7 - d3 - (d3 >> 1);
    const int e4 = (d2 >> 1) - d6, e5 = -d1 + d7 + d5 + (d5 >> 1), e6 = d2 + (d6 >> 1), e7 = d3 + d5 + d1 + (d1 >> 1);
    const int f0 = e0 + e6, f1 = e1 + (e7 >> 2), f2 = e2 + e4, f3 = e3 + (e5 >> 2);
    const int f4 = e2 - e4, f5 = (e3 >> 2) - e5, f6 = e0 - e6, f7 = e7 - (e1 >> 2);
    out[0] = f0 + f7;
    out[1] = f2 + f5;
    out[2] = f4 + f3;
    out[3] = f6 + f1;
    out[4] = f6 - f1;
    out[5] = f4 - f3;
    out[6] = f2 - f5;
    out[7] = f0 - f7;
}

void add_8x8(const std::int16_t* d, std::uint8_t* at, std::ptrdiff_t stride) {
    int rows[64], column[8];
    for (int i = 0; i < 8; ++i) eight(d + 8 * i, 1, rows + 8 * i);
    for (int x = 0; x < 8; ++x) {
        eight(rows + x, 8, column);
        for (int y = 0; y < 8; ++y) at[y * stride + x] = clip255(at[y * stride + x] + ((column[y] + 32) >> 6));
    }
}

void add_dc(int coefficient, std::uint8_t* at, std::ptrdiff_t stride, int size) {
    const int value = (coefficient + 32) >> 6;
    for (int y = 0; y < size; ++y, at += stride) {
        for (int x = 0; x < size; ++x) at[x] = clip255(at[x] + value);
    }
}

template <bool Luma>
void filter_edge(std::uint8_t* at, std::ptrdiff_t step, std::ptrdiff_t along, int alpha, int beta,
                 const std::int8_t* clip) {
    constexpr int kLines = Luma ? 16 : 8;
    for (int i = 0; i < kLines; ++i, at += along) {
        const int c0 = clip != nullptr ? clip[i * 4 / kLines] : 0;
        if (c0 < 0) continue;
        const int strength = clip != nullptr ? 1 : 4;
        if constexpr (Luma) {
            filter_luma_line(at, step, alpha, beta, strength, c0);
        } else {
            filter_chroma_line(at, step, alpha, beta, strength, c0);
        }
    }
}
template <bool Luma, bool Vertical>
void edge(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip) {
    filter_edge<Luma>(at, Vertical ? 1 : stride, Vertical ? stride : 1, alpha, beta, clip);
}

}  // namespace

// 8.7.2.3 and 8.7.2.4: of one strength below 4 `clip` is tC0.
void filter_luma_line(std::uint8_t* q, std::ptrdiff_t step, int alpha, int beta, int strength, int c0) {
    const int p0 = q[-step], p1 = q[-2 * step], q0 = q[0], q1 = q[step];
    if (std::abs(p0 - q0) >= alpha || std::abs(p1 - p0) >= beta || std::abs(q1 - q0) >= beta) return;
    const int p2 = q[-3 * step], q2 = q[2 * step];
    const bool smooth_p = std::abs(p2 - p0) < beta, smooth_q = std::abs(q2 - q0) < beta;
    if (strength < 4) {
        const int c = c0 + (smooth_p ? 1 : 0) + (smooth_q ? 1 : 0);
        const int delta = std::clamp((((q0 - p0) * 4) + (p1 - q1) + 4) >> 3, -c, c);
        q[-step] = clip255(p0 + delta);
        q[0] = clip255(q0 - delta);
        if (smooth_p)
            q[-2 * step] =
                static_cast<std::uint8_t>(p1 + std::clamp((p2 + ((p0 + q0 + 1) >> 1) - 2 * p1) >> 1, -c0, c0));
        if (smooth_q)
            q[step] = static_cast<std::uint8_t>(q1 + std::clamp((q2 + ((p0 + q0 + 1) >> 1) - 2 * q1) >> 1, -c0, c0));
        return;
    }
    const bool close = std::abs(p0 - q0) < (alpha >> 2) + 2;
    if (smooth_p && close) {
        const int p3 = q[-4 * step];
        q[-step] = static_cast<std::uint8_t>((p2 + 2 * p1 + 2 * p0 + 2 * q0 + q1 + 4) >> 3);
        q[-2 * step] = static_cast<std::uint8_t>((p2 + p1 + p0 + q0 + 2) >> 2);
        q[-3 * step] = static_cast<std::uint8_t>((2 * p3 + 3 * p2 + p1 + p0 + q0 + 4) >> 3);
    } else {
        q[-step] = static_cast<std::uint8_t>((2 * p1 + p0 + q1 + 2) >> 2);
    }
    if (smooth_q && close) {
        const int q3 = q[3 * step];
        q[0] = static_cast<std::uint8_t>((p1 + 2 * p0 + 2 * q0 + 2 * q1 + q2 + 4) >> 3);
        q[step] = static_cast<std::uint8_t>((p0 + q0 + q1 + q2 + 2) >> 2);
        q[2 * step] = static_cast<std::uint8_t>((2 * q3 + 3 * q2 + q1 + q0 + p0 + 4) >> 3);
    } else {
        q[0] = static_cast<std::uint8_t>((2 * q1 + q0 + p1 + 2) >> 2);
    }
}

void filter_chroma_line(std::uint8_t* q, std::ptrdiff_t step, int alpha, int beta, int strength, int c0) {
    const int p0 = q[-step], p1 = q[-2 * step], q0 = q[0], q1 = q[step];
    if (std::abs(p0 - q0) >= alpha || std::abs(p1 - p0) >= beta || std::abs(q1 - q0) >= beta) return;
    if (strength == 4) {
        q[-step] = static_cast<std::uint8_t>((2 * p1 + p0 + q1 + 2) >> 2);
        q[0] = static_cast<std::uint8_t>((2 * q1 + q0 + p1 + 2) >> 2);
        return;
    }
    const int c = c0 + 1;
    const int delta = std::clamp((((q0 - p0) * 4) + (p1 - q1) + 4) >> 3, -c, c);
    q[-step] = clip255(p0 + delta);
    q[0] = clip255(q0 - delta);
}

const Kernels& plain_kernels() {
    static constexpr Kernels kPlain = {"plain",
                                       {luma_block<16>, luma_block<8>, luma_block<4>},
                                       {chroma_block<8>, chroma_block<4>, chroma_block<2>},
                                       mean,
                                       weigh,
                                       weigh_both,
                                       add_4x4,
                                       add_8x8,
                                       add_dc,
                                       edge<true, true>,
                                       edge<true, false>,
                                       edge<false, true>,
                                       edge<false, false>};
    return kPlain;
}

const Kernels& best_kernels() {
    static const Kernels* const best = avx2_kernels();
    return best != nullptr ? *best : plain_kernels();
}

}  // namespace wavecrest::codec::h264
