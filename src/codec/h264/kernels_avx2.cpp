// The kernels for processors with AVX2: sixteen samples of 16 bits at once.
#include "codec/h264/kernels.hpp"

#if defined(__x86_64__)

#include <immintrin.h>

#include <cstring>

// Everything from here on may be compiled to AVX2; nothing of it runs elsewhere.
#if defined(__clang__)
#pragma clang attribute push(__attribute__((target("avx2"))), apply_to = function)
#else
#pragma GCC push_options
#pragma GCC target("avx2")
#endif

namespace wavecrest::codec::h264 {
namespace {

using V8 = __m128i;   // eight of 16 bits
using V16 = __m256i;  // sixteen

// Samples widened to 16 bits, and back with both ends clipped: W of them, from and to unaligned places.
template <int W>
struct Lanes;

template <>
struct Lanes<16> {
    using V = V16;
    static V load(const std::uint8_t* p) {
        return _mm256_cvtepu8_epi16(_mm_loadu_si128(reinterpret_cast<const __m128i*>(p)));
    }
    static void store(std::uint8_t* p, V v) {
        const __m128i packed = _mm_packus_epi16(_mm256_castsi256_si128(v), _mm256_extracti128_si256(v, 1));
        _mm_storeu_si128(reinterpret_cast<__m128i*>(p), packed);
    }
    static V add(V a, V b) { return _mm256_add_epi16(a, b); }
    static V adds(V a, V b) { return _mm256_adds_epi16(a, b); }
    static V sub(V a, V b) { return _mm256_sub_epi16(a, b); }
    template <int N>
    static V left(V a) {
        return _mm256_slli_epi16(a, N);
    }
    template <int N>
    static V right(V a) {
        return _mm256_srai_epi16(a, N);
    }
    static V all(int value) { return _mm256_set1_epi16(static_cast<short>(value)); }
    static V load16(const std::int16_t* p) { return _mm256_loadu_si256(reinterpret_cast<const __m256i*>(p)); }
    static void store16(std::int16_t* p, V v) { _mm256_storeu_si256(reinterpret_cast<__m256i*>(p), v); }
    static V times(V a, V b) { return _mm256_mullo_epi16(a, b); }
};

template <>
struct Lanes<8> {
    using V = V8;
    static V load(const std::uint8_t* p) {
        return _mm_cvtepu8_epi16(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(p)));
    }
    static void store(std::uint8_t* p, V v) { _mm_storel_epi64(reinterpret_cast<__m128i*>(p), _mm_packus_epi16(v, v)); }
    static V add(V a, V b) { return _mm_add_epi16(a, b); }
    static V adds(V a, V b) { return _mm_adds_epi16(a, b); }
    static V sub(V a, V b) { return _mm_sub_epi16(a, b); }
    template <int N>
    static V left(V a) {
        return _mm_slli_epi16(a, N);
    }
    template <int N>
    static V right(V a) {
        return _mm_srai_epi16(a, N);
    }
    static V all(int value) { return _mm_set1_epi16(static_cast<short>(value)); }
    static V load16(const std::int16_t* p) { return _mm_loadu_si128(reinterpret_cast<const __m128i*>(p)); }
    static void store16(std::int16_t* p, V v) { _mm_storeu_si128(reinterpret_cast<__m128i*>(p), v); }
    static V times(V a, V b) { return _mm_mullo_epi16(a, b); }
};

int load_int(const std::uint8_t* p) {
    int value;
    std::memcpy(&value, p, 4);
    return value;
}

template <>
struct Lanes<4> : Lanes<8> {
    static V load(const std::uint8_t* p) { return _mm_cvtepu8_epi16(_mm_cvtsi32_si128(load_int(p))); }
    static void store(std::uint8_t* p, V v) {
        const int value = _mm_cvtsi128_si32(_mm_packus_epi16(v, v));
        std::memcpy(p, &value, 4);
    }
};
template <>
struct Lanes<2> : Lanes<4> {
    static void store(std::uint8_t* p, V v) {
        const int value = _mm_cvtsi128_si32(_mm_packus_epi16(v, v));
        std::memcpy(p, &value, 2);
    }
    static V load(const std::uint8_t* p) {
        std::uint16_t value;
        std::memcpy(&value, p, 2);
        return _mm_cvtepu8_epi16(_mm_cvtsi32_si128(value));
    }
};

// a - 5b + 20c of sums of the outer, middle and inner pair.
template <typename L>
typename L::V taps(typename L::V a, typename L::V b, typename L::V c) {
    const auto t = L::sub(L::template left<2>(c), b);
    return L::add(a, L::add(t, L::template left<2>(t)));
}
template <typename L>
typename L::V half(typename L::V sum) {
    return L::template right<5>(L::add(sum, L::all(16)));
}

// Bytes of W samples for averages.
template <int W>
__m128i bytes(const std::uint8_t* p) {
    if constexpr (W == 16) return _mm_loadu_si128(reinterpret_cast<const __m128i*>(p));
    if constexpr (W == 8) return _mm_loadl_epi64(reinterpret_cast<const __m128i*>(p));
    return _mm_cvtsi32_si128(load_int(p));
}
template <int W>
void put_bytes(std::uint8_t* p, __m128i v) {
    if constexpr (W == 16) {
        _mm_storeu_si128(reinterpret_cast<__m128i*>(p), v);
    } else if constexpr (W == 8) {
        _mm_storel_epi64(reinterpret_cast<__m128i*>(p), v);
    } else {
        const int value = _mm_cvtsi128_si32(v);
        std::memcpy(p, &value, 4);
    }
}
template <int W>
__m128i pack(typename Lanes<W>::V v) {
    if constexpr (W == 16) {
        return _mm_packus_epi16(_mm256_castsi256_si128(v), _mm256_extracti128_si256(v, 1));
    } else {
        return _mm_packus_epi16(v, v);
    }
}

template <int W>
void copy_block(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride,
                int height) {
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) put_bytes<W>(to, bytes<W>(from));
}

