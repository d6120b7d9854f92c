#include "codec/h264/slice.hpp"

#include <algorithm>
#include <cstdlib>
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

namespace {

Slice::Samples samples_of(const Reference& reference) {
    Slice::Samples samples;
    if (reference.frame == nullptr) return samples;
    const Picture& picture = reference.frame->picture;
    samples.width = picture.width;
    samples.height = picture.height;
    samples.bottom = reference.structure == kBottom;
    for (int c = 0; c < 3; ++c) {
        samples.planes[c] = picture.planes[c] + (samples.bottom ? picture.strides[c] : 0);
        samples.strides[c] = picture.strides[c] * (reference.structure == kFrame ? 1 : 2);
    }
    if (reference.structure != kFrame) samples.height /= 2;
    return samples;
}

// 8.4.2.3.1: the weight of list 1's prediction.
int implicit_weight(const Reference& r0, const Reference& r1, int now) {
    if (r0.frame == nullptr || r1.frame == nullptr) return 32;
    const int td = std::clamp(r1.order_count() - r0.order_count(), -128, 127);
    if (td == 0 || r0.long_term || r1.long_term) return 32;
    const int tb = std::clamp(now - r0.order_count(), -128, 127);
    const int tx = (16384 + std::abs(td / 2)) / td;
    const int scale = std::clamp((tb * tx + 32) >> 6, -1024, 1023) >> 2;
    return scale >= -64 && scale <= 128 ? scale : 32;
}

}  // namespace

void prepare_samples(Slice& slice, const Frame& frame, bool adaptive) {
    std::vector<Reference> lists[3][2];
    for (int list = 0; list < 2; ++list) {
        lists[Slice::kUsual][list] = slice.lists[list];
        if (!adaptive) continue;
        for (const Reference& one : slice.lists[list]) {
            for (const int structure : {kTop, kBottom}) {
                lists[Slice::kUpper][list].push_back({one.frame, structure, one.stands_in, one.long_term});
                lists[Slice::kLower][list].push_back({one.frame, kFrame - structure, one.stands_in, one.long_term});
            }
        }
    }
    const SliceHeader& header = slice.header;
    for (int kind = 0; kind < (adaptive ? 3 : 1); ++kind) {
        for (int list = 0; list < 2; ++list) {
            for (const Reference& one : lists[kind][list]) slice.samples[kind][list].push_back(samples_of(one));
        }
        if (header.type != SliceType::b || slice.weighted != 2) continue;
        const int now = kind != Slice::kUsual ? frame.order[kind == Slice::kUpper ? 0 : 1]
                        : header.field        ? frame.order[header.bottom ? 1 : 0]
                                              : std::min(frame.order[0], frame.order[1]);
        for (const Reference& r0 : lists[kind][0]) {
            for (const Reference& r1 : lists[kind][1])
                slice.implicit[kind].push_back(static_cast<std::int16_t>(implicit_weight(r0, r1, now)));
        }
    }
}

int SliceParser::parse(Work& work, const Sps& sps, const Pps& pps, const QuantScales& scales, ByteSpan bytes,
                       const std::function<void(int row)>& row_done) {
    work_ = &work;
    slice_ = &work.slices.back();
    sps_ = &sps;
    pps_ = &pps;
    scales_ = &scales;
    header_ = &slice_->header;
    frame_ = work.frame;
    macroblocks_ = work.macroblocks.data();
    number_ = work.first_slice + static_cast<std::uint32_t>(work.slices.size()) - 1;
    adaptive_ = work.adaptive;
    b_slice_ = header_->type == SliceType::b;
    qp_ = header_->qp;
    last_delta_ = 0;
    pair_field_ = false;
    row_done_ = &row_done;
    mv_ = {};  // P slices leave those of list 1
    parsed_.resize(static_cast<std::size_t>(2 * work.columns * work.rows_in_raster()));
    if (pps_->cabac) {
        cabac_.start(bytes, (header_->bits + 7) / 8);
        contexts_.set(header_->type == SliceType::i ? 0 : header_->cabac_init + 1, header_->qp);
        return run_cabac();
    }
    bits_ = SliceBits(bytes, header_->bits);
    return run_cavlc();
}

