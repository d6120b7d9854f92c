// Motion vectors and references that the syntax leaves to be derived (8.4.1).
#include <algorithm>
#include <cstdlib>

#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

std::int16_t median(int a, int b, int c) {
    return static_cast<std::int16_t>(std::max(std::min(a, b), std::min(std::max(a, b), c)));
}

}  // namespace

// A neighbouring block's motion in this macroblock's terms (8.4.1.3.1).
SliceParser::Candidate SliceParser::scaled(int list, const Place& place, int column) const {
    if (place.macroblock < 0) return {};
    const Macroblock& other = at(place.macroblock);
    const auto l = static_cast<std::size_t>(list);
    Candidate found;
    found.ref = -1;
    if (other.kind != Kind::inter) return found;
    const int ref = other.ref[l][static_cast<std::size_t>(place.row / 2 * 2 + column / 2)];
    if (ref < 0) return found;
    found.ref = ref;
    found.mv = other.mv(l)[static_cast<std::size_t>(place.row * 4 + column)];
    if (adaptive_ && other.field != mb_->field) {
        if (mb_->field) {
            found.ref = ref * 2;
            found.mv.y = static_cast<std::int16_t>(found.mv.y / 2);
        } else {
            found.ref = ref >> 1;
            found.mv.y = static_cast<std::int16_t>(found.mv.y * 2);
        }
    }
    return found;
}

// At the 4x4 block (x, y), from -1 to 4.
SliceParser::Candidate SliceParser::candidate(int list, int x, int y) const {
    return {ref_cache_[list][cell(x, y)], mv_cache_[list][cell(x, y)]};
}

// 8.4.1.3
Vector SliceParser::predict(int list, const Partition& p, int ref) const {
    const Candidate a = candidate(list, p.x - 1, p.y), b = candidate(list, p.x, p.y - 1);
    Candidate c;
    if (p.x + p.width < 4 || p.y == 0) c = candidate(list, p.x + p.width, p.y - 1);
    if (c.ref == -2) {
        // Beside rows of field macroblocks a frame macroblock's neighbours alternate.
        if (adaptive_ && p.x == 0 && p.y > 0) {
            c = scaled(list, neighbour(-1, 4 * p.y - 1), 3);
        } else {
            c = candidate(list, p.x - 1, p.y - 1);
        }
    }
    const bool only_a = b.ref == -2 && c.ref == -2 && a.ref != -2;
    if (only_a) return a.mv;
    const int matches = (a.ref == ref ? 1 : 0) + (b.ref == ref ? 1 : 0) + (c.ref == ref ? 1 : 0);
    if (matches == 1) return a.ref == ref ? a.mv : b.ref == ref ? b.mv : c.mv;
    const auto of = [](const Candidate& one) { return one.ref < 0 ? Vector{} : one.mv; };
    const Vector va = of(a), vb = of(b), vc = of(c);
    return {median(va.x, vb.x, vc.x), median(va.y, vb.y, vc.y)};
}

// 8.4.1.3: of 16x8 and 8x16.
Vector SliceParser::predict_directional(int list, const Partition& p, int ref) const {
    if (p.width == 4 && p.height == 2) {
        const Candidate one = p.y == 0 ? candidate(list, 0, -1) : candidate(list, -1, 2);
        if (one.ref == ref) return one.mv;
    } else if (p.width == 2 && p.height == 4) {
        Candidate one;
        if (p.x == 0) {
            one = candidate(list, -1, 0);
        } else {
            one = candidate(list, 4, -1);
            if (one.ref == -2) one = candidate(list, 1, -1);
        }
        if (one.ref == ref) return one.mv;
    }
    return predict(list, p, ref);
}

// 8.4.1.1
void SliceParser::predict_skip() {
    const Partition whole{0, 0, 4, 4};
    set_ref(0, whole, 0);
    const Candidate a = candidate(0, -1, 0), b = candidate(0, 0, -1);
    const auto still = [](const Candidate& c) { return c.ref == 0 && c.mv == Vector{}; };
    Vector mv;
    if (a.ref != -2 && b.ref != -2 && !still(a) && !still(b)) mv = predict(0, whole, 0);
    set_motion(0, whole, mv);
}

