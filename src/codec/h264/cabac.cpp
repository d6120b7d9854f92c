// Syntax elements by context-adaptive binary arithmetic coding (9.3).
#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

// ctxIdxOffset + ctxBlockCatOffset of significant_coeff_flag and last_significant_coeff_flag, of frame and field
// macroblocks, and of coeff_abs_level_minus1 (tables 9-34 and 9-40).
constexpr int kSignificant[2][6] = {{105, 120, 134, 149, 152, 402}, {277, 292, 306, 321, 324, 436}};
constexpr int kLast[2][6] = {{166, 181, 195, 210, 213, 417}, {338, 353, 367, 382, 385, 451}};
constexpr int kLevel[6] = {227, 237, 247, 257, 266, 426};
constexpr int kCodedFlag = 85;

}  // namespace

bool SliceParser::cabac_skip() {
    const auto counts = [&](int index) { return usable(index) && !parsed_of(index)->skipped ? 1 : 0; };
    const int base = b_slice_ ? 24 : 11;
    return decide(base + counts(left_) + counts(top_)) != 0;
}

bool SliceParser::cabac_field() {
    const int pair = index_ - (row_ & 1) * frame_->columns;
    const auto counts = [&](bool there, int index) { return there && usable(index) && at(index).field ? 1 : 0; };
    return decide(70 + counts(x_ > 0, pair - 1) + counts(true, pair + up_)) != 0;
}

// mb_type of an I macroblock; in I slices the first bin has a context of its neighbours.
int SliceParser::cabac_intra_type(int base, bool in_i_slice) {
    if (in_i_slice) {
        const auto counts = [&](int index) {
            return usable(index) && at(index).kind != Kind::intra4 && at(index).kind != Kind::intra8 ? 1 : 0;
        };
        if (decide(base + counts(left_) + counts(top_)) == 0) return 0;
        base += 2;
    } else if (decide(base) == 0) {
        return 0;
    }
    if (cabac_.terminate() != 0) return 25;
    const int more = in_i_slice ? 1 : 0;
    int type = 1 + 12 * decide(base + 1);
    if (decide(base + 2) != 0) type += 4 + 4 * decide(base + 2 + more);
    type += 2 * decide(base + 3 + more);
    type += decide(base + 3 + 2 * more);
    return type;
}

// From 100 on: of I macroblocks.
int SliceParser::cabac_type() {
    if (header_->type == SliceType::i) return 100 + cabac_intra_type(3, true);
    if (header_->type == SliceType::p) {
        if (decide(14) != 0) return 100 + cabac_intra_type(17, false);
        if (decide(15) == 0) return 3 * decide(16);
        return 2 - decide(17);
    }
    const auto counts = [&](int index) {
        return usable(index) && !parsed_of(index)->skipped && !parsed_of(index)->whole_direct ? 1 : 0;
    };
    if (decide(27 + counts(left_) + counts(top_)) == 0) return 0;
    if (decide(27 + 3) == 0) return 1 + decide(27 + 5);
    int bits = decide(27 + 4) << 3;
    bits |= decide(27 + 5) << 2;
    bits |= decide(27 + 5) << 1;
    bits |= decide(27 + 5);
    if (bits < 8) return bits + 3;
    if (bits == 13) return 100 + cabac_intra_type(32, false);
    if (bits == 14) return 11;
    if (bits == 15) return 22;
    bits = bits << 1 | decide(27 + 5);
    return bits - 4;
}

int SliceParser::cabac_sub_type() {
    if (header_->type == SliceType::p) {
        if (decide(21) != 0) return 0;
        if (decide(22) == 0) return 1;
        return decide(23) != 0 ? 2 : 3;
    }
    if (decide(36) == 0) return 0;
    if (decide(37) == 0) return 1 + decide(39);
    int type = 3;
    if (decide(38) != 0) {
        if (decide(39) != 0) return 11 + decide(39);
        type += 4;
    }
    type += 2 * decide(39);
    type += decide(39);
    return type;
}

