// The slice data and macroblock layers (7.3.4, 7.3.5).
#include <algorithm>
#include <bit>
#include <cstdlib>
#include <cstring>

#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

// Lists of the two partitions of B_x_y_16x8 and 8x16 (table 7-14): bit 0 list 0, bit 1 list 1.
constexpr std::uint8_t kTwoLists[9][2] = {{1, 1}, {2, 2}, {1, 2}, {2, 1}, {1, 3}, {2, 3}, {3, 1}, {3, 2}, {3, 3}};
// Table 7-18: lists and shape (0: 8x8, 1: 8x4, 2: 4x8, 3: 4x4).
constexpr std::uint8_t kBSub[13][2] = {{0, 0}, {1, 0}, {2, 0}, {3, 0}, {1, 1}, {1, 2}, {2, 1},
                                       {2, 2}, {3, 1}, {3, 2}, {1, 3}, {2, 3}, {3, 3}};
// Blocks of 4x4 in coding order (6.4.3), as places.
constexpr std::uint8_t kCodingOrder[16] = {0, 1, 4, 5, 2, 3, 6, 7, 8, 9, 12, 13, 10, 11, 14, 15};

}  // namespace

int SliceParser::run_cabac() {
    int count = 0;
    bool above_skipped = false, lower_known = false, lower_skipped = false;
    for (int address = header_->first_mb << (adaptive_ ? 1 : 0);; ++address) {
        if (!begin_macroblock(address)) break;
        const bool upper = !adaptive_ || (address & 1) == 0;
        bool skipped = false;
        if (adaptive_ && upper) infer_field();
        reset_macroblock();
        bool field_known = adaptive_ && !upper && !above_skipped;
        if (header_->type != SliceType::i) {
            if (adaptive_ && !upper && lower_known) {
                skipped = lower_skipped;
                field_known = true;
            } else {
                skipped = cabac_skip();
            }
            if (skipped && adaptive_ && upper) {
                // The lower one's flags come next, and tell what the pair is.
                mb_->kind = Kind::inter;
                own_->skipped = true;
                if (!begin_macroblock(address + 1)) break;
                reset_macroblock();
                lower_skipped = cabac_skip();
                if (!lower_skipped) pair_field_ = cabac_field();
                lower_known = true;
                mb_->slice = 0;
                begin_macroblock(address);
                reset_macroblock();
            }
        }
        if (!skipped && adaptive_ && (upper || (above_skipped && !field_known))) {
            pair_field_ = cabac_field();
            if (mb_->field != pair_field_) reset_macroblock();
        }
        if (skipped) {
            skip_macroblock();
        } else if (!parse_macroblock()) {
            mb_->slice = 0;
            break;
        }
        if (cabac_.exhausted()) {
            mb_->slice = 0;
            break;
        }
        finish_macroblock();
        ++count;
        if (upper && adaptive_) {
            above_skipped = skipped;
            if (!skipped) lower_known = false;
            continue;  // a slice doesn't end between the two of a pair
        }
        lower_known = false;
        if (cabac_.terminate() != 0) break;
    }
    return count;
}

int SliceParser::run_cavlc() {
    int count = 0, run = -1;
    bool above_skipped = false, field_known = false;
    for (int address = header_->first_mb << (adaptive_ ? 1 : 0);; ++address) {
        if (!begin_macroblock(address)) break;
        const bool upper = !adaptive_ || (address & 1) == 0;
        bool skipped = false;
        if (adaptive_ && upper) {
            infer_field();
            field_known = false;
        }
        if (header_->type != SliceType::i) {
            if (run < 0) {
                run = static_cast<int>(bits_.ue());
                if (!bits_.ok()) break;
            }
            if (run > 0) {
                skipped = true;
                --run;
                if (adaptive_ && upper && run == 0 && bits_.more()) {
                    // The lower one isn't skipped: its flag, for both.
                    pair_field_ = bits_.flag() != 0;
                    field_known = true;
                }
            }
        }
        if (!skipped) {
            run = -1;
            if (adaptive_ && !field_known && (upper || above_skipped)) pair_field_ = bits_.flag() != 0;
        }
        reset_macroblock();
        if (skipped) {
            skip_macroblock();
        } else if (!parse_macroblock() || !bits_.ok()) {
            mb_->slice = 0;
            break;
        }
        finish_macroblock();
        ++count;
        above_skipped = skipped;
        if (run <= 0 && !bits_.more()) break;
    }
    return count;
}