template <int W>
typename Lanes<W>::V row_taps(const std::uint8_t* p) {
    using L = Lanes<W>;
    return taps<L>(L::add(L::load(p - 2), L::load(p + 3)), L::add(L::load(p - 1), L::load(p + 2)),
                   L::add(L::load(p), L::load(p + 1)));
}

// Between columns; `other` (null: none) is averaged in.
template <int W>
void across(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride, int height,
            const std::uint8_t* other, std::ptrdiff_t other_stride) {
    using L = Lanes<W>;
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) {
        __m128i v = pack<W>(half<L>(row_taps<W>(from)));
        if (other != nullptr) v = _mm_avg_epu8(v, bytes<W>(other + y * other_stride));
        put_bytes<W>(to, v);
    }
}
template <int W>
void down(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride, int height,
          const std::uint8_t* other, std::ptrdiff_t other_stride) {
    using L = Lanes<W>;
    auto a = L::load(from - 2 * stride), b = L::load(from - stride), c = L::load(from), d = L::load(from + stride),
         e = L::load(from + 2 * stride);
    from += 3 * stride;
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) {
        const auto f = L::load(from);
        __m128i v = pack<W>(half<L>(taps<L>(L::add(a, f), L::add(b, e), L::add(c, d))));
        if (other != nullptr) v = _mm_avg_epu8(v, bytes<W>(other + y * other_stride));
        put_bytes<W>(to, v);
        a = b;
        b = c;
        c = d;
        d = e;
        e = f;
    }
}
// Between columns of sums between rows, or the other way round: 16 bits suffice when the sum of 20c is made by steps of
// a quarter, whose fractions don't matter (floor of a floor).
template <int W>
void centre(const std::uint8_t* from, std::ptrdiff_t stride, std::uint8_t* to, std::ptrdiff_t to_stride, int height,
            const std::uint8_t* other, std::ptrdiff_t other_stride) {
    using L = Lanes<W>;
    auto a = row_taps<W>(from - 2 * stride), b = row_taps<W>(from - stride), c = row_taps<W>(from),
         d = row_taps<W>(from + stride), e = row_taps<W>(from + 2 * stride);
    from += 3 * stride;
    for (int y = 0; y < height; ++y, from += stride, to += to_stride) {
        const auto f = row_taps<W>(from);
        const auto outer = L::add(a, f), middle = L::add(b, e), inner = L::add(c, d);
        auto t = L::template right<2>(L::sub(outer, middle));
        t = L::template right<2>(L::adds(L::sub(t, middle), inner));
        t = L::template right<6>(L::add(L::add(t, inner), L::all(32)));
        __m128i v = pack<W>(t);
        if (other != nullptr) v = _mm_avg_epu8(v, bytes<W>(other + y * other_stride));
        put_bytes<W>(to, v);
        a = b;
        b = c;
        c = d;
        d = e;
        e = f;
    }
}

template <int W>
void luma_block(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                std::ptrdiff_t to_stride, int height) {
    alignas(32) std::uint8_t made[16 * 16];
    const std::uint8_t* const right = from + (dx == 3 ? 1 : 0);
    const std::uint8_t* const below = from + (dy == 3 ? stride : 0);
    if (dx == 0 && dy == 0) return copy_block<W>(from, stride, to, to_stride, height);
    if (dy == 0) return across<W>(from, stride, to, to_stride, height, dx == 2 ? nullptr : right, stride);
    if (dx == 0) return down<W>(from, stride, to, to_stride, height, dy == 2 ? nullptr : below, stride);
    if (dx == 2 && dy == 2) return centre<W>(from, stride, to, to_stride, height, nullptr, 0);
    if (dx == 2) {
        across<W>(below, stride, made, 16, height, nullptr, 0);
        return centre<W>(from, stride, to, to_stride, height, made, 16);
    }
    if (dy == 2) {
        down<W>(right, stride, made, 16, height, nullptr, 0);
        return centre<W>(from, stride, to, to_stride, height, made, 16);
    }
    across<W>(below, stride, made, 16, height, nullptr, 0);
    down<W>(right, stride, to, to_stride, height, made, 16);
}

