#include "codec/h264/slice.hpp"

#include <algorithm>
#include <cstring>

namespace wavecrest::codec::h264 {

QuantScales make_scales(const bitstream::h264::ScalingLists& lists) {
    // 8.5.9: by qP % 6, then by place.
    constexpr int kSmall[6][3] = {{10, 16, 13}, {11, 18, 14}, {13, 20, 16}, {14, 23, 18}, {16, 25, 20}, {18, 29, 23}};
    constexpr int kLarge[6][6] = {{20, 18, 32, 19, 25, 24}, {22, 19, 35, 21, 28, 26}, {26, 23, 42, 24, 33, 31},
                                  {28, 25, 45, 26, 35, 33}, {32, 28, 51, 30, 40, 38}, {36, 32, 58, 34, 46, 43}};
    QuantScales scales;
    for (std::size_t qp = 0; qp < 52; ++qp) {
        for (std::size_t place = 0; place < 16; ++place) {
            const std::size_t x = place % 4, y = place / 4;
            const int norm = kSmall[qp % 6][x % 2 == 0 && y % 2 == 0 ? 0 : x % 2 == 1 && y % 2 == 1 ? 1 : 2];
            for (std::size_t list = 0; list < 6; ++list)
                scales.small[list][qp][place] = lists.small[list][place] * norm << (qp / 6);
        }
        for (std::size_t place = 0; place < 64; ++place) {
            const std::size_t x = place % 8, y = place / 8;
            const int which = x % 4 == 0 && y % 4 == 0                                   ? 0
                              : x % 2 == 1 && y % 2 == 1                                 ? 1
                              : x % 4 == 2 && y % 4 == 2                                 ? 2
                              : (x % 4 == 0 && y % 2 == 1) || (x % 2 == 1 && y % 4 == 0) ? 3
                              : (x % 4 == 0 && y % 4 == 2) || (x % 4 == 2 && y % 4 == 0) ? 4
                                                                                         : 5;
            for (std::size_t list = 0; list < 2; ++list)
                scales.large[list][qp][place] = lists.large[list][place] * kLarge[qp % 6][which] << (qp / 6);
        }
    }
    return scales;
}

int SliceDecoder::decode(const SliceInput& input) {
    input_ = &input;
    sps_ = input.sps;
    pps_ = input.pps;
    header_ = &input.header;
    frame_ = input.frame;
    number_ = static_cast<std::uint16_t>(input.number);
    adaptive_ = sps_->macroblock_adaptive && !header_->field;
    qp_ = header_->qp;
    last_delta_ = 0;
    pair_field_ = false;
    if (pps_->cabac) {
        mvds_.resize(frame_->macroblocks.size());
        cabac_.start(input.rbsp.subspan(std::min((header_->bits + 7) / 8, input.rbsp.size())));
        cabac_.set_contexts(header_->type == SliceType::i ? 0 : header_->cabac_init + 1, header_->qp);
        return run_cabac();
    }
    bits_ = SliceBits(input.rbsp, header_->bits);
    return run_cavlc();
}

bool SliceDecoder::begin_macroblock(int address) {
    const int columns = frame_->columns;
    address_ = address;
    if (adaptive_) {
        x_ = address / 2 % columns;
        row_ = address / 2 / columns * 2 + (address & 1);
    } else if (header_->field) {
        x_ = address % columns;
        row_ = address / columns * 2 + (header_->bottom ? 1 : 0);
    } else {
        x_ = address % columns;
        row_ = address / columns;
    }
    if (row_ >= frame_->rows) return false;
    index_ = row_ * columns + x_;
    mb_ = &at(index_);
    return true;
}

// Everything as of a macroblock that isn't coded; its field decoding flag is known.
void SliceDecoder::reset_macroblock() {
    *mb_ = {};
    mb_->field = header_->field || (adaptive_ && pair_field_);
    mb_->slice = number_;
    mb_->modes.fill(2);
    for (int list = 0; list < 2; ++list) {
        mb_->ref[list].fill(-1);
        mb_->ref_picture[list].fill(-1);
    }
    set_qp(qp_);
    if (pps_->cabac) mvds_[static_cast<std::size_t>(index_)] = {};
    nonzero_ = 0;
    part_count_ = 0;
    find_neighbours();
}

void SliceDecoder::set_qp(int qp) {
    mb_->qp = static_cast<std::uint8_t>(qp);
    for (int c = 0; c < 2; ++c) mb_->chroma_qp[c] = kChromaQp[std::clamp(qp + pps_->chroma_qp_offset[c], 0, 51)];
}

// mb_qp_delta (7.4.5).
bool SliceDecoder::next_qp(int delta) {
    if (delta < -26 || delta > 25) return false;
    last_delta_ = delta;
    qp_ = (qp_ + delta + 52) % 52;
    set_qp(qp_);
    return true;
}

// Table 6-4 for adaptive frames, 6.4.12.1 for others; `x` from -1 to 16, `y` from -1 to 15, not inside.
SliceDecoder::Place SliceDecoder::neighbour(int x, int y) const {
    const int columns = frame_->columns;
    const auto place = [&](int macroblock, int line) {
        return usable(macroblock) ? Place{macroblock, (line & 15) >> 2} : Place{};
    };
    const int dx = x < 0 ? -1 : x > 15 ? 1 : 0;
    if (x_ + dx < 0 || x_ + dx >= columns) return {};
    if (!adaptive_) {
        if (y >= 0) return dx < 0 ? place(index_ - 1, y) : Place{};
        return place(index_ + dx - (header_->field ? 2 : 1) * columns, y);
    }
    const int pair = index_ - (row_ & 1) * columns;  // of the pair's upper macroblock
    const bool lower = (row_ & 1) != 0, field = mb_->field;
    if (y < 0) {
        const int above = pair - 2 * columns + dx;
        if (dx < 0 && !field && lower) {
            // Beside the middle of this pair.
            const int left = pair - 1;
            if (!usable(left)) return {};
            return at(left).field ? place(left + columns, 7) : place(left, 15);
        }
        if (dx == 0 && !field && lower) return place(pair, 15);
        if (dx > 0 && !field && lower) return {};
        if (!usable(above)) return {};
        if (!field) return place(above + columns, 15);
        if (lower) return place(above + columns, 15);
        return at(above).field ? place(above, 15) : place(above + columns, 14);
    }
    if (dx >= 0) return {};
    const int left = pair - 1;
    if (!usable(left)) return {};
    const bool left_field = at(left).field;
    if (!field) {
        if (!left_field) return place(lower ? left + columns : left, y);
        const int line = lower ? y + 16 : y;
        return place(line % 2 == 0 ? left : left + columns, line >> 1);
    }
    if (left_field) return place(lower ? left + columns : left, y);
    const int line = 2 * y + (lower ? 1 : 0);
    return y < 8 ? place(left, line) : place(left + columns, line - 16);
}

void SliceDecoder::find_neighbours() {
    for (int r = 0; r < 4; ++r) left_rows_[r] = neighbour(-1, 4 * r);
    above_ = neighbour(0, -1);
    above_right_ = neighbour(16, -1);
    above_left_ = neighbour(-1, -1);
    left_ = left_rows_[0].macroblock;
    top_ = above_.macroblock;
}

// 7.4.4: where a pair doesn't say whether it is of fields, it is like the pair to the left, or else above.
void SliceDecoder::infer_field() {
    const int pair = index_ - (row_ & 1) * frame_->columns;
    pair_field_ = false;
    if (x_ > 0 && usable(pair - 1)) {
        pair_field_ = at(pair - 1).field;
    } else if (usable(pair - 2 * frame_->columns)) {
        pair_field_ = at(pair - 2 * frame_->columns).field;
    }
}

void SliceDecoder::skip_macroblock() {
    mb_->kind = Kind::inter;
    mb_->skipped = true;
    last_delta_ = 0;
    fill_cache();
    if (header_->type == SliceType::b) {
        mb_->direct = 15;
        predict_direct(15);
    } else {
        predict_skip();
    }
}

bool SliceDecoder::finish_macroblock() {
    store_ref_pictures();
    reconstruct();
    return true;
}

// I macroblock types (table 7-11), from 0.
bool SliceDecoder::take_intra_type(int type) {
    if (type == 0) {
        mb_->kind = Kind::intra4;
    } else if (type <= 24) {
        mb_->kind = Kind::intra16;
        intra16_mode_ = (type - 1) % 4;
        const int chroma = (type - 1) / 4 % 3;
        mb_->pattern = static_cast<std::uint8_t>((type > 12 ? 15 : 0) | chroma << 4);
    } else if (type == 25) {
        mb_->kind = Kind::pcm;
    } else {
        return false;
    }
    return true;
}

// 8.3.1.1 and 8.3.2.1.
int SliceDecoder::predicted_mode(int block) const {
    const int x = block % 4, y = block / 4;
    const auto mode_of = [&](const Place& place, int column, bool inside) {
        if (inside) return static_cast<int>(mb_->modes[static_cast<std::size_t>(place.row * 4 + column)]);
        if (place.macroblock < 0) return -1;
        const Macroblock& other = at(place.macroblock);
        if (other.kind == Kind::inter) return pps_->constrained_intra ? -1 : 2;
        return static_cast<int>(other.modes[static_cast<std::size_t>(place.row * 4 + column)]);
    };
    const int left = x > 0 ? mode_of({0, y}, x - 1, true) : mode_of(left_rows_[y], 3, false);
    const int top = y > 0 ? mode_of({0, y - 1}, x, true) : mode_of(above_, x, false);
    return left < 0 || top < 0 ? 2 : std::min(left, top);
}

void SliceDecoder::set_mode(int block, int size, int mode) {
    for (int y = 0; y < size; ++y) {
        for (int x = 0; x < size; ++x)
            mb_->modes[static_cast<std::size_t>(block + y * 4 + x)] = static_cast<std::int8_t>(mode);
    }
}

void SliceDecoder::fill_cache() {
    for (int list = 0; list < 2; ++list) {
        std::memset(ref_cache_[list], -2, sizeof ref_cache_[list]);
        if (list == 1 && header_->type != SliceType::b) break;
        for (int r = 0; r < 4; ++r) {
            const Candidate c = scaled(list, left_rows_[r], 3);
            ref_cache_[list][cell(-1, r)] = static_cast<std::int8_t>(c.ref);
            mv_cache_[list][cell(-1, r)] = c.mv;
        }
        for (int x = 0; x < 4; ++x) {
            const Candidate c = scaled(list, above_, x);
            ref_cache_[list][cell(x, -1)] = static_cast<std::int8_t>(c.ref);
            mv_cache_[list][cell(x, -1)] = c.mv;
        }
        const Candidate right = scaled(list, above_right_, 0), corner = scaled(list, above_left_, 3);
        ref_cache_[list][cell(4, -1)] = static_cast<std::int8_t>(right.ref);
        mv_cache_[list][cell(4, -1)] = right.mv;
        ref_cache_[list][cell(-1, -1)] = static_cast<std::int8_t>(corner.ref);
        mv_cache_[list][cell(-1, -1)] = corner.mv;
        if (!pps_->cabac) continue;
        // For the contexts of ref_idx and mvd (9.3.3.1.1.6 and 7).
        const auto around = [&](int to, const Place& place, int column) {
            ref_large_[list][to] = false;
            mvd_cache_[list][to][0] = mvd_cache_[list][to][1] = 0;
            if (place.macroblock < 0) return;
            const Macroblock& other = at(place.macroblock);
            if (other.kind != Kind::inter) return;
            const int block8 = place.row / 2 * 2 + column / 2;
            const int ref = other.ref[static_cast<std::size_t>(list)][static_cast<std::size_t>(block8)];
            const int more = adaptive_ && !mb_->field && other.field ? 1 : 0;
            ref_large_[list][to] = !other.skipped && (other.direct >> block8 & 1) == 0 && ref > more;
            const auto& mvd = mvds_[static_cast<std::size_t>(place.macroblock)][static_cast<std::size_t>(list)]
                                   [static_cast<std::size_t>(place.row * 4 + column)];
            mvd_cache_[list][to][0] = mvd[0];
            mvd_cache_[list][to][1] = mvd[1];
            if (adaptive_ && mb_->field != other.field)
                mvd_cache_[list][to][1] =
                    static_cast<std::uint8_t>(mb_->field ? mvd[1] / 2 : std::min(mvd[1] * 2, 255));
        };
        for (int i = 0; i < 4; ++i) {
            around(cell(-1, i), left_rows_[i], 3);
            around(cell(i, -1), above_, i);
        }
        for (int y = 0; y < 4; ++y) {
            for (int x = 0; x < 4; ++x) {
                ref_large_[list][cell(x, y)] = false;
                mvd_cache_[list][cell(x, y)][0] = mvd_cache_[list][cell(x, y)][1] = 0;
            }
        }
    }
}

void SliceDecoder::set_ref(int list, const Partition& p, int ref) {
    for (int y = p.y / 2; y < (p.y + p.height + 1) / 2; ++y) {
        for (int x = p.x / 2; x < (p.x + p.width + 1) / 2; ++x)
            mb_->ref[static_cast<std::size_t>(list)][static_cast<std::size_t>(y * 2 + x)] =
                static_cast<std::int8_t>(ref);
    }
}

// Its reference is known by set_ref().
void SliceDecoder::set_motion(int list, const Partition& p, Vector mv) {
    const auto l = static_cast<std::size_t>(list);
    const std::int8_t ref = mb_->ref[l][static_cast<std::size_t>(p.y / 2 * 2 + p.x / 2)];
    for (int y = p.y; y < p.y + p.height; ++y) {
        for (int x = p.x; x < p.x + p.width; ++x) {
            mb_->mv[l][static_cast<std::size_t>(y * 4 + x)] = mv;
            mv_cache_[list][cell(x, y)] = mv;
            ref_cache_[list][cell(x, y)] = ref;
        }
    }
}

Reference SliceDecoder::reference(int list, int ref) const {
    const auto& refs = input_->lists[list];
    const bool of_pair = adaptive_ && mb_->field;
    const auto i = static_cast<std::size_t>(of_pair ? ref >> 1 : ref);
    if (refs.empty()) return {};
    Reference found = refs[std::min(i, refs.size() - 1)];
    // 8.4.2.1: fields of the frames in turn, that of the same parity first.
    if (of_pair) found.structure = ((ref & 1) != 0) != ((row_ & 1) != 0) ? kBottom : kTop;
    return found;
}

void SliceDecoder::store_ref_pictures() {
    if (mb_->kind != Kind::inter) return;
    for (int list = 0; list < (header_->type == SliceType::b ? 2 : 1); ++list) {
        for (std::size_t block = 0; block < 4; ++block) {
            const int ref = mb_->ref[static_cast<std::size_t>(list)][block];
            if (ref < 0) continue;
            const Reference r = reference(list, ref);
            mb_->ref_picture[static_cast<std::size_t>(list)][block] = r.frame != nullptr ? r.id() : -1;
        }
    }
}

}  // namespace wavecrest::codec::h264