bool SliceParser::parse_macroblock() {
    int type = 0;
    if (pps_->cabac) {
        type = cabac_type();
    } else {
        type = static_cast<int>(bits_.ue());
        if (header_->type == SliceType::p) type = type < 5 ? type : type - 5 + 100;
        if (header_->type == SliceType::b) type = type < 23 ? type : type - 23 + 100;
        if (header_->type == SliceType::i) type += 100;
    }
    if (type < 0) return false;
    if (type >= 100) {
        if (!take_intra_type(type - 100)) return false;
        return mb_->kind == Kind::pcm ? parse_pcm() : parse_intra();
    }
    if (header_->type == SliceType::p && type > 4) return false;
    mb_->kind = Kind::inter;
    type_ = type;
    return parse_inter();
}

bool SliceParser::parse_pcm() {
    constexpr std::size_t kSamples = 384;
    RowCoefficients& store = work_->coefficients_of(work_->row_of(row_));
    std::int16_t* const room = store.add(*work_->pieces, mb_->coefficients);
    if (pps_->cabac) {
        if (!cabac_.take_raw(kSamples, room)) return false;
    } else {
        bits_.align();
        const ByteSpan left = bits_.bytes().subspan(std::min(bits_.position() / 8, bits_.bytes().size()));
        if (left.size() < kSamples) return false;
        std::copy_n(left.begin(), kSamples, room);
        bits_.skip(static_cast<int>(kSamples * 8));
    }
    store.keep(kSamples);
    own_->coded.fill(16);
    own_->dc_coded = 7;
    mb_->pattern = 0x2F;
    set_qp(0);
    last_delta_ = 0;
    return true;
}

bool SliceParser::parse_intra() {
    if (mb_->kind == Kind::intra4) {
        if (pps_->transform_8x8) mb_->transform8 = pps_->cabac ? cabac_transform8() : bits_.flag() != 0;
        if (mb_->transform8) mb_->kind = Kind::intra8;
        for (int i = 0; i < 16; i += mb_->transform8 ? 4 : 1) {
            const int block = kCodingOrder[i];
            const int predicted = predicted_mode(block);
            int mode = predicted;
            if (pps_->cabac) {
                mode = cabac_mode(predicted);
            } else if (bits_.flag() == 0) {
                const int rest = static_cast<int>(bits_.bits(3));
                mode = rest < predicted ? rest : rest + 1;
            }
            set_mode(block, mb_->transform8 ? 2 : 1, mode);
        }
        for (std::size_t i = 0; i < 8; ++i)
            mb_->mode_pairs[i] = static_cast<std::uint8_t>(own_->modes[2 * i] | own_->modes[2 * i + 1] << 4);
    }
    const int chroma = pps_->cabac ? cabac_chroma_mode() : static_cast<int>(bits_.ue());
    if (chroma > 3) return false;
    mb_->chroma_mode = static_cast<std::uint8_t>(chroma);
    if (mb_->kind != Kind::intra16) {
        if (pps_->cabac) {
            mb_->pattern = static_cast<std::uint8_t>(cabac_pattern());
        } else {
            const std::uint32_t code = bits_.ue();
            if (code > 47) return false;
            mb_->pattern = kCodedBlockPattern[code][0];
        }
    }
    return parse_residual();
}

int SliceParser::read_sub_type() {
    if (pps_->cabac) return cabac_sub_type();
    const std::uint32_t type = bits_.ue();
    return type < (header_->type == SliceType::b ? 13u : 4u) ? static_cast<int>(type) : -1;
}

int SliceParser::read_ref(int list, const Partition& p) {
    const int count = active(list);
    if (count <= 1) return 0;
    const int ref = pps_->cabac ? cabac_ref(list, p.x, p.y) : bits_.te(count - 1);
    return ref < count ? ref : -1;
}

bool SliceParser::read_vector(int list, const Partition& p, Vector predicted) {
    int delta[2];
    for (int c = 0; c < 2; ++c) delta[c] = pps_->cabac ? cabac_mvd(list, c, p.x, p.y) : bits_.se();
    if (std::abs(delta[0]) > 16384 || std::abs(delta[1]) > 16384) return false;
    if (pps_->cabac) {
        auto& mvds = own_->differences[static_cast<std::size_t>(list)];
        for (int y = p.y; y < p.y + p.height; ++y) {
            for (int x = p.x; x < p.x + p.width; ++x) {
                for (std::size_t c = 0; c < 2; ++c) {
                    const auto size = static_cast<std::uint8_t>(std::min(std::abs(delta[c]), 127));
                    mvd_cache_[list][cell(x, y)][c] = size;
                    mvds[static_cast<std::size_t>(y * 4 + x)][c] = size;
                }
            }
        }
    }
    set_motion(list, p,
               {static_cast<std::int16_t>(predicted.x + delta[0]), static_cast<std::int16_t>(predicted.y + delta[1])});
    return true;
}