// Samples and their right neighbours in turn.
template <int W>
__m128i with_next(const std::uint8_t* p) {
    if constexpr (W == 8) {
        const __m128i here = _mm_loadl_epi64(reinterpret_cast<const __m128i*>(p)),
                      next = _mm_loadl_epi64(reinterpret_cast<const __m128i*>(p + 1));
        return _mm_unpacklo_epi8(here, next);
    } else if constexpr (W == 4) {
        return _mm_unpacklo_epi8(_mm_cvtsi32_si128(load_int(p)), _mm_cvtsi32_si128(load_int(p + 1)));
    } else {
        const int pairs = p[0] | p[1] << 8 | p[1] << 16 | p[2] << 24;
        return _mm_cvtsi32_si128(pairs);
    }
}
template <int W>
void chroma_block(const std::uint8_t* from, std::ptrdiff_t stride, int dx, int dy, std::uint8_t* to,
                  std::ptrdiff_t to_stride, int height) {
    using L = Lanes<W>;
    if (dx == 0 && dy == 0) {
        for (int y = 0; y < height; ++y, from += stride, to += to_stride)
            std::memcpy(to, from, static_cast<std::size_t>(W));
        return;
    }
    // Weights of 8 bits, of a sample and its neighbour in each pair.
    const auto pair = [](int first, int second) { return _mm_set1_epi16(static_cast<short>(first | second << 8)); };
    const __m128i upper = pair((8 - dx) * (8 - dy), dx * (8 - dy)), lower = pair((8 - dx) * dy, dx * dy),
                  rounding = _mm_set1_epi16(32);
    __m128i here = with_next<W>(from);
    for (int y = 0; y < height; ++y, to += to_stride) {
        from += stride;
        const __m128i below = with_next<W>(from);
        const __m128i sum = _mm_add_epi16(_mm_maddubs_epi16(here, upper), _mm_maddubs_epi16(below, lower));
        L::store(to, _mm_srli_epi16(_mm_add_epi16(sum, rounding), 6));
        here = below;
    }
}

template <int W>
void mean_of(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b, int height) {
    for (int y = 0; y < height; ++y, to += to_stride, a += 16, b += 16)
        put_bytes<W>(to, _mm_avg_epu8(bytes<W>(a), bytes<W>(b)));
}
void mean(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b, int width,
          int height) {
    if (width == 16) return mean_of<16>(to, to_stride, a, b, height);
    if (width == 8) return mean_of<8>(to, to_stride, a, b, height);
    if (width == 4) return mean_of<4>(to, to_stride, a, b, height);
    for (int y = 0; y < height; ++y, to += to_stride, a += 16, b += 16) {
        for (int x = 0; x < width; ++x) to[x] = static_cast<std::uint8_t>((a[x] + b[x] + 1) >> 1);
    }
}