int SliceParser::cabac_ref(int list, int x, int y) {
    int context = (ref_large_[list][cell(x - 1, y)] ? 1 : 0) + (ref_large_[list][cell(x, y - 1)] ? 2 : 0);
    int ref = 0;
    while (decide(54 + context) != 0) {
        context = (context >> 2) + 4;
        if (++ref >= 32) return 32;
    }
    return ref;
}

int SliceParser::cabac_mvd(int list, int component, int x, int y) {
    const int base = component == 0 ? 40 : 47;
    const int sum = mvd_cache_[list][cell(x - 1, y)][component] + mvd_cache_[list][cell(x, y - 1)][component];
    if (decide(base + (sum < 3 ? 0 : sum > 32 ? 2 : 1)) == 0) return 0;
    int size = 1, context = 3;
    while (size < 9 && decide(base + context) != 0) {
        if (context < 6) ++context;
        ++size;
    }
    if (size >= 9) {
        int k = 3;
        while (cabac_.bypass() != 0) {
            size += 1 << k;
            if (++k > 20) return 1 << 20;
        }
        while (k-- > 0) size += cabac_.bypass() << k;
    }
    return cabac_.bypass() != 0 ? -size : size;
}

int SliceParser::cabac_mode(int predicted) {
    if (decide(68) != 0) return predicted;
    int rest = decide(69);
    rest |= decide(69) << 1;
    rest |= decide(69) << 2;
    return rest < predicted ? rest : rest + 1;
}

int SliceParser::cabac_chroma_mode() {
    const auto counts = [&](int index) {
        return usable(index) && at(index).kind != Kind::inter && at(index).chroma_mode != 0 ? 1 : 0;
    };
    if (decide(64 + counts(left_) + counts(top_)) == 0) return 0;
    if (decide(67) == 0) return 1;
    return decide(67) == 0 ? 2 : 3;
}

int SliceParser::cabac_pattern() {
    int pattern = 0;
    for (int b8 = 0; b8 < 4; ++b8) {
        const int x = b8 % 2, y = b8 / 2;
        const auto counts = [&](const Place& place, int column) {
            return place.macroblock >= 0 && (at(place.macroblock).pattern >> (place.row / 2 * 2 + column) & 1) == 0 ? 1
                                                                                                                    : 0;
        };
        const int a = x > 0 ? (pattern >> (b8 - 1) & 1) ^ 1 : counts(left_rows_[2 * y], 1);
        const int b = y > 0 ? (pattern >> (b8 - 2) & 1) ^ 1 : counts(above_, x);
        pattern |= decide(73 + a + 2 * b) << b8;
    }
    const auto chroma = [&](int index) { return usable(index) ? at(index).pattern >> 4 : 0; };
    const int a = chroma(left_), b = chroma(top_);
    if (decide(77 + (a != 0 ? 1 : 0) + (b != 0 ? 2 : 0)) != 0)
        pattern |= (1 + decide(81 + (a == 2 ? 1 : 0) + (b == 2 ? 2 : 0))) << 4;
    return pattern;
}

int SliceParser::cabac_qp_delta() {
    int context = last_delta_ != 0 ? 1 : 0, value = 0;
    while (decide(60 + context) != 0) {
        context = 2 + (context >> 1);
        if (++value > 104) return 1000;
    }
    return (value & 1) != 0 ? (value + 1) >> 1 : -(value >> 1);
}

bool SliceParser::cabac_transform8() {
    const auto counts = [&](int index) { return usable(index) && at(index).transform8 ? 1 : 0; };
    return decide(399 + counts(left_) + counts(top_)) != 0;
}

