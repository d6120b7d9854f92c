// The samples of a macroblock before deblocking: prediction, and what the inverse transforms add (8.5).
#include <algorithm>
#include <cstring>

#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

std::uint8_t clip(int value) {
    return static_cast<std::uint8_t>(value < 0 ? 0 : value > 255 ? 255 : value);
}

// 8.5.12
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
        for (int k = 0; k < 4; ++k) at[k * stride + i] = clip(at[k * stride + i] + ((column[k] + 32) >> 6));
    }
}

// 8.5.13
template <typename In>
void eight(const In* d, std::ptrdiff_t step, int* out, std::ptrdiff_t out_step) {
    const int d0 = d[0], d1 = d[step], d2 = d[2 * step], d3 = d[3 * step], d4 = d[4 * step], d5 = d[5 * step],
              d6 = d[6 * step], d7 = d[7 * step];
    const int e0 = d0 + d4, e1 = -d3 + d5 - d7 - (d7 >> 1), e2 = d0 - d4, e3 = d1 + d7 - d3 - (d3 >> 1);
    const int e4 = (d2 >> 1) - d6, e5 = -d1 + d7 + d5 + (d5 >> 1), e6 = d2 + (d6 >> 1), e7 = d3 + d5 + d1 + (d1 >> 1);
    const int f0 = e0 + e6, f1 = e1 + (e7 >> 2), f2 = e2 + e4, f3 = e3 + (e5 >> 2);
    const int f4 = e2 - e4, f5 = (e3 >> 2) - e5, f6 = e0 - e6, f7 = e7 - (e1 >> 2);
    out[0] = f0 + f7;
    out[out_step] = f2 + f5;
    out[2 * out_step] = f4 + f3;
    out[3 * out_step] = f6 + f1;
    out[4 * out_step] = f6 - f1;
    out[5 * out_step] = f4 - f3;
    out[6 * out_step] = f2 - f5;
    out[7 * out_step] = f0 - f7;
}

void add_8x8(const std::int16_t* d, std::uint8_t* at, std::ptrdiff_t stride) {
    int rows[64], columns[64];
    for (int i = 0; i < 8; ++i) eight(d + 8 * i, 1, rows + 8 * i, 1);
    for (int i = 0; i < 8; ++i) eight(rows + i, 8, columns + i, 8);
    for (int y = 0; y < 8; ++y) {
        for (int x = 0; x < 8; ++x) at[y * stride + x] = clip(at[y * stride + x] + ((columns[8 * y + x] + 32) >> 6));
    }
}

// Of the 4x4 block with this number in coding order: column and row.
int column_of(int block) {
    return block / 4 % 2 * 2 + block % 2;
}
int row_of(int block) {
    return block / 8 * 2 + block % 4 / 2;
}

}  // namespace

SliceDecoder::Plane SliceDecoder::plane(int component) const {
    const Picture& picture = frame_->picture;
    const int size = component == 0 ? 16 : 8;
    const std::ptrdiff_t stride = picture.strides[component];
    std::uint8_t* const at = picture.planes[component] + x_ * size;
    if (!mb_->field) return {at + row_ * size * stride, stride};
    return {at + ((row_ >> 1) * 2 * size + (row_ & 1)) * stride, 2 * stride};
}

void SliceDecoder::copy_pcm() {
    const std::int16_t* sample = coefficients_;
    for (int component = 0; component < 3; ++component) {
        const Plane to = plane(component);
        const int size = component == 0 ? 16 : 8;
        for (int y = 0; y < size; ++y) {
            for (int x = 0; x < size; ++x) to.at[y * to.stride + x] = static_cast<std::uint8_t>(*sample++);
        }
    }
}

// Of a 4x4 block, or of an 8x8 one by the first of its four.
void SliceDecoder::add_luma(int block) {
    if ((nonzero_ >> block & 1) == 0) return;
    const Plane luma = plane(0);
    std::uint8_t* const at = luma.at + 4 * row_of(block) * luma.stride + 4 * column_of(block);
    if (mb_->transform8) {
        add_8x8(coefficients_ + 16 * block, at, luma.stride);
    } else {
        add_4x4(coefficients_ + 16 * block, at, luma.stride);
    }
}

void SliceDecoder::add_chroma() {
    for (int block = 16; block < 24; ++block) {
        if ((nonzero_ >> block & 1) == 0) continue;
        const Plane chroma = plane(block < 20 ? 1 : 2);
        add_4x4(coefficients_ + 16 * block, chroma.at + block % 4 / 2 * 4 * chroma.stride + block % 2 * 4,
                chroma.stride);
    }
}

void SliceDecoder::reconstruct() {
    if (mb_->kind == Kind::pcm) return copy_pcm();
    const int step = mb_->transform8 ? 4 : 1;
    if (mb_->kind == Kind::inter) {
        for (int i = 0; i < part_count_; ++i) inter_partition(parts_[i]);
        for (int block = 0; block < 16; block += step) add_luma(block);
        return add_chroma();
    }
    find_intra_edges();
    if (mb_->kind == Kind::intra16) intra_16x16();
    for (int block = 0; block < 16; block += step) {
        if (mb_->kind == Kind::intra4) intra_4x4(column_of(block), row_of(block));
        if (mb_->kind == Kind::intra8) intra_8x8(column_of(block) / 2, row_of(block) / 2);
        add_luma(block);
    }
    intra_chroma(1);
    intra_chroma(2);
    add_chroma();
}

}  // namespace wavecrest::codec::h264
