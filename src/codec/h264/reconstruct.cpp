#include "codec/h264/reconstruct.hpp"

#include <thread>

namespace wavecrest::codec::h264 {
namespace {

// Of the 4x4 block with this number in coding order: column and row.
int column_of(int block) {
    return block / 4 % 2 * 2 + block % 2;
}
int row_of(int block) {
    return block / 8 * 2 + block % 4 / 2;
}

}  // namespace

void Reconstruction::copy_pcm() {
    const std::int16_t* sample = coefficients_.at(mb_->coefficients);
    for (int component = 0; component < 3; ++component) {
        const Plane to = planes_[component];
        const int size = component == 0 ? 16 : 8;
        for (int y = 0; y < size; ++y) {
            for (int x = 0; x < size; ++x) to.at[y * to.stride + x] = static_cast<std::uint8_t>(*sample++);
        }
    }
}

// Of a 4x4 block, or of an 8x8 one by the first of its four.
void Reconstruction::add_luma(int block) {
    if ((mb_->nonzero >> block & 1) == 0) return;
    const Plane& luma = planes_[0];
    std::uint8_t* const at = luma.at + 4 * row_of(block) * luma.stride + 4 * column_of(block);
    if ((mb_->only_dc >> block & 1) != 0) {
        kernels_.add_dc(next_[0], at, luma.stride, mb_->transform8 ? 8 : 4);
        ++next_;
    } else if (mb_->transform8) {
        kernels_.add_8x8(next_, at, luma.stride);
        next_ += 64;
    } else {
        kernels_.add_4x4(next_, at, luma.stride);
        next_ += 16;
    }
}

void Reconstruction::add_chroma() {
    for (int block = 16; block < 24; ++block) {
        if ((mb_->nonzero >> block & 1) == 0) continue;
        const Plane& chroma = planes_[block < 20 ? 1 : 2];
        std::uint8_t* const at = chroma.at + block % 4 / 2 * 4 * chroma.stride + block % 2 * 4;
        if ((mb_->only_dc >> block & 1) != 0) {
            kernels_.add_dc(next_[0], at, chroma.stride, 4);
            ++next_;
        } else {
            kernels_.add_4x4(next_, at, chroma.stride);
            next_ += 16;
        }
    }
}

void Reconstruction::macroblock(int x, int raster_row) {
    mb_ = &work_.at(raster_row, x);
    slice_ = &Work::slice_of(*mb_);
    x_ = x;
    row_ = raster_row;
    const Picture& picture = work_.frame->picture;
    for (int c = 0; c < 3; ++c) {
        const int size = c == 0 ? 16 : 8;
        const std::ptrdiff_t stride = picture.strides[c];
        std::uint8_t* const at = picture.planes[c] + x_ * size;
        planes_[c] = !mb_->field ? Plane{at + row_ * size * stride, stride}
                                 : Plane{at + ((row_ >> 1) * 2 * size + (row_ & 1)) * stride, 2 * stride};
        foresee<Use::write>(planes_[c].at, planes_[c].stride, size, size, x_);
    }
    if (mb_->kind == Kind::pcm) return copy_pcm();
    next_ = coefficients_.at(mb_->coefficients);
    const int step = mb_->transform8 ? 4 : 1;
    if (mb_->kind == Kind::inter) {
        inter();
        if (mb_->nonzero == 0) return;
        for (int block = 0; block < 16; block += step) add_luma(block);
        return add_chroma();
    }
    if (mb_->kind == Kind::intra16) intra_16x16();
    for (int block = 0; block < 16; block += step) {
        if (mb_->kind == Kind::intra4) intra_4x4(column_of(block), row_of(block));
        if (mb_->kind == Kind::intra8) intra_8x8(column_of(block) / 2, row_of(block) / 2);
        if (mb_->nonzero != 0) add_luma(block);
    }
    intra_chroma(1);
    intra_chroma(2);
    if (mb_->nonzero != 0) add_chroma();
}

void reconstruct_row(Work& work, const Kernels& kernels, int row, const RowProgress* above, RowProgress& done) {
    Reconstruction samples(work, kernels, row);
    RowCoefficients& coefficients = work.coefficients_of(row);
    const int raster = work.raster_row(row);
    int known = above == nullptr ? work.columns : 0;
    for (int x = 0; x < work.columns; ++x) {
        // Intra prediction looks one macroblock to the right above.
        const int needed = std::min(x + 2, work.columns);
        for (int tries = 0; known < needed; ++tries) {
            known = above->load(std::memory_order_acquire);
            if (known >= needed) break;
            if (tries < 200) {
                pause();
            } else {
                std::this_thread::yield();
            }
        }
        for (int k = 0; k < work.rows_in_raster(); ++k) {
            samples.macroblock(x, raster + k);
            coefficients.give_back_until(work.at(raster + k, x).coefficients, *work.pieces);
        }
        // Who sees that the row is done may parse another one to its place.
        if (x + 1 == work.columns) coefficients.clear(*work.pieces);
        done.store(x + 1, std::memory_order_release);
    }
}

}  // namespace wavecrest::codec::h264
