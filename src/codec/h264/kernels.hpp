// The loops over samples that decoding spends its time in: prediction from other pictures, inverse transforms, and the
// deblocking of straight edges. One plain set says what is computed; another of AVX2 gives the same, bit by bit.
#pragma once

#include <cstddef>
#include <cstdint>

namespace wavecrest::codec::h264 {

struct Kernels {
    const char* name;

    // Blocks of 16, 8 and 4 samples' width. `from` is the sample that the whole part of the vector points to; samples
    // from 2 to the left and above to 3 to the right and below are read where dx or dy, in quarters, ask for them
    // (8.4.2.2.1).
    using Luma = void (*)(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                          std::ptrdiff_t to_stride, int height);
    Luma luma[3];
    // Of 8, 4 and 2 samples; in eighths (8.4.2.2.2). One column and one row more are read.
    using Chroma = void (*)(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                            std::ptrdiff_t to_stride, int height);
    Chroma chroma[3];
    // (a + b + 1) >> 1; rows of a and b are 16 apart (8.4.2.3.1).
    void (*mean)(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b, int width,
                 int height);
    // 8.4.2.3.2, of one prediction in place, and of two.
    struct Weights {
        int denominator = 0;  // logWD
        int weight[2] = {1, 1}, offset[2] = {0, 0};
    };
    void (*weigh)(std::uint8_t* at, std::ptrdiff_t stride, int width, int height, int denominator, int weight,
                  int offset);
    void (*weigh_both)(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b,
                       int width, int height, const Weights& weights);

    // Inverse transforms of scaled coefficients in raster order, added to what was predicted (8.5.12, 8.5.13).
    void (*add_4x4)(const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride);
    void (*add_8x8)(const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride);
    // The same where only the first coefficient isn't 0: `size` 4 or 8.
    void (*add_dc)(int coefficient, std::uint8_t* at, std::ptrdiff_t stride, int size);

    // An edge of a macroblock: 16 samples of luma, 8 of chroma (8.7.2). `at` is the first sample behind it, q0;
    // `vertical` edges stand between columns. `clip` holds tC0 of each quarter of the edge, -1 where nothing is
    // filtered; null: strength 4 everywhere.
    using EdgeFilter = void (*)(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip);
    EdgeFilter luma_vertical, luma_horizontal, chroma_vertical, chroma_horizontal;
};

const Kernels& plain_kernels();
// Those of AVX2 where this processor has it, or else the plain ones.
const Kernels& best_kernels();

// One line of samples across an edge of luma or chroma; `step` goes from p0 to q0.
void filter_luma_line(std::uint8_t* q, std::ptrdiff_t step, int alpha, int beta, int strength, int clip);
void filter_chroma_line(std::uint8_t* q, std::ptrdiff_t step, int alpha, int beta, int strength, int clip);

}  // namespace wavecrest::codec::h264