int SliceParser::current_order() const {
    if (header_->field) return frame_->order[header_->bottom ? 1 : 0];
    if (mb_->field) return frame_->order[row_ & 1];
    return std::min(frame_->order[0], frame_->order[1]);
}

// 8.4.1.2.1
SliceParser::Colocated SliceParser::colocated(int block) const {
    Colocated found;
    if (slice_->lists[1].empty()) return found;
    const Reference first = slice_->lists[1].front();
    const Frame& frame = *first.frame;
    if (!frame.motion) return found;
    const Motion& motion = *frame.motion;
    const int columns = frame_->columns;
    const int x = sps_->direct_8x8_inference ? block % 2 * 3 : block % 4;
    const int y = sps_->direct_8x8_inference ? block / 2 * 3 : block / 4;
    const int line = 4 * y, pair = row_ & ~1;
    const auto place_of = [&](int row) { return static_cast<std::size_t>(row * columns + x_); };
    int row = row_, place = line;
    const bool of_field = frame.field_pair || (frame.adaptive && motion.block(place_of(pair), 0).field());
    if (mb_->field) {
        if (of_field) {
            int parity = row_ & 1;
            if (header_->field && frame.field_pair) parity = first.structure == kBottom ? 1 : 0;
            row = pair + parity;
        } else {
            row = pair + line / 8;
            place = 2 * line % 16;
        }
    } else if (of_field) {
        // The field that is nearer.
        const int now = std::min(frame_->order[0], frame_->order[1]);
        const int top = std::abs(frame.order[0] - now), bottom = std::abs(frame.order[1] - now);
        row = pair + (top < bottom ? 0 : 1);
        place = 8 * (row_ & 1) + 4 * (line / 8);
    }
    const Motion::Block8 other = motion.block(place_of(row), place / 8 * 2 + x / 2);
    found.field = of_field;
    if (other.intra()) return found;
    found.intra = false;
    found.first = other.flag != 0;
    found.slot = other.slot;
    found.structure = other.structure;
    found.mv = motion.vector(place_of(row), x, place / 4);
    return found;
}

void SliceParser::predict_direct(int blocks) {
    if (header_->direct_spatial) {
        direct_spatial(blocks);
    } else {
        direct_temporal(blocks);
    }
}

// Blocks that move alike are predicted as one.
void SliceParser::merge_direct() {
    mb_->shape = Shape::quarters;
    bool alike = true;
    for (int list = 0; list < 2; ++list) {
        const auto& refs = mb_->ref[static_cast<std::size_t>(list)];
        const auto& mvs = mv_[static_cast<std::size_t>(list)];
        alike = alike && std::all_of(refs.begin(), refs.end(), [&](std::int8_t ref) { return ref == refs[0]; }) &&
                std::all_of(mvs.begin(), mvs.end(), [&](Vector mv) { return mv == mvs[0]; });
    }
    if (alike) mb_->shape = Shape::whole;
    mb_->sub_shapes.fill(sps_->direct_8x8_inference ? Shape::whole : Shape::quarters);
}