bool SliceParser::parse_inter() {
    const bool b = b_slice_;
    fill_cache();
    bool small = true;  // no partition is smaller than 8x8: the 8x8 transform may be used
    if (b && type_ == 0) {
        own_->direct = 15;
        own_->whole_direct = true;
        predict_direct(15);
        merge_direct();
        small = sps_->direct_8x8_inference;
    } else if (b ? type_ == 22 : type_ >= 3) {
        if (!parse_sub_blocks()) return false;
        for (int i = 0; i < 4; ++i) {
            if (b ? (sub_types_[i] == 0 ? !sps_->direct_8x8_inference : kBSub[sub_types_[i]][1] != 0)
                  : sub_types_[i] != 0)
                small = false;
        }
    } else {
        Partition parts[2] = {{0, 0, 4, 4}, {}};
        int count = 1, lists[2] = {1, 0};
        if (b) {
            lists[0] = type_;
            if (type_ > 3) {
                lists[0] = kTwoLists[(type_ - 4) / 2][0];
                lists[1] = kTwoLists[(type_ - 4) / 2][1];
            }
        }
        if (b ? type_ > 3 : type_ > 0) {
            count = 2;
            const bool wide = b ? type_ % 2 == 0 : type_ == 1;
            parts[0] = wide ? Partition{0, 0, 4, 2} : Partition{0, 0, 2, 4};
            parts[1] = wide ? Partition{0, 2, 4, 2} : Partition{2, 0, 2, 4};
            mb_->shape = wide ? Shape::rows : Shape::columns;
            if (!b) lists[1] = 1;
        }
        for (int list = 0; list < (b ? 2 : 1); ++list) {
            for (int i = 0; i < count; ++i) {
                if ((lists[i] >> list & 1) == 0) continue;
                const int ref = read_ref(list, parts[i]);
                if (ref < 0) return false;
                set_ref(list, parts[i], ref);
                for (int y = parts[i].y; y < parts[i].y + parts[i].height; ++y) {
                    for (int x = parts[i].x; x < parts[i].x + parts[i].width; ++x)
                        ref_large_[list][cell(x, y)] = ref > 0;
                }
            }
        }
        for (int list = 0; list < (b ? 2 : 1); ++list) {
            for (int i = 0; i < count; ++i) {
                if ((lists[i] >> list & 1) == 0) {
                    set_motion(list, parts[i], {});
                    continue;
                }
                const int ref = mb_->ref[static_cast<std::size_t>(list)]
                                        [static_cast<std::size_t>(parts[i].y / 2 * 2 + parts[i].x / 2)];
                if (!read_vector(list, parts[i], predict_directional(list, parts[i], ref))) return false;
            }
        }
    }
    if (pps_->cabac) {
        mb_->pattern = static_cast<std::uint8_t>(cabac_pattern());
    } else {
        const std::uint32_t code = bits_.ue();
        if (code > 47) return false;
        mb_->pattern = kCodedBlockPattern[code][1];
    }
    if ((mb_->pattern & 15) != 0 && pps_->transform_8x8 && small)
        mb_->transform8 = pps_->cabac ? cabac_transform8() : bits_.flag() != 0;
    return parse_residual();
}