bool SliceParser::begin_macroblock(int address) {
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
    index_ = static_cast<int>(work_->place_of(row_)) + x_;
    // Above the first row lies what no slice of this picture left there.
    const int first = adaptive_ ? row_ & ~1 : row_, rows = adaptive_ || header_->field ? 2 : 1;
    up_ = static_cast<int>(work_->place_of(first - rows)) - static_cast<int>(work_->place_of(first));
    mb_ = macroblocks_ + index_;
    own_ = &parsed_[parsed_place(index_)];
    return true;
}

// Everything as of a macroblock that isn't coded; its field decoding flag is known.
void SliceParser::reset_macroblock() {
    static const Macroblock kBlank = [] {
        Macroblock blank;
        for (std::size_t list = 0; list < 2; ++list) {
            blank.ref[list].fill(-1);
            blank.ref_picture[list].fill(-1);
        }
        return blank;
    }();
    *mb_ = kBlank;
    *own_ = {};
    mb_->field = header_->field || (adaptive_ && pair_field_);
    mb_->slice = number_;
    mb_->of = slice_;
    set_qp(qp_);
    find_neighbours();
}

void SliceParser::set_qp(int qp) {
    mb_->qp = static_cast<std::uint8_t>(qp);
    for (int c = 0; c < 2; ++c) mb_->chroma_qp[c] = kChromaQp[std::clamp(qp + pps_->chroma_qp_offset[c], 0, 51)];
}

// mb_qp_delta (7.4.5).
bool SliceParser::next_qp(int delta) {
    if (delta < -26 || delta > 25) return false;
    last_delta_ = delta;
    qp_ = (qp_ + delta + 52) % 52;
    set_qp(qp_);
    return true;
}