// Eight samples at a time in 32 bits: weights reach -128 to 127, and sums of two 17 bits.
template <int W>
__m256i wide(const std::uint8_t* p) {
    if constexpr (W == 8) return _mm256_cvtepu8_epi32(_mm_loadl_epi64(reinterpret_cast<const __m128i*>(p)));
    std::uint32_t value = 0;
    std::memcpy(&value, p, static_cast<std::size_t>(W));
    return _mm256_cvtepu8_epi32(_mm_cvtsi32_si128(static_cast<int>(value)));
}
template <int W>
void narrow(std::uint8_t* p, __m256i v) {
    const __m128i words = _mm_packs_epi32(_mm256_castsi256_si128(v), _mm256_extracti128_si256(v, 1));
    const __m128i packed = _mm_packus_epi16(words, words);
    std::uint64_t value = static_cast<std::uint64_t>(_mm_cvtsi128_si64(packed));
    std::memcpy(p, &value, static_cast<std::size_t>(W));
}
template <int W>
void weigh_columns(std::uint8_t* at, std::ptrdiff_t stride, int height, int denominator, int weight, int offset) {
    const __m256i w = _mm256_set1_epi32(weight), o = _mm256_set1_epi32(offset),
                  half_step = _mm256_set1_epi32(denominator > 0 ? 1 << (denominator - 1) : 0);
    const __m128i shift = _mm_cvtsi32_si128(denominator);
    for (int y = 0; y < height; ++y, at += stride) {
        const __m256i sum = _mm256_add_epi32(_mm256_mullo_epi32(wide<W>(at), w), half_step);
        narrow<W>(at, _mm256_add_epi32(_mm256_sra_epi32(sum, shift), o));
    }
}
void weigh(std::uint8_t* at, std::ptrdiff_t stride, int width, int height, int denominator, int weight, int offset) {
    for (int x = 0; x + 8 <= width; x += 8) weigh_columns<8>(at + x, stride, height, denominator, weight, offset);
    if (width == 4) weigh_columns<4>(at, stride, height, denominator, weight, offset);
    if (width == 2) weigh_columns<2>(at, stride, height, denominator, weight, offset);
}
template <int W>
void weigh_both_columns(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b,
                        int height, const Kernels::Weights& w) {
    const __m256i w0 = _mm256_set1_epi32(w.weight[0]), w1 = _mm256_set1_epi32(w.weight[1]),
                  o = _mm256_set1_epi32((w.offset[0] + w.offset[1] + 1) >> 1),
                  half_step = _mm256_set1_epi32(1 << w.denominator);
    const __m128i shift = _mm_cvtsi32_si128(w.denominator + 1);
    for (int y = 0; y < height; ++y, to += to_stride, a += 16, b += 16) {
        const __m256i sum = _mm256_add_epi32(
            _mm256_add_epi32(_mm256_mullo_epi32(wide<W>(a), w0), _mm256_mullo_epi32(wide<W>(b), w1)), half_step);
        narrow<W>(to, _mm256_add_epi32(_mm256_sra_epi32(sum, shift), o));
    }
}
void weigh_both(std::uint8_t* to, std::ptrdiff_t to_stride, const std::uint8_t* a, const std::uint8_t* b, int width,
                int height, const Kernels::Weights& w) {
    for (int x = 0; x + 8 <= width; x += 8) weigh_both_columns<8>(to + x, to_stride, a + x, b + x, height, w);
    if (width == 4) weigh_both_columns<4>(to, to_stride, a, b, height, w);
    if (width == 2) weigh_both_columns<2>(to, to_stride, a, b, height, w);
}

// The inverse transform of four values in each of the registers' lanes.
void four(V8& a, V8& b, V8& c, V8& d) {
    const V8 e0 = _mm_add_epi16(a, c), e1 = _mm_sub_epi16(a, c), e2 = _mm_sub_epi16(_mm_srai_epi16(b, 1), d),
             e3 = _mm_add_epi16(b, _mm_srai_epi16(d, 1));
    a = _mm_add_epi16(e0, e3);
    b = _mm_add_epi16(e1, e2);
    c = _mm_sub_epi16(e1, e2);
    d = _mm_sub_epi16(e0, e3);
}
void add_row(std::uint8_t* at, V8 values) {
    Lanes<4>::store(at, _mm_add_epi16(Lanes<4>::load(at), values));
}
void add_4x4(const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride) {
    const auto load = [&](int i) { return _mm_loadl_epi64(reinterpret_cast<const __m128i*>(coefficients + 4 * i)); };
    const auto turn = [](V8& a, V8& b, V8& c, V8& d) {
        const V8 ab = _mm_unpacklo_epi16(a, b), cd = _mm_unpacklo_epi16(c, d);
        const V8 low = _mm_unpacklo_epi32(ab, cd), high = _mm_unpackhi_epi32(ab, cd);
        a = low;
        b = _mm_unpackhi_epi64(low, low);
        c = high;
        d = _mm_unpackhi_epi64(high, high);
    };
    V8 a = load(0), b = load(1), c = load(2), d = load(3);
    turn(a, b, c, d);
    four(a, b, c, d);
    turn(a, b, c, d);
    four(a, b, c, d);
    const V8 rounding = _mm_set1_epi16(32);
    const auto scaled = [&](V8 v) { return _mm_srai_epi16(_mm_add_epi16(v, rounding), 6); };
    add_row(at, scaled(a));
    add_row(at + stride, scaled(b));
    add_row(at + 2 * stride, scaled(c));
    add_row(at + 3 * stride, scaled(d));
}