// 7.3.5.2
bool SliceParser::parse_sub_blocks() {
    const bool b = b_slice_;
    int lists[4], shapes[4];
    for (int i = 0; i < 4; ++i) {
        const int type = read_sub_type();
        if (type < 0) return false;
        sub_types_[i] = static_cast<std::uint8_t>(type);
        lists[i] = b ? kBSub[type][0] : 1;
        shapes[i] = b ? kBSub[type][1] : type;
        if (b && type == 0) own_->direct = static_cast<std::uint8_t>(own_->direct | 1 << i);
    }
    for (int list = 0; list < (b ? 2 : 1); ++list) {
        for (int i = 0; i < 4; ++i) {
            if ((lists[i] >> list & 1) == 0) continue;
            const Partition p{i % 2 * 2, i / 2 * 2, 2, 2};
            const int ref = !b && type_ == 4 ? 0 : read_ref(list, p);
            if (ref < 0) return false;
            set_ref(list, p, ref);
            for (int k = 0; k < 4; ++k) ref_large_[list][cell(p.x + k % 2, p.y + k / 2)] = ref > 0;
        }
    }
    // Vectors are coded list by list, but those of direct blocks, of both lists, are neighbours to what comes after.
    for (int list = 0; list < (b ? 2 : 1); ++list) {
        for (int i = 0; i < 4; ++i) {
            const Partition p{i % 2 * 2, i / 2 * 2, 2, 2};
            if (b && sub_types_[i] == 0) {
                if (list == 0) {
                    predict_direct(1 << i);
                } else {
                    for (int k = 0; k < 4; ++k) {
                        const int x = p.x + k % 2, y = p.y + k / 2;
                        ref_cache_[1][cell(x, y)] = mb_->ref[1][static_cast<std::size_t>(i)];
                        mv_cache_[1][cell(x, y)] = mv_[1][static_cast<std::size_t>(y * 4 + x)];
                    }
                }
                continue;
            }
            if ((lists[i] >> list & 1) == 0) {
                set_motion(list, p, {});
                continue;
            }
            const int ref = mb_->ref[static_cast<std::size_t>(list)][static_cast<std::size_t>(i)];
            const int width = shapes[i] == 0 || shapes[i] == 1 ? 2 : 1,
                      height = shapes[i] == 0 || shapes[i] == 2 ? 2 : 1;
            for (int y = p.y; y < p.y + 2; y += height) {
                for (int x = p.x; x < p.x + 2; x += width) {
                    const Partition q{x, y, width, height};
                    if (!read_vector(list, q, predict(list, q, ref))) return false;
                }
            }
        }
        if (list == 0 && b) {
            // What the direct blocks wrote of list 1 isn't there yet for blocks before them.
            for (int y = 0; y < 4; ++y) {
                for (int x = 0; x < 4; ++x) ref_cache_[1][cell(x, y)] = -2;
            }
        }
    }
    mb_->shape = Shape::quarters;
    for (std::size_t i = 0; i < 4; ++i) {
        mb_->sub_shapes[i] = !b || sub_types_[i] != 0     ? static_cast<Shape>(shapes[i])
                             : sps_->direct_8x8_inference ? Shape::whole
                                                          : Shape::quarters;
    }
    return true;
}

// 7.3.5.3
bool SliceParser::parse_residual() {
    if (mb_->pattern == 0 && mb_->kind != Kind::intra16) {
        last_delta_ = 0;
        return true;
    }
    if (!next_qp(pps_->cabac ? cabac_qp_delta() : bits_.se())) return false;
    RowCoefficients& store = work_->coefficients_of(work_->row_of(row_));
    std::int16_t* const begin = store.add(*work_->pieces, mb_->coefficients);
    std::int16_t* next = begin;
    // Blocks that are there, one after the other; of those with the first coefficient alone, that.
    bool ok = false;
    if (mb_->kind == Kind::intra16) {
        std::int16_t* const chroma = begin + 16 * 16;
        ok = parse_intra16_luma(begin) && parse_chroma(chroma);
        pack(begin, 0, 16, next);
        pack(chroma, 16, 24, next);
    } else {
        ok = parse_luma(next);
        const std::int16_t* const chroma = next;
        ok = ok && parse_chroma(next);
        pack(chroma, 16, 24, next);
    }
    store.keep(static_cast<std::size_t>(next - begin));
    for (std::size_t b = 0; b < 16; ++b) {
        if (own_->coded[b] != 0) mb_->filled = static_cast<std::uint16_t>(mb_->filled | 1u << b);
    }
    if (mb_->transform8) {
        // A block of 8x8 is one.
        constexpr unsigned kEight[4] = {0x0033, 0x00CC, 0x3300, 0xCC00};
        for (const unsigned mask : kEight) {
            if ((mb_->filled & mask) != 0) mb_->filled = static_cast<std::uint16_t>(mb_->filled | mask);
        }
    }
    return ok;
}