// Table 6-4 for adaptive frames, 6.4.12.1 for others; `x` from -1 to 16, `y` from -1 to 15, not inside.
SliceParser::Place SliceParser::neighbour(int x, int y) const {
    const int columns = frame_->columns;
    const auto place = [&](int macroblock, int line) {
        return usable(macroblock) ? Place{macroblock, (line & 15) >> 2, parsed_of(macroblock)} : Place{};
    };
    const int dx = x < 0 ? -1 : x > 15 ? 1 : 0;
    if (x_ + dx < 0 || x_ + dx >= columns) return {};
    if (!adaptive_) {
        if (y >= 0) return dx < 0 ? place(index_ - 1, y) : Place{};
        return place(index_ + dx + up_, y);
    }
    const int pair = index_ - (row_ & 1) * columns;  // of the pair's upper macroblock
    const bool lower = (row_ & 1) != 0, field = mb_->field;
    if (y < 0) {
        const int above = pair + up_ + dx;
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

void SliceParser::find_neighbours() {
    if (!adaptive_) {
        const int above = index_ + up_;
        left_ = x_ > 0 && usable(index_ - 1) ? index_ - 1 : -1;
        top_ = usable(above) ? above : -1;
        const Parsed* const left = left_ >= 0 ? parsed_of(left_) : nullptr;
        for (int r = 0; r < 4; ++r) left_rows_[r] = {left_, r, left};
        above_ = {top_, 3, top_ >= 0 ? parsed_of(top_) : nullptr};
        above_right_ = {x_ + 1 < frame_->columns && usable(above + 1) ? above + 1 : -1, 3, nullptr};
        above_left_ = {x_ > 0 && usable(above - 1) ? above - 1 : -1, 3, nullptr};
        return;
    }
    for (int r = 0; r < 4; ++r) left_rows_[r] = neighbour(-1, 4 * r);
    above_ = neighbour(0, -1);
    above_right_ = neighbour(16, -1);
    above_left_ = neighbour(-1, -1);
    left_ = left_rows_[0].macroblock;
    top_ = above_.macroblock;
}

// 7.4.4: where a pair doesn't say whether it is of fields, it is like the pair to the left, or else above.
void SliceParser::infer_field() {
    const int pair = index_ - (row_ & 1) * frame_->columns;
    pair_field_ = false;
    if (x_ > 0 && usable(pair - 1)) {
        pair_field_ = at(pair - 1).field;
    } else if (usable(pair + up_)) {
        pair_field_ = at(pair + up_).field;
    }
}

void SliceParser::skip_macroblock() {
    mb_->kind = Kind::inter;
    own_->skipped = true;
    last_delta_ = 0;
    fill_cache();
    if (b_slice_) {
        own_->direct = 15;
        predict_direct(15);
        merge_direct();
    } else {
        predict_skip();
    }
}

void SliceParser::finish_macroblock() {
    store_ref_pictures();
    store_vectors();
    if (frame_->motion) store_motion(*frame_->motion);
    if (mb_->intra()) find_intra_edges();
    work_->field_macroblocks |= adaptive_ && mb_->field;
    const bool last = x_ + 1 == frame_->columns && (!adaptive_ || (address_ & 1) != 0);
    if (last) (*row_done_)(work_->row_of(row_));
}

// As few as there are by its shape.
void SliceParser::store_vectors() {
    if (mb_->kind != Kind::inter) return;
    switch (mb_->shape) {
        case Shape::whole:
            mb_->layout = VectorLayout::one;
            break;
        case Shape::rows:
            mb_->layout = VectorLayout::rows;
            break;
        case Shape::columns:
            mb_->layout = VectorLayout::columns;
            break;
        case Shape::quarters:
            mb_->layout = std::all_of(mb_->sub_shapes.begin(), mb_->sub_shapes.end(),
                                      [](Shape shape) { return shape == Shape::whole; })
                              ? VectorLayout::quarters
                              : VectorLayout::blocks;
            break;
    }
    const auto kind = static_cast<std::size_t>(mb_->layout);
    const auto count = static_cast<std::size_t>(kVectorCount[kind]);
    Vector* const vectors = work_->vectors_of(work_->row_of(row_)).add(*work_->vector_pieces, 2 * count);
    for (std::size_t list = 0; list < 2; ++list) {
        for (std::size_t i = 0; i < count; ++i) vectors[list * count + i] = mv_[list][kBlockOfVector[kind][i]];
    }
    mb_->vectors = vectors;
}

Motion::Block8 SliceParser::stored_block(std::size_t list, std::size_t block8) const {
    const int ref = mb_->ref[list][block8];
    Motion::Block8 block;
    if (ref < 0) {
        block.flag = mb_->field;
        return block;
    }
    const Reference to = reference(static_cast<int>(list), ref);
    if (to.frame != nullptr) block.slot = to.frame->slot & 0x1F;
    block.structure = static_cast<std::uint8_t>(to.structure) & 3;
    block.flag = ref == 0;
    return block;
}

void SliceParser::store_motion(Motion& motion) const {
    const auto here = static_cast<std::size_t>(row_ * frame_->columns + x_);
    if (mb_->kind != Kind::inter) {
        motion.set(here, {.flag = mb_->field});
        return;
    }
    if (mb_->shape == Shape::whole) {
        const std::size_t list = mb_->ref[0][0] >= 0 ? 0 : 1;
        motion.set(here, stored_block(list, 0), mv_[list][0]);
        return;
    }
    std::array<Motion::Block8, 4> blocks;
    std::array<Vector, 16> vectors;
    for (std::size_t b = 0; b < 4; ++b) {
        const std::size_t list = mb_->ref[0][b] >= 0 ? 0 : 1;
        blocks[b] = stored_block(list, b);
        for (const std::size_t inside : {0, 1, 4, 5}) {
            const std::size_t at = (b >> 1) * 8 + (b & 1) * 2 + inside;
            vectors[at] = mv_[list][at];
        }
    }
    motion.set(here, blocks, vectors);
}

// Which samples around may be used: of this slice, and with constrained_intra_pred_flag of intra macroblocks.
void SliceParser::find_intra_edges() {
    const auto fits = [&](int index) { return usable(index) && (!pps_->constrained_intra || at(index).intra()); };
    bool left[2] = {fits(left_rows_[0].macroblock), fits(left_rows_[2].macroblock)};
    if (adaptive_ && left_ >= 0 && !mb_->field && at(left_).field) {
        // The rows beside belong to both macroblocks of the pair in turn.
        const int pair = index_ - (row_ & 1) * frame_->columns - 1;
        left[0] = left[1] = fits(pair) && fits(pair + frame_->columns);
    }
    mb_->edges = static_cast<std::uint8_t>(
        (left[0] ? kLeftUpper : 0) | (left[1] ? kLeftLower : 0) | (fits(above_.macroblock) ? kAbove : 0) |
        (fits(above_right_.macroblock) ? kAboveRight : 0) | (fits(above_left_.macroblock) ? kAboveLeft : 0));
    // Damaged streams predict from samples that aren't there: from none at all, then.
    const auto has = [&](unsigned edges) { return (mb_->edges & edges) == edges; };
    constexpr unsigned kLeft = kLeftUpper | kLeftLower, kAll = kLeft | kAbove | kAboveLeft;
    constexpr unsigned kNeeded16[4] = {kAbove, kLeft, 0, kAll}, kNeededChroma[4] = {0, kLeft, kAbove, kAll};
    if (mb_->kind == Kind::intra16 && !has(kNeeded16[mb_->intra16_mode])) mb_->intra16_mode = 2;
    if (!has(kNeededChroma[mb_->chroma_mode])) mb_->chroma_mode = 0;
}

// I macroblock types (table 7-11), from 0.
bool SliceParser::take_intra_type(int type) {
    if (type == 0) {
        mb_->kind = Kind::intra4;
    } else if (type <= 24) {
        mb_->kind = Kind::intra16;
        mb_->intra16_mode = static_cast<std::uint8_t>((type - 1) % 4);
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
int SliceParser::predicted_mode(int block) const {
    const int x = block % 4, y = block / 4;
    const auto mode_of = [&](const Place& place, int column, bool inside) {
        if (inside) return static_cast<int>(own_->modes[static_cast<std::size_t>(place.row * 4 + column)]);
        if (place.macroblock < 0) return -1;
        const Macroblock& other = at(place.macroblock);
        if (other.kind == Kind::inter) return pps_->constrained_intra ? -1 : 2;
        return static_cast<int>(place.parsed->modes[static_cast<std::size_t>(place.row * 4 + column)]);
    };
    const int left = x > 0 ? mode_of({0, y, own_}, x - 1, true) : mode_of(left_rows_[y], 3, false);
    const int top = y > 0 ? mode_of({0, y - 1, own_}, x, true) : mode_of(above_, x, false);
    return left < 0 || top < 0 ? 2 : std::min(left, top);
}

void SliceParser::set_mode(int block, int size, int mode) {
    for (int y = 0; y < size; ++y) {
        for (int x = 0; x < size; ++x)
            own_->modes[static_cast<std::size_t>(block + y * 4 + x)] = static_cast<std::int8_t>(mode);
    }
}

void SliceParser::fill_cache() {
    for (int list = 0; list < 2; ++list) {
        std::memset(ref_cache_[list], -2, sizeof ref_cache_[list]);
        if (list == 1 && !b_slice_) break;
        if (adaptive_) {
            const auto put = [&](int to, const Candidate& c) {
                ref_cache_[list][to] = static_cast<std::int8_t>(c.ref);
                mv_cache_[list][to] = c.mv;
            };
            for (int i = 0; i < 4; ++i) {
                put(cell(-1, i), scaled(list, left_rows_[i], 3));
                put(cell(i, -1), scaled(list, above_, i));
            }
            put(cell(4, -1), scaled(list, above_right_, 0));
            put(cell(-1, -1), scaled(list, above_left_, 3));
        } else {
            const auto l = static_cast<std::size_t>(list);
            const auto put = [&](int to, const Macroblock& other, std::size_t block8, std::size_t block) {
                ref_cache_[list][to] = other.ref[l][block8];
                mv_cache_[list][to] = other.mv(l)[block];
            };
            if (left_ >= 0) {
                const Macroblock& left = at(left_);
                for (int r = 0; r < 4; ++r) put(cell(-1, r), left, r < 2 ? 1 : 3, static_cast<std::size_t>(4 * r + 3));
            }
            if (top_ >= 0) {
                const Macroblock& top = at(top_);
                for (int x = 0; x < 4; ++x) put(cell(x, -1), top, x < 2 ? 2 : 3, static_cast<std::size_t>(12 + x));
            }
            if (above_right_.macroblock >= 0) put(cell(4, -1), at(above_right_.macroblock), 2, 12);
            if (above_left_.macroblock >= 0) put(cell(-1, -1), at(above_left_.macroblock), 3, 15);
        }
        if (pps_->cabac) fill_difference_cache(list);
    }
}

// For the contexts of ref_idx and mvd (9.3.3.1.1.6 and 7).
void SliceParser::fill_difference_cache(int list) {
    const auto around = [&](int to, const Place& place, int column) {
        ref_large_[list][to] = false;
        mvd_cache_[list][to][0] = mvd_cache_[list][to][1] = 0;
        if (place.macroblock < 0) return;
        const Macroblock& other = at(place.macroblock);
        if (other.kind != Kind::inter) return;
        const int block8 = place.row / 2 * 2 + column / 2;
        const int ref = other.ref[static_cast<std::size_t>(list)][static_cast<std::size_t>(block8)];
        const int more = adaptive_ && !mb_->field && other.field ? 1 : 0;
        const Parsed& parsed = *place.parsed;
        ref_large_[list][to] = !parsed.skipped && (parsed.direct >> block8 & 1) == 0 && ref > more;
        const auto& mvd =
            parsed.differences[static_cast<std::size_t>(list)][static_cast<std::size_t>(place.row * 4 + column)];
        mvd_cache_[list][to][0] = mvd[0];
        mvd_cache_[list][to][1] = mvd[1];
        if (adaptive_ && mb_->field != other.field)
            mvd_cache_[list][to][1] = static_cast<std::uint8_t>(mb_->field ? mvd[1] / 2 : std::min(mvd[1] * 2, 255));
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

void SliceParser::set_ref(int list, const Partition& p, int ref) {
    auto& refs = mb_->ref[static_cast<std::size_t>(list)];
    if (p.width == 4 && p.height == 4) return refs.fill(static_cast<std::int8_t>(ref));
    for (int y = p.y / 2; y < (p.y + p.height + 1) / 2; ++y) {
        for (int x = p.x / 2; x < (p.x + p.width + 1) / 2; ++x)
            refs[static_cast<std::size_t>(y * 2 + x)] = static_cast<std::int8_t>(ref);
    }
}

// Its reference is known by set_ref().
void SliceParser::set_motion(int list, const Partition& p, Vector mv) {
    const auto l = static_cast<std::size_t>(list);
    // Nothing in the macroblock is predicted from what fills it all.
    if (p.width == 4 && p.height == 4) return mv_[l].fill(mv);
    const std::int8_t ref = mb_->ref[l][static_cast<std::size_t>(p.y / 2 * 2 + p.x / 2)];
    for (int y = p.y; y < p.y + p.height; ++y) {
        for (int x = p.x; x < p.x + p.width; ++x) {
            mv_[l][static_cast<std::size_t>(y * 4 + x)] = mv;
            mv_cache_[list][cell(x, y)] = mv;
            ref_cache_[list][cell(x, y)] = ref;
        }
    }
}

Reference SliceParser::reference(int list, int ref) const {
    const auto& refs = slice_->lists[list];
    const bool of_pair = adaptive_ && mb_->field;
    const auto i = static_cast<std::size_t>(of_pair ? ref >> 1 : ref);
    if (refs.empty()) return {};
    Reference found = refs[std::min(i, refs.size() - 1)];
    // 8.4.2.1: fields of the frames in turn, that of the same parity first.
    if (of_pair) found.structure = ((ref & 1) != 0) != ((row_ & 1) != 0) ? kBottom : kTop;
    return found;
}

void SliceParser::store_ref_pictures() {
    if (mb_->kind != Kind::inter) return;
    for (int list = 0; list < (b_slice_ ? 2 : 1); ++list) {
        const auto& refs = mb_->ref[static_cast<std::size_t>(list)];
        auto& pictures = mb_->ref_picture[static_cast<std::size_t>(list)];
        for (std::size_t block = 0; block < 4; ++block) {
            if (refs[block] < 0) continue;
            if (block > 0 && refs[block] == refs[block - 1]) {
                pictures[block] = pictures[block - 1];
                continue;
            }
            const Reference r = reference(list, refs[block]);
            pictures[block] = r.frame != nullptr ? r.key() : std::int8_t{-1};
            if (r.stands_in || (r.frame != nullptr && r.frame->lost_whole)) work_->misses_references = true;
        }
    }
}

}  // namespace wavecrest::codec::h264
