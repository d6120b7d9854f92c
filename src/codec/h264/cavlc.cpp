// Coefficients by context-adaptive variable length codes (9.2).
#include <array>
#include <bit>

#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

// What a code that begins with these bits says; length 0: there is none.
struct Entry {
    std::uint8_t length = 0, first = 0, second = 0;
};

template <int Bits>
using Lookup = std::array<Entry, std::size_t{1} << Bits>;

template <int Bits>
void put(Lookup<Bits>& table, int length, unsigned code, std::uint8_t first, std::uint8_t second) {
    const int rest = Bits - length;
    for (unsigned i = 0; i < 1u << rest; ++i)
        table[code << rest | i] = {static_cast<std::uint8_t>(length), first, second};
}

struct Tables {
    std::array<Lookup<16>, 5> tokens{};
    std::array<Lookup<9>, 15> zeros{};
    std::array<Lookup<3>, 3> zeros_dc{};
    std::array<Lookup<11>, 7> runs{};

    Tables() {
        for (std::size_t t = 0; t < 5; ++t) {
            for (const TokenCode& one : kTokens[t]) put<16>(tokens[t], one.length, one.code, one.total, one.trailing);
        }
        for (std::size_t t = 0; t < 15; ++t) {
            for (const RunCode& one : kTotalZeros[t]) put<9>(zeros[t], one.length, one.code, one.value, 0);
        }
        for (std::size_t t = 0; t < 3; ++t) {
            for (const RunCode& one : kTotalZerosChromaDc[t]) put<3>(zeros_dc[t], one.length, one.code, one.value, 0);
        }
        for (std::size_t t = 0; t < 7; ++t) {
            for (const RunCode& one : kRunBefore[t]) put<11>(runs[t], one.length, one.code, one.value, 0);
        }
    }
};
const Tables& tables() {
    static const Tables made;
    return made;
}

}  // namespace

// nC (9.2.1) of a block of a plane: 0 luma, 1 and 2 chroma.
int SliceParser::coefficient_context(int plane, int x, int y) const {
    const auto count = [&](const Place& place, int column, int row) {
        if (place.macroblock < 0) return -1;
        const int block = plane == 0 ? row * 4 + column : 12 + 4 * plane + row * 2 + column;
        return static_cast<int>(place.parsed->coded[static_cast<std::size_t>(block)]);
    };
    int a = 0, b = 0;
    if (plane == 0) {
        a = x > 0 ? count({index_, y, own_}, x - 1, y) : count(left_rows_[y], 3, left_rows_[y].row);
        b = y > 0 ? count({index_, y, own_}, x, y - 1) : count(above_, x, 3);
    } else {
        const Place& left = left_rows_[2 * y];
        a = x > 0 ? count({index_, y, own_}, 0, y) : count(left, 1, left.row / 2);
        b = y > 0 ? count({index_, y, own_}, x, 0) : count(above_, x, 1);
    }
    if (a >= 0 && b >= 0) return (a + b + 1) >> 1;
    return a >= 0 ? a : b >= 0 ? b : 0;
}

// `context` -1: chroma DC. Gives how many coefficients there are; -1: damaged.
int SliceParser::cavlc_block(int context, const std::uint8_t* scan, const std::int32_t* scale, int shift,
                             std::int16_t* out, int count) {
    const Tables& t = tables();
    const std::size_t table = context < 0 ? 4 : context < 2 ? 0 : context < 4 ? 1 : context < 8 ? 2 : 3;
    const Entry token = t.tokens[table][bits_.peek() >> 16];
    if (token.length == 0 || token.first > count) return -1;
    bits_.skip(token.length);
    const int total = token.first, trailing = token.second;
    if (total == 0) {
        only_first_ = false;
        return 0;
    }
    std::int32_t levels[16];
    int suffix_length = total > 10 && trailing < 3 ? 1 : 0;
    for (int i = 0; i < total; ++i) {
        if (i < trailing) {
            levels[i] = bits_.flag() != 0 ? -1 : 1;
            continue;
        }
        // 9.2.2.1
        const int prefix = std::countl_zero(bits_.peek());
        if (prefix > 25) return -1;
        bits_.skip(prefix + 1);
        int code = std::min(15, prefix) << suffix_length;
        const int size = prefix == 14 && suffix_length == 0 ? 4 : prefix >= 15 ? prefix - 3 : suffix_length;
        if (size > 0) code += static_cast<int>(bits_.bits(size));
        if (prefix >= 15 && suffix_length == 0) code += 15;
        if (prefix >= 16) code += (1 << (prefix - 3)) - 4096;
        if (i == trailing && trailing < 3) code += 2;
        levels[i] = (code & 1) == 0 ? (code + 2) >> 1 : (-code - 1) >> 1;
        if (suffix_length == 0) suffix_length = 1;
        if (std::abs(levels[i]) > 3 << (suffix_length - 1) && suffix_length < 6) ++suffix_length;
    }
    int zeros = 0;
    if (total < count) {
        const auto row = static_cast<std::size_t>(total - 1);
        const Entry entry = context < 0 ? t.zeros_dc[row][bits_.peek() >> 29] : t.zeros[row][bits_.peek() >> 23];
        if (entry.length == 0) return -1;
        bits_.skip(entry.length);
        zeros = entry.first;
    }
    int place = zeros + total - 1;
    if (place >= count) return -1;
    only_first_ = place == 0;
    const std::int32_t half = shift > 0 ? 1 << (shift - 1) : 0;
    for (int i = 0; i < total; ++i) {
        const std::uint8_t raster = scan[place];
        out[raster] = static_cast<std::int16_t>((std::int64_t{levels[i]} * scale[raster] + half) >> shift);
        if (i + 1 == total) break;
        int run = 0;
        if (zeros > 0) {
            const Entry entry = t.runs[static_cast<std::size_t>(std::min(zeros, 7) - 1)][bits_.peek() >> 21];
            if (entry.length == 0 || entry.first > zeros) return -1;
            bits_.skip(entry.length);
            run = entry.first;
        }
        zeros -= run;
        place -= 1 + run;
    }
    return bits_.ok() ? total : -1;
}

}  // namespace wavecrest::codec::h264