// Moves blocks that lie in their places, the first at `from`, to where they are kept.
void SliceParser::pack(const std::int16_t* from, int first, int end, std::int16_t*& to) const {
    for (std::uint32_t left = mb_->nonzero >> first & ((1u << (end - first)) - 1); left != 0; left &= left - 1) {
        const int block = std::countr_zero(left);
        const std::int16_t* const its = from + 16 * block;
        if ((mb_->only_dc >> (first + block) & 1) != 0) {
            *to++ = *its;
            continue;
        }
        std::int16_t all[16];
        std::memcpy(all, its, sizeof all);
        std::memcpy(to, all, sizeof all);
        to += 16;
    }
}

bool SliceParser::parse_luma(std::int16_t*& next) {
    const bool intra = mb_->intra();
    const int field = mb_->field ? 1 : 0;
    const std::int32_t* const scale = scales_->small[intra ? 0 : 3][mb_->qp].data();
    for (int b8 = 0; b8 < 4; ++b8) {
        if ((mb_->pattern >> b8 & 1) == 0) continue;
        const int x8 = b8 % 2 * 2, y8 = b8 / 2 * 2;
        if (mb_->transform8) {
            const std::int32_t* const large = scales_->large[intra ? 0 : 1][mb_->qp].data();
            int total = 0;
            bool first_alone = false;
            if (pps_->cabac) {
                total = cabac_block(5, kScan8x8[field], large, 6, next, 64);
                first_alone = only_first_;
                if (total < 0) return false;
                for (int k = 0; k < 4; ++k)
                    own_->coded[static_cast<std::size_t>((y8 + k / 2) * 4 + x8 + k % 2)] =
                        static_cast<std::uint8_t>(total);
            } else {
                // Four blocks, interleaved.
                for (int k = 0; k < 4; ++k) {
                    std::uint8_t scan[16];
                    for (int i = 0; i < 16; ++i) scan[i] = kScan8x8[field][4 * i + k];
                    const int x = x8 + k % 2, y = y8 + k / 2;
                    const int count = cavlc_block(coefficient_context(0, x, y), scan, large, 6, next, 16);
                    if (count < 0) return false;
                    own_->coded[static_cast<std::size_t>(y * 4 + x)] = static_cast<std::uint8_t>(count);
                    if (k == 0) first_alone = only_first_;
                    total += count;
                }
                first_alone = first_alone && total == 1;
            }
            if (total == 0) continue;
            mb_->nonzero |= 1u << (4 * b8);
            if (first_alone) mb_->only_dc |= 1u << (4 * b8);
            next += first_alone ? 1 : 64;
            continue;
        }
        for (int k = 0; k < 4; ++k) {
            const int x = x8 + k % 2, y = y8 + k / 2;
            int count = 0;
            if (!pps_->cabac) {
                count = cavlc_block(coefficient_context(0, x, y), kScan4x4[field], scale, 4, next, 16);
            } else if (coded_flag(2, 0, x, y)) {
                count = cabac_block(2, kScan4x4[field], scale, 4, next, 16);
            }
            if (count < 0) return false;
            if (count == 0) continue;
            own_->coded[static_cast<std::size_t>(y * 4 + x)] = static_cast<std::uint8_t>(count);
            mb_->nonzero |= 1u << (4 * b8 + k);
            if (only_first_) mb_->only_dc |= 1u << (4 * b8 + k);
            next += only_first_ ? 1 : 16;
        }
    }
    return true;
}

constexpr std::int32_t kUnscaled[16] = {1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1, 1};