void eight(V8 (&d)[8]) {
    const auto add = [](V8 x, V8 y) { return _mm_add_epi16(x, y); };
    const auto sub = [](V8 x, V8 y) { return _mm_sub_epi16(x, y); };
    const auto half_of = [](V8 x) { return _mm_srai_epi16(x, 1); };
    const auto quarter = [](V8 x) { return _mm_srai_epi16(x, 2); };
    const V8 e0 = add(d[0], d[4]), e2 = sub(d[0], d[4]), e4 = sub(half_of(d[2]), d[6]), e6 = add(d[2], half_of(d[6]));
    const V8 e1 = sub(sub(sub(d[5], d[3]), d[7]), half_of(d[7])), e3 = sub(sub(add(d[1], d[7]), d[3]), half_of(d[3]));
    const V8 e5 = add(add(sub(d[7], d[1]), d[5]), half_of(d[5])), e7 = add(add(add(d[3], d[5]), d[1]), half_of(d[1]));
    const V8 f0 = add(e0, e6), f1 = add(e1, quarter(e7)), f2 = add(e2, e4), f3 = add(e3, quarter(e5));
    const V8 f4 = sub(e2, e4), f5 = sub(quarter(e3), e5), f6 = sub(e0, e6), f7 = sub(e7, quarter(e1));
    d[0] = add(f0, f7);
    d[1] = add(f2, f5);
    d[2] = add(f4, f3);
    d[3] = add(f6, f1);
    d[4] = sub(f6, f1);
    d[5] = sub(f4, f3);
    d[6] = sub(f2, f5);
    d[7] = sub(f0, f7);
}
void turn(V8 (&v)[8]) {
    V8 a[8], b[8];
    for (int i = 0; i < 4; ++i) {
        a[2 * i] = _mm_unpacklo_epi16(v[2 * i], v[2 * i + 1]);
        a[2 * i + 1] = _mm_unpackhi_epi16(v[2 * i], v[2 * i + 1]);
    }
    for (int i = 0; i < 2; ++i) {
        b[4 * i] = _mm_unpacklo_epi32(a[4 * i], a[4 * i + 2]);
        b[4 * i + 1] = _mm_unpackhi_epi32(a[4 * i], a[4 * i + 2]);
        b[4 * i + 2] = _mm_unpacklo_epi32(a[4 * i + 1], a[4 * i + 3]);
        b[4 * i + 3] = _mm_unpackhi_epi32(a[4 * i + 1], a[4 * i + 3]);
    }
    for (int i = 0; i < 4; ++i) {
        v[2 * i] = _mm_unpacklo_epi64(b[i], b[i + 4]);
        v[2 * i + 1] = _mm_unpackhi_epi64(b[i], b[i + 4]);
    }
}
void add_8x8(const std::int16_t* coefficients, std::uint8_t* at, std::ptrdiff_t stride) {
    V8 d[8];
    for (int i = 0; i < 8; ++i) d[i] = _mm_loadu_si128(reinterpret_cast<const __m128i*>(coefficients + 8 * i));
    turn(d);
    eight(d);
    turn(d);
    eight(d);
    const V8 rounding = _mm_set1_epi16(32);
    for (int i = 0; i < 8; ++i) {
        const V8 value = _mm_srai_epi16(_mm_add_epi16(d[i], rounding), 6);
        Lanes<8>::store(at + i * stride, _mm_add_epi16(Lanes<8>::load(at + i * stride), value));
    }
}
void add_dc(int coefficient, std::uint8_t* at, std::ptrdiff_t stride, int size) {
    const V8 value = _mm_set1_epi16(static_cast<short>((coefficient + 32) >> 6));
    for (int y = 0; y < size; ++y, at += stride) {
        if (size == 4) {
            add_row(at, value);
        } else {
            Lanes<8>::store(at, _mm_add_epi16(Lanes<8>::load(at), value));
        }
    }
}

// Deblocking of W lines at once: p[i] and q[i] hold the samples by distance from the edge.
template <int W>
struct Ops;
template <>
struct Ops<16> : Lanes<16> {
    static V16 absolute(V16 a) { return _mm256_abs_epi16(a); }
    static V16 less(V16 a, V16 b) { return _mm256_cmpgt_epi16(b, a); }
    static V16 both(V16 a, V16 b) { return _mm256_and_si256(a, b); }
    static V16 without(V16 a, V16 b) { return _mm256_andnot_si256(b, a); }
    static V16 choose(V16 mask, V16 yes, V16 no) { return _mm256_blendv_epi8(no, yes, mask); }
    static V16 least(V16 a, V16 b) { return _mm256_min_epi16(a, b); }
    static V16 most(V16 a, V16 b) { return _mm256_max_epi16(a, b); }
    static bool none(V16 a) { return _mm256_testz_si256(a, a) != 0; }
};
template <>
struct Ops<8> : Lanes<8> {
    static V8 absolute(V8 a) { return _mm_abs_epi16(a); }
    static V8 less(V8 a, V8 b) { return _mm_cmplt_epi16(a, b); }
    static V8 both(V8 a, V8 b) { return _mm_and_si128(a, b); }
    static V8 without(V8 a, V8 b) { return _mm_andnot_si128(b, a); }
    static V8 choose(V8 mask, V8 yes, V8 no) { return _mm_blendv_epi8(no, yes, mask); }
    static V8 least(V8 a, V8 b) { return _mm_min_epi16(a, b); }
    static V8 most(V8 a, V8 b) { return _mm_max_epi16(a, b); }
    static bool none(V8 a) { return _mm_testz_si128(a, a) != 0; }
};
template <int W, typename V = typename Lanes<W>::V>
V clamp(V value, V limit) {
    using O = Ops<W>;
    return O::most(O::least(value, limit), O::sub(O::all(0), limit));
}