// coded_block_flag (9.3.3.1.1.9) of a block by its kind: 0 DC of intra 16x16, 1 its others, 2 luma, 3 chroma DC, 4
// chroma.
bool SliceParser::coded_flag(int category, int plane, int x, int y) {
    const auto counts = [&](const Place& place, int column, int row) {
        if (place.macroblock < 0) return mb_->intra() ? 1 : 0;
        const Parsed& other = *place.parsed;
        if (category == 0) return other.dc_coded & 1;
        if (category == 3) return other.dc_coded >> plane & 1;
        const int block = plane == 0 ? row * 4 + column : 12 + 4 * plane + row * 2 + column;
        return other.coded[static_cast<std::size_t>(block)] != 0 ? 1 : 0;
    };
    int a = 0, b = 0;
    if (category == 0 || category == 3) {
        a = counts(left_rows_[0], 0, 0);
        b = counts(above_, 0, 0);
    } else if (plane == 0) {
        a = x > 0 ? counts({index_, y, own_}, x - 1, y) : counts(left_rows_[y], 3, left_rows_[y].row);
        b = y > 0 ? counts({index_, y, own_}, x, y - 1) : counts(above_, x, 3);
    } else {
        // A chroma row of blocks lies beside two of luma.
        const Place& left = left_rows_[2 * y];
        a = x > 0 ? counts({index_, y, own_}, 0, y) : counts(left, 1, left.row / 2);
        b = y > 0 ? counts({index_, y, own_}, x, 0) : counts(above_, x, 1);
    }
    return decide(kCodedFlag + 4 * category + a + 2 * b) != 0;
}

int SliceParser::cabac_block(int category, const std::uint8_t* scan, const std::int32_t* scale, int shift,
                             std::int16_t* out, int count) {
    const int field = mb_->field ? 1 : 0;
    std::uint8_t* const significant = contexts_.state + kSignificant[field][category];
    std::uint8_t* const last = contexts_.state + kLast[field][category];
    Cabac engine = cabac_;
    std::uint8_t places[64];
    int found = 0, i = 0;
    const int end = count - 1;
    const auto find = [&](auto&& significant_at, auto&& last_at) {
        for (; i < end; ++i) {
            if (engine.decision(significant[significant_at(i)]) == 0) continue;
            places[found++] = static_cast<std::uint8_t>(i);
            if (engine.decision(last[last_at(i)]) != 0) return;
        }
        places[found++] = static_cast<std::uint8_t>(end);
    };
    if (category == 5) {
        const std::uint8_t* const by_place = kSignificant8x8[field];
        find([&](int at) { return by_place[at]; }, [](int at) { return kLast8x8[at]; });
    } else if (category == 3) {
        find([](int at) { return std::min(at, 2); }, [](int at) { return std::min(at, 2); });
    } else {
        find([](int at) { return at; }, [](int at) { return at; });
    }
    only_first_ = found == 1 && places[0] == 0;
    std::uint8_t* const level = contexts_.state + kLevel[category];
    const int most = category == 3 ? 3 : 4;
    const std::int32_t half = shift > 0 ? 1 << (shift - 1) : 0;
    int ones = 1, larger = 0;
    for (int k = found - 1; k >= 0; --k) {
        std::int32_t value = 1;
        if (engine.decision(level[larger != 0 ? 0 : std::min(4, ones)]) == 0) {
            ++ones;
        } else {
            std::uint8_t& context = level[5 + std::min(most, larger)];
            value = 2;
            while (value < 15 && engine.decision(context) != 0) ++value;
            if (value == 15) {
                int bits = 0;
                while (engine.bypass() != 0) {
                    value += 1 << bits;
                    if (++bits > 20) return -1;
                }
                while (bits-- > 0) value += engine.bypass() << bits;
            }
            ++larger;
        }
        if (engine.bypass() != 0) value = -value;
        const std::uint8_t place = scan[places[k]];
        out[place] = static_cast<std::int16_t>((std::int64_t{value} * scale[place] + half) >> shift);
    }
    cabac_ = engine;
    return found;
}

const Transitions& transitions() {
    static const Transitions made = [] {
        Transitions table{};
        for (int state = 0; state < 128; ++state) {
            const int number = state >> 1, symbol = state & 1;
            const int next = number < 62 ? number + 1 : number;
            table[static_cast<std::size_t>(128 + state)] = static_cast<std::uint8_t>(next << 1 | symbol);
            const int flipped = number == 0 ? symbol ^ 1 : symbol;
            table[static_cast<std::size_t>(127 - state)] =
                static_cast<std::uint8_t>(kNextStateLps[number] << 1 | flipped);
        }
        return table;
    }();
    return made;
}

}  // namespace wavecrest::codec::h264