// All sixteen blocks, each in its place.
bool SliceParser::parse_intra16_luma(std::int16_t* blocks) {
    const int field = mb_->field ? 1 : 0;
    const std::int32_t* const scale = scales_->small[0][mb_->qp].data();
    std::int16_t dc[16] = {};
    int count = 0;
    if (!pps_->cabac) {
        count = cavlc_block(coefficient_context(0, 0, 0), kScan4x4[field], kUnscaled, 0, dc, 16);
    } else if (coded_flag(0, 0, 0, 0)) {
        count = cabac_block(0, kScan4x4[field], kUnscaled, 0, dc, 16);
    }
    if (count < 0) return false;
    if (count > 0) own_->dc_coded |= 1;
    for (int block = 0; block < 16 && (mb_->pattern & 15) != 0; ++block) {
        const int place = kCodingOrder[block];
        std::int16_t* const out = blocks + 16 * block;
        int more = 0;
        if (!pps_->cabac) {
            more = cavlc_block(coefficient_context(0, place % 4, place / 4), kScan4x4[field] + 1, scale, 4, out, 15);
        } else if (coded_flag(1, 0, place % 4, place / 4)) {
            more = cabac_block(1, kScan4x4[field] + 1, scale, 4, out, 15);
        }
        if (more < 0) return false;
        own_->coded[static_cast<std::size_t>(place)] = static_cast<std::uint8_t>(more);
        if (more > 0) mb_->nonzero |= 1u << block;
    }
    if (count == 0) return true;
    // 8.5.10
    std::int32_t f[16];
    for (int i = 0; i < 4; ++i) {
        const std::int16_t* d = dc + 4 * i;
        const int a = d[0] + d[1], b = d[0] - d[1], c = d[2] + d[3], e = d[2] - d[3];
        f[4 * i] = a + c;
        f[4 * i + 1] = a - c;
        f[4 * i + 2] = b - e;
        f[4 * i + 3] = b + e;
    }
    for (int i = 0; i < 4; ++i) {
        const int a = f[i] + f[4 + i], b = f[i] - f[4 + i], c = f[8 + i] + f[12 + i], e = f[8 + i] - f[12 + i];
        const std::int32_t column[4] = {a + c, a - c, b - e, b + e};
        for (int k = 0; k < 4; ++k) {
            const int block = k / 2 * 8 + k % 2 * 2 + i / 2 * 4 + i % 2;
            const auto value = static_cast<std::int16_t>((std::int64_t{column[k]} * scale[0] + 32) >> 6);
            blocks[16 * block] = value;
            if (value == 0 || (mb_->nonzero >> block & 1) != 0) continue;
            mb_->nonzero |= 1u << block;
            mb_->only_dc |= 1u << block;
        }
    }
    return true;
}

// All eight blocks, each in its place.
bool SliceParser::parse_chroma(std::int16_t* blocks) {
    static constexpr std::uint8_t kPlain[16] = {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15};
    const int chroma = mb_->pattern >> 4, field = mb_->field ? 1 : 0;
    if (chroma == 0) return true;
    const std::size_t first_list = mb_->intra() ? 1 : 4;
    for (int c = 0; c < 2; ++c) {
        const std::int32_t dc_scale = scales_->small[first_list + static_cast<std::size_t>(c)][mb_->chroma_qp[c]][0];
        std::int16_t dc[16] = {};
        int count = 0;
        if (!pps_->cabac) {
            count = cavlc_block(-1, kPlain, kUnscaled, 0, dc, 4);
        } else if (coded_flag(3, c + 1, 0, 0)) {
            count = cabac_block(3, kPlain, kUnscaled, 0, dc, 4);
        }
        if (count < 0) return false;
        if (count == 0) continue;
        own_->dc_coded = static_cast<std::uint8_t>(own_->dc_coded | 2 << c);
        // 8.5.11
        const int sums[4] = {dc[0] + dc[1] + dc[2] + dc[3], dc[0] - dc[1] + dc[2] - dc[3],
                             dc[0] + dc[1] - dc[2] - dc[3], dc[0] - dc[1] - dc[2] + dc[3]};
        for (int k = 0; k < 4; ++k) {
            const auto value = static_cast<std::int16_t>((std::int64_t{sums[k]} * dc_scale) >> 5);
            blocks[16 * (4 * c + k)] = value;
            if (value != 0) mb_->nonzero |= 1u << (16 + 4 * c + k);
        }
    }
    mb_->only_dc |= mb_->nonzero & 0xFF0000;
    if (chroma != 2) return true;
    for (int c = 0; c < 2; ++c) {
        const std::int32_t* const scale =
            scales_->small[first_list + static_cast<std::size_t>(c)][mb_->chroma_qp[c]].data();
        for (int k = 0; k < 4; ++k) {
            std::int16_t* const out = blocks + 16 * (4 * c + k);
            int count = 0;
            if (!pps_->cabac) {
                count = cavlc_block(coefficient_context(c + 1, k % 2, k / 2), kScan4x4[field] + 1, scale, 4, out, 15);
            } else if (coded_flag(4, c + 1, k % 2, k / 2)) {
                count = cabac_block(4, kScan4x4[field] + 1, scale, 4, out, 15);
            }
            if (count < 0) return false;
            if (count == 0) continue;
            own_->coded[static_cast<std::size_t>(16 + 4 * c + k)] = static_cast<std::uint8_t>(count);
            mb_->nonzero |= 1u << (16 + 4 * c + k);
            mb_->only_dc &= ~(1u << (16 + 4 * c + k));
        }
    }
    return true;
}

}  // namespace wavecrest::codec::h264