// Where the samples differ by less than alpha and beta.
template <int W, typename V = typename Lanes<W>::V>
V smooth(V p1, V p0, V q0, V q1, int alpha, int beta) {
    using O = Ops<W>;
    const V b = O::all(beta);
    return O::both(O::less(O::absolute(O::sub(p0, q0)), O::all(alpha)),
                   O::both(O::less(O::absolute(O::sub(p1, p0)), b), O::less(O::absolute(O::sub(q1, q0)), b)));
}
template <int W, typename V = typename Lanes<W>::V>
V edge_delta(V p1, V p0, V q0, V q1) {
    using O = Ops<W>;
    return O::template right<3>(O::add(O::add(O::template left<2>(O::sub(q0, p0)), O::sub(p1, q1)), O::all(4)));
}

// 8.7.2.3; false: nothing changes.
template <int W, typename V = typename Lanes<W>::V>
bool normal_luma(V (&p)[4], V (&q)[4], int alpha, int beta, V c0) {
    using O = Ops<W>;
    const V zero = O::all(0);
    const V on = O::both(smooth<W>(p[1], p[0], q[0], q[1], alpha, beta), O::less(O::all(-1), c0));
    if (O::none(on)) return false;
    const V b = O::all(beta);
    const V ap = O::both(O::less(O::absolute(O::sub(p[2], p[0])), b), on),
            aq = O::both(O::less(O::absolute(O::sub(q[2], q[0])), b), on);
    // Masks are -1 where they hold.
    const V c = O::sub(O::sub(c0, ap), aq);
    const V delta = O::both(clamp<W>(edge_delta<W>(p[1], p[0], q[0], q[1]), O::most(c, zero)), on);
    const V centre_of = O::template right<1>(O::add(O::add(p[0], q[0]), O::all(1)));
    const V limit = O::most(c0, zero);
    const auto outer = [&](V two, V one) {
        return clamp<W>(O::template right<1>(O::sub(O::add(two, centre_of), O::template left<1>(one))), limit);
    };
    const V p1 = O::add(p[1], O::both(outer(p[2], p[1]), ap)), q1 = O::add(q[1], O::both(outer(q[2], q[1]), aq));
    p[0] = O::add(p[0], delta);
    q[0] = O::sub(q[0], delta);
    p[1] = p1;
    q[1] = q1;
    return true;
}
// 8.7.2.4
template <int W, typename V = typename Lanes<W>::V>
bool strong_luma(V (&p)[4], V (&q)[4], int alpha, int beta) {
    using O = Ops<W>;
    const V on = smooth<W>(p[1], p[0], q[0], q[1], alpha, beta);
    if (O::none(on)) return false;
    const V b = O::all(beta);
    const V close = O::both(on, O::less(O::absolute(O::sub(p[0], q[0])), O::all((alpha >> 2) + 2)));
    const V ap = O::both(O::less(O::absolute(O::sub(p[2], p[0])), b), close),
            aq = O::both(O::less(O::absolute(O::sub(q[2], q[0])), b), close);
    const V pq = O::add(p[0], q[0]);
    const auto side = [&](V(&s)[4], V far0, V far1, V strong, V(&out)[3]) {
        // far0, far1: the other side's first two samples.
        const V three = O::add(O::add(s[2], s[1]), pq);  // p2 + p1 + p0 + q0
        const V s0 =
            O::template right<3>(O::add(O::add(O::add(three, O::add(O::add(s[1], s[0]), far0)), far1), O::all(4)));
        const V s1 = O::template right<2>(O::add(three, O::all(2)));
        const V s2 = O::template right<3>(O::add(O::add(three, O::template left<1>(O::add(s[3], s[2]))), O::all(4)));
        const V weak = O::template right<2>(O::add(O::add(O::template left<1>(s[1]), O::add(s[0], far1)), O::all(2)));
        out[0] = O::choose(strong, s0, O::choose(on, weak, s[0]));
        out[1] = O::choose(strong, s1, s[1]);
        out[2] = O::choose(strong, s2, s[2]);
    };
    V pn[3], qn[3];
    side(p, q[0], q[1], ap, pn);
    side(q, p[0], p[1], aq, qn);
    for (int i = 0; i < 3; ++i) {
        p[i] = pn[i];
        q[i] = qn[i];
    }
    return true;
}

