// Prediction from other pictures (8.4.2): whose samples, and with which weights.
#include <algorithm>
#include <cstring>

#include "codec/h264/reconstruct.hpp"

namespace wavecrest::codec::h264 {
namespace {

constexpr int kRow = 32;  // of a copy of the samples that a block needs

struct Block {
    const std::uint8_t* at;
    std::ptrdiff_t stride;
};

// Where the block's samples lie; those outside the picture are copies of its border (8.4.2.2.1), made in `copy`.
Block fetch(const std::uint8_t* plane, std::ptrdiff_t stride, int plane_width, int plane_height, int x, int y,
            int width, int height, std::uint8_t* copy) {
    if (x >= 0 && y >= 0 && x + width <= plane_width && y + height <= plane_height)
        return {plane + y * stride + x, stride};
    // Columns that lie inside, from first on.
    const int first = std::clamp(-x, 0, width), behind = std::clamp(plane_width - x, 0, width);
    for (int j = 0; j < height; ++j) {
        const std::uint8_t* row = plane + std::clamp(y + j, 0, plane_height - 1) * stride;
        std::uint8_t* const to = copy + j * kRow;
        if (first > 0) std::memset(to, row[0], static_cast<std::size_t>(first));
        if (behind > first) std::memcpy(to + first, row + x + first, static_cast<std::size_t>(behind - first));
        if (behind < width) std::memset(to + behind, row[plane_width - 1], static_cast<std::size_t>(width - behind));
    }
    return {copy, kRow};
}

// In kernels' lists by width.
int luma_size(int width) {
    return width == 16 ? 0 : width == 8 ? 1 : 2;
}

}  // namespace

void Reconstruction::inter() {
    switch (mb_->shape) {
        case Shape::whole:
            return inter_part(0, 0, 4, 4);
        case Shape::rows:
            inter_part(0, 0, 4, 2);
            return inter_part(0, 2, 4, 2);
        case Shape::columns:
            inter_part(0, 0, 2, 4);
            return inter_part(2, 0, 2, 4);
        case Shape::quarters:
            break;
    }
    for (int b = 0; b < 4; ++b) {
        const int x = b % 2 * 2, y = b / 2 * 2;
        const Shape shape = mb_->sub_shapes[static_cast<std::size_t>(b)];
        const int width = shape == Shape::whole || shape == Shape::rows ? 2 : 1;
        const int height = shape == Shape::whole || shape == Shape::columns ? 2 : 1;
        for (int j = 0; j < 2; j += height) {
            for (int i = 0; i < 2; i += width) inter_part(x + i, y + j, width, height);
        }
    }
}

// 8.4.2.3: of component 0 luma, 1 and 2 chroma.
Kernels::Weights Reconstruction::weights_of(const int (&refs)[2], int component, bool& weighted) const {
    Kernels::Weights weights;
    weighted = false;
    if (slice_->weighted == 0) return weights;
    const SliceHeader& header = slice_->header;
    const bool of_pair = work_.adaptive && mb_->field;
    if (slice_->weighted == 1) {
        weights.denominator = component == 0 ? header.luma_denominator : header.chroma_denominator;
        weighted = true;
        for (int list = 0; list < 2; ++list) {
            if (refs[list] < 0) continue;
            const auto& all = header.weights[list];
            if (all.empty()) continue;
            const auto& one =
                all[std::min(static_cast<std::size_t>(of_pair ? refs[list] >> 1 : refs[list]), all.size() - 1)];
            weights.weight[list] = one.weight[component];
            weights.offset[list] = one.offset[component];
        }
        return weights;
    }
    if (refs[0] < 0 || refs[1] < 0) return weights;
    const int kind = !of_pair ? Slice::kUsual : (row_ & 1) == 0 ? Slice::kUpper : Slice::kLower;
    const auto& table = slice_->implicit[kind];
    const std::size_t at =
        static_cast<std::size_t>(refs[0]) * slice_->samples[kind][1].size() + static_cast<std::size_t>(refs[1]);
    const int second = at < table.size() ? table[at] : 32;
    if (second == 32) return weights;  // the plain mean
    weighted = true;
    weights.denominator = 5;
    weights.weight[0] = 64 - second;
    weights.weight[1] = second;
    return weights;
}

void Reconstruction::inter_part(int bx, int by, int bw, int bh) {
    const std::size_t block8 = static_cast<std::size_t>(by / 2 * 2 + bx / 2);
    const auto block = static_cast<std::size_t>(by * 4 + bx);
    const int kind = !(work_.adaptive && mb_->field) ? Slice::kUsual : (row_ & 1) == 0 ? Slice::kUpper : Slice::kLower;
    int refs[2];
    const Slice::Samples* from[2] = {nullptr, nullptr};
    for (std::size_t list = 0; list < 2; ++list) {
        refs[list] = mb_->ref[list][block8];
        const auto& all = slice_->samples[kind][list];
        if (refs[list] < 0 || all.empty()) continue;
        from[list] = &all[std::min(static_cast<std::size_t>(refs[list]), all.size() - 1)];
        if (from[list]->planes[0] == nullptr) from[list] = nullptr;
    }
    const bool both = from[0] != nullptr && from[1] != nullptr;
    if (from[0] == nullptr && from[1] == nullptr) return;
    alignas(32) std::uint8_t made[2][16 * 16];
    alignas(32) std::uint8_t copy[(16 + 5) * kRow];
    const bool in_field = mb_->field;
    for (int component = 0; component < 3; ++component) {
        const int unit = component == 0 ? 4 : 2, size = component == 0 ? 16 : 8;
        const int width = bw * unit, height = bh * unit;
        const int x = x_ * size + bx * unit, y = (in_field ? row_ >> 1 : row_) * size + by * unit;
        std::uint8_t* const to = planes_[component].at + by * unit * planes_[component].stride + bx * unit;
        const std::ptrdiff_t to_stride = planes_[component].stride;
        for (std::size_t list = 0; list < 2; ++list) {
            if (from[list] == nullptr) continue;
            const Slice::Samples& s = *from[list];
            const Vector mv = mb_->mv(list)[block];
            std::uint8_t* const out = both ? made[list] : to;
            const std::ptrdiff_t out_stride = both ? 16 : to_stride;
            if (component == 0) {
                const int dx = mv.x & 3, dy = mv.y & 3, px = x + (mv.x >> 2), py = y + (mv.y >> 2);
                const Block at =
                    fetch(s.planes[0], s.strides[0], s.width, s.height, px - 2, py - 2, width + 5, height + 5, copy);
                if (bw == 4 && at.at != copy) foresee<Use::read>(at.at, at.stride, height + 5, size, x_);
                kernels_.luma[luma_size(width)](at.at + 2 * at.stride + 2, at.stride, dx, dy, out, out_stride, height);
            } else {
                // Table 8-9: fields of different parity lie a quarter of a chroma row apart.
                int vy = mv.y;
                if (in_field && s.bottom != ((row_ & 1) != 0)) vy += s.bottom ? -2 : 2;
                const Block at = fetch(s.planes[component], s.strides[component], s.width / 2, s.height / 2,
                                       x + (mv.x >> 3), y + (vy >> 3), width + 1, height + 1, copy);
                if (bw == 4 && at.at != copy) foresee<Use::read>(at.at, at.stride, height + 1, size, x_);
                kernels_.chroma[width == 8   ? 0
                                : width == 4 ? 1
                                             : 2](at.at, at.stride, mv.x & 7, vy & 7, out, out_stride, height);
            }
        }
        bool weighted = false;
        const Kernels::Weights w = weights_of(refs, component, weighted);
        if (both && weighted) {
            kernels_.weigh_both(to, to_stride, made[0], made[1], width, height, w);
        } else if (both) {
            kernels_.mean(to, to_stride, made[0], made[1], width, height);
        } else if (weighted) {
            const int list = from[0] != nullptr ? 0 : 1;
            kernels_.weigh(to, to_stride, width, height, w.denominator, w.weight[list], w.offset[list]);
        }
    }
}

}  // namespace wavecrest::codec::h264
