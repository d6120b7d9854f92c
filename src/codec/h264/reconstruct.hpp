// The samples of macroblocks before deblocking: prediction (intra.cpp, inter.cpp), and what the inverse transforms add
// (reconstruct.cpp).
#pragma once

#include "codec/h264/work.hpp"

namespace wavecrest::codec::h264 {

// Rows of samples lie in as many lines of the cache, which no processor foresees. Those that begin a line further on
// are asked for, some of the `rows` with each macroblock of a line: at column x, `size` samples wide.
constexpr int kCacheLine = 64;
enum class Use { read, write };
template <Use use>
void foresee(const std::uint8_t* at, std::ptrdiff_t stride, int rows, int size, int x) {
    const int sharing = kCacheLine / size, some = (rows + sharing - 1) / sharing;
    at += kCacheLine + x % sharing * some * stride;
    for (int i = 0; i < some; ++i, at += stride) __builtin_prefetch(at, use == Use::write ? 1 : 0);
}

class Reconstruction {
  public:
    Reconstruction(const Work& work, const Kernels& kernels, int row)
        : work_(work), kernels_(kernels), coefficients_(work.coefficients_of(row)) {}

    void macroblock(int x, int raster_row);

  private:
    struct Plane {  // where this macroblock lies in one
        std::uint8_t* at;
        std::ptrdiff_t stride;
    };
    void copy_pcm();
    void add_luma(int block);
    void add_chroma();
    bool edge(int which) const { return (mb_->edges & which) != 0; }

    // intra.cpp
    void intra_4x4(int x, int y);
    void intra_8x8(int x, int y);
    void intra_16x16();
    void intra_chroma(int component);

    // inter.cpp
    void inter();
    void inter_part(int x, int y, int width, int height);  // in 4x4 blocks
    Kernels::Weights weights_of(const int (&refs)[2], int component, bool& weighted) const;

    const Work& work_;
    const Kernels& kernels_;
    const RowCoefficients& coefficients_;

    // The macroblock
    const Macroblock* mb_ = nullptr;
    const Slice* slice_ = nullptr;
    int x_ = 0, row_ = 0;
    Plane planes_[3]{};
    const std::int16_t* next_ = nullptr;  // of the next block that has coefficients
};

}  // namespace wavecrest::codec::h264