V16 spread_luma(const std::int8_t* clip) {
    // Four times each of four.
    const __m128i packed = _mm_cvtsi32_si128(load_int(reinterpret_cast<const std::uint8_t*>(clip)));
    const __m128i each = _mm_setr_epi8(0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3);
    return _mm256_cvtepi8_epi16(_mm_shuffle_epi8(packed, each));
}
V8 spread_chroma(const std::int8_t* clip) {
    const __m128i packed = _mm_cvtsi32_si128(load_int(reinterpret_cast<const std::uint8_t*>(clip)));
    return _mm_cvtepi8_epi16(_mm_shuffle_epi8(packed, _mm_setr_epi8(0, 0, 1, 1, 2, 2, 3, 3, 0, 0, 0, 0, 0, 0, 0, 0)));
}

void luma_horizontal(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip) {
    using L = Lanes<16>;
    V16 p[4], q[4];
    for (int i = 0; i < 3; ++i) {
        p[i] = L::load(at - (i + 1) * stride);
        q[i] = L::load(at + i * stride);
    }
    if (clip != nullptr) {
        if (!normal_luma<16>(p, q, alpha, beta, spread_luma(clip))) return;
        for (int i = 0; i < 2; ++i) {
            L::store(at - (i + 1) * stride, p[i]);
            L::store(at + i * stride, q[i]);
        }
        return;
    }
    p[3] = L::load(at - 4 * stride);
    q[3] = L::load(at + 3 * stride);
    if (!strong_luma<16>(p, q, alpha, beta)) return;
    for (int i = 0; i < 3; ++i) {
        L::store(at - (i + 1) * stride, p[i]);
        L::store(at + i * stride, q[i]);
    }
}

// Sixteen rows of eight bytes turned to eight of sixteen, and back.
void turn_bytes(const __m128i (&rows)[16], __m128i (&columns)[8]) {
    __m128i a[8], b[8], c[8];
    for (int i = 0; i < 8; ++i) a[i] = _mm_unpacklo_epi8(rows[i], rows[i + 8]);  // row i and i + 8 in turn
    for (int i = 0; i < 4; ++i) {
        b[2 * i] = _mm_unpacklo_epi8(a[i], a[i + 4]);
        b[2 * i + 1] = _mm_unpackhi_epi8(a[i], a[i + 4]);
    }
    for (int i = 0; i < 2; ++i) {
        for (int k = 0; k < 2; ++k) {
            c[4 * i + 2 * k] = _mm_unpacklo_epi8(b[2 * i + k], b[2 * i + 4 + k]);
            c[4 * i + 2 * k + 1] = _mm_unpackhi_epi8(b[2 * i + k], b[2 * i + 4 + k]);
        }
    }
    for (int i = 0; i < 4; ++i) {
        columns[2 * i] = _mm_unpacklo_epi8(c[i], c[i + 4]);
        columns[2 * i + 1] = _mm_unpackhi_epi8(c[i], c[i + 4]);
    }
}
void turn_back(const __m128i (&columns)[8], __m128i (&pairs)[8]) {
    // pairs[i] holds the eight bytes of rows 2i and 2i + 1.
    const auto unpack = [](__m128i a, __m128i b, bool high) {
        return high ? _mm_unpackhi_epi8(a, b) : _mm_unpacklo_epi8(a, b);
    };
    for (int high = 0; high < 2; ++high) {
        const __m128i a = unpack(columns[0], columns[1], high != 0), b = unpack(columns[2], columns[3], high != 0),
                      c = unpack(columns[4], columns[5], high != 0), d = unpack(columns[6], columns[7], high != 0);
        const __m128i ab0 = _mm_unpacklo_epi16(a, b), ab1 = _mm_unpackhi_epi16(a, b);
        const __m128i cd0 = _mm_unpacklo_epi16(c, d), cd1 = _mm_unpackhi_epi16(c, d);
        pairs[4 * high] = _mm_unpacklo_epi32(ab0, cd0);
        pairs[4 * high + 1] = _mm_unpackhi_epi32(ab0, cd0);
        pairs[4 * high + 2] = _mm_unpacklo_epi32(ab1, cd1);
        pairs[4 * high + 3] = _mm_unpackhi_epi32(ab1, cd1);
    }
}
void luma_vertical(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip) {
    __m128i rows[16], columns[8], pairs[8];
    for (int i = 0; i < 16; ++i) rows[i] = _mm_loadl_epi64(reinterpret_cast<const __m128i*>(at - 4 + i * stride));
    turn_bytes(rows, columns);
    V16 p[4], q[4];
    for (int i = 0; i < 4; ++i) {
        p[i] = _mm256_cvtepu8_epi16(columns[3 - i]);
        q[i] = _mm256_cvtepu8_epi16(columns[4 + i]);
    }
    const bool changed =
        clip != nullptr ? normal_luma<16>(p, q, alpha, beta, spread_luma(clip)) : strong_luma<16>(p, q, alpha, beta);
    if (!changed) return;
    for (int i = 0; i < 4; ++i) {
        columns[3 - i] = pack<16>(p[i]);
        columns[4 + i] = pack<16>(q[i]);
    }
    turn_back(columns, pairs);
    for (int i = 0; i < 8; ++i) {
        _mm_storel_epi64(reinterpret_cast<__m128i*>(at - 4 + 2 * i * stride), pairs[i]);
        _mm_storel_epi64(reinterpret_cast<__m128i*>(at - 4 + (2 * i + 1) * stride),
                         _mm_unpackhi_epi64(pairs[i], pairs[i]));
    }
}