// 8.4.1.2.2
void SliceParser::direct_spatial(int blocks) {
    const Partition whole{0, 0, 4, 4};
    int refs[2];
    Vector mvs[2];
    for (int list = 0; list < 2; ++list) {
        const Candidate a = candidate(list, -1, 0), b = candidate(list, 0, -1);
        Candidate c = candidate(list, 4, -1);
        if (c.ref == -2) c = candidate(list, -1, -1);
        const auto least = [](int one, int other) {
            return one >= 0 && other >= 0 ? std::min(one, other) : std::max(one, other);
        };
        refs[list] = std::max(least(a.ref, least(b.ref, c.ref)), -1);
    }
    const bool none = refs[0] < 0 && refs[1] < 0;
    if (none) refs[0] = refs[1] = 0;
    if (!none) {
        for (int list = 0; list < 2; ++list) {
            if (refs[list] >= 0) mvs[list] = predict(list, whole, refs[list]);
        }
    }
    const bool short_term = !slice_->lists[1].empty() && !reference(1, 0).long_term;
    for (int block8 = 0; block8 < 4; ++block8) {
        if ((blocks >> block8 & 1) == 0) continue;
        const Partition p{block8 % 2 * 2, block8 / 2 * 2, 2, 2};
        for (int list = 0; list < 2; ++list) set_ref(list, p, refs[list]);
        const int count = sps_->direct_8x8_inference ? 1 : 4;
        for (int sub = 0; sub < count; ++sub) {
            const Partition q = count == 1 ? p : Partition{p.x + sub % 2, p.y + sub / 2, 1, 1};
            bool still = false;
            if (short_term && !none) {
                const Colocated col = colocated(count == 1 ? block8 : q.y * 4 + q.x);
                still = !col.intra && col.first && col.mv.x >= -1 && col.mv.x <= 1 && col.mv.y >= -1 && col.mv.y <= 1;
            }
            for (int list = 0; list < 2; ++list)
                set_motion(list, q, refs[list] < 0 || (refs[list] == 0 && still) ? Vector{} : mvs[list]);
        }
    }
}

// 8.4.1.2.3
void SliceParser::direct_temporal(int blocks) {
    const bool of_pair = adaptive_ && mb_->field;
    for (int block8 = 0; block8 < 4; ++block8) {
        if ((blocks >> block8 & 1) == 0) continue;
        const Partition p{block8 % 2 * 2, block8 / 2 * 2, 2, 2};
        const int count = sps_->direct_8x8_inference ? 1 : 4;
        for (int sub = 0; sub < count; ++sub) {
            const Partition q = count == 1 ? p : Partition{p.x + sub % 2, p.y + sub / 2, 1, 1};
            const Colocated col = colocated(count == 1 ? block8 : q.y * 4 + q.x);
            int ref0 = 0;
            if (!col.intra) {
                const int structure = col.structure;
                const auto& list = slice_->lists[0];
                for (std::size_t i = 0; i < list.size(); ++i) {
                    if (list[i].frame == nullptr || list[i].frame->slot != col.slot) continue;
                    const int current = (row_ & 1) != 0 ? kBottom : kTop;
                    if (header_->field) {
                        if (list[i].structure != (col.field ? structure : current)) continue;
                        ref0 = static_cast<int>(i);
                    } else if (of_pair) {
                        ref0 = static_cast<int>(2 * i) + (col.field && structure != current ? 1 : 0);
                    } else {
                        ref0 = static_cast<int>(i);
                    }
                    break;
                }
            }
            Vector mv = col.mv;
            if (mb_->field && !col.field) mv.y = static_cast<std::int16_t>(mv.y / 2);
            if (!mb_->field && col.field) mv.y = static_cast<std::int16_t>(mv.y * 2);
            if (col.intra) mv = {};
            set_ref(0, p, ref0);
            set_ref(1, p, 0);
            const Reference r0 = reference(0, ref0), r1 = reference(1, 0);
            Vector forward = mv, backward{};
            if (r0.frame != nullptr && r1.frame != nullptr && !r0.long_term) {
                const int td = std::clamp(r1.order_count() - r0.order_count(), -128, 127);
                const int tb = std::clamp(current_order() - r0.order_count(), -128, 127);
                if (td != 0) {
                    const int tx = (16384 + std::abs(td / 2)) / td;
                    const int scale = std::clamp((tb * tx + 32) >> 6, -1024, 1023);
                    forward = {static_cast<std::int16_t>((scale * mv.x + 128) >> 8),
                               static_cast<std::int16_t>((scale * mv.y + 128) >> 8)};
                    backward = {static_cast<std::int16_t>(forward.x - mv.x),
                                static_cast<std::int16_t>(forward.y - mv.y)};
                }
            }
            set_motion(0, q, forward);
            set_motion(1, q, backward);
        }
    }
}

}  // namespace wavecrest::codec::h264