bool chroma_edge(V8& p1, V8& p0, V8& q0, V8& q1, int alpha, int beta, const std::int8_t* clip) {
    using O = Ops<8>;
    V8 on = smooth<8>(p1, p0, q0, q1, alpha, beta);
    if (clip == nullptr) {
        if (O::none(on)) return false;
        const auto weak = [&](V8 one, V8 zero, V8 far1) {
            return O::right<2>(O::add(O::add(O::left<1>(one), O::add(zero, far1)), O::all(2)));
        };
        const V8 p = O::choose(on, weak(p1, p0, q1), p0), q = O::choose(on, weak(q1, q0, p1), q0);
        p0 = p;
        q0 = q;
        return true;
    }
    const V8 c0 = spread_chroma(clip);
    on = O::both(on, O::less(O::all(-1), c0));
    if (O::none(on)) return false;
    const V8 delta = O::both(clamp<8>(edge_delta<8>(p1, p0, q0, q1), O::most(O::add(c0, O::all(1)), O::all(0))), on);
    p0 = O::add(p0, delta);
    q0 = O::sub(q0, delta);
    return true;
}
void chroma_horizontal(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip) {
    using L = Lanes<8>;
    V8 p1 = L::load(at - 2 * stride), p0 = L::load(at - stride), q0 = L::load(at), q1 = L::load(at + stride);
    if (!chroma_edge(p1, p0, q0, q1, alpha, beta, clip)) return;
    L::store(at - stride, p0);
    L::store(at, q0);
}
void chroma_vertical(std::uint8_t* at, std::ptrdiff_t stride, int alpha, int beta, const std::int8_t* clip) {
    const auto row = [&](int i) { return _mm_cvtsi32_si128(load_int(at - 2 + i * stride)); };
    // Eight rows of p1 p0 q0 q1.
    const __m128i a = _mm_unpacklo_epi8(row(0), row(4)), b = _mm_unpacklo_epi8(row(1), row(5)),
                  c = _mm_unpacklo_epi8(row(2), row(6)), d = _mm_unpacklo_epi8(row(3), row(7));
    const __m128i ac = _mm_unpacklo_epi8(a, c), bd = _mm_unpacklo_epi8(b, d);         // rows 0 2 4 6, and 1 3 5 7
    const __m128i low = _mm_unpacklo_epi8(ac, bd), high = _mm_unpackhi_epi8(ac, bd);  // p1 p0, and q0 q1
    V8 p1 = _mm_cvtepu8_epi16(low), p0 = _mm_cvtepu8_epi16(_mm_srli_si128(low, 8)), q0 = _mm_cvtepu8_epi16(high),
       q1 = _mm_cvtepu8_epi16(_mm_srli_si128(high, 8));
    if (!chroma_edge(p1, p0, q0, q1, alpha, beta, clip)) return;
    const __m128i both = _mm_unpacklo_epi8(_mm_packus_epi16(p0, p0), _mm_packus_epi16(q0, q0));
    alignas(16) std::uint16_t pairs[8];
    _mm_store_si128(reinterpret_cast<__m128i*>(pairs), both);
    for (int i = 0; i < 8; ++i) std::memcpy(at - 1 + i * stride, &pairs[i], 2);
}

}  // namespace

const Kernels* make_avx2_kernels() {
    static const Kernels kMade = {"AVX2",
                                  {luma_block<16>, luma_block<8>, luma_block<4>},
                                  {chroma_block<8>, chroma_block<4>, chroma_block<2>},
                                  mean,
                                  weigh,
                                  weigh_both,
                                  add_4x4,
                                  add_8x8,
                                  add_dc,
                                  luma_vertical,
                                  luma_horizontal,
                                  chroma_vertical,
                                  chroma_horizontal};
    return &kMade;
}

}  // namespace wavecrest::codec::h264

#if defined(__clang__)
#pragma clang attribute pop
#else
#pragma GCC pop_options
#endif

namespace wavecrest::codec::h264 {
const Kernels* avx2_kernels() {
    return __builtin_cpu_supports("avx2") ? make_avx2_kernels() : nullptr;
}
}  // namespace wavecrest::codec::h264

#else

namespace wavecrest::codec::h264 {
const Kernels* avx2_kernels() {
    return nullptr;
}
}  // namespace wavecrest::codec::h264

#endif
