// The deblocking filter (8.7), over a whole picture when all of its macroblocks are there.
#include <algorithm>
#include <cstdlib>

#include "codec/h264/slice.hpp"

namespace wavecrest::codec::h264 {
namespace {

std::uint8_t clip(int value) {
    return static_cast<std::uint8_t>(value < 0 ? 0 : value > 255 ? 255 : value);
}

// 8.7.2.2 and 8.7.2.3: one row of samples across an edge; `step` goes from p0 to q0.
struct Thresholds {
    int alpha = 0, beta = 0;
    const std::uint8_t* clips = nullptr;
};

void luma_line(std::uint8_t* q, std::ptrdiff_t step, int strength, const Thresholds& t) {
    const int p0 = q[-step], p1 = q[-2 * step], q0 = q[0], q1 = q[step];
    if (std::abs(p0 - q0) >= t.alpha || std::abs(p1 - p0) >= t.beta || std::abs(q1 - q0) >= t.beta) return;
    const int p2 = q[-3 * step], q2 = q[2 * step];
    const bool smooth_p = std::abs(p2 - p0) < t.beta, smooth_q = std::abs(q2 - q0) < t.beta;
    if (strength < 4) {
        const int c0 = t.clips[strength - 1], c = c0 + (smooth_p ? 1 : 0) + (smooth_q ? 1 : 0);
        const int delta = std::clamp((((q0 - p0) * 4) + (p1 - q1) + 4) >> 3, -c, c);
        q[-step] = clip(p0 + delta);
        q[0] = clip(q0 - delta);
        if (smooth_p)
            q[-2 * step] =
                static_cast<std::uint8_t>(p1 + std::clamp((p2 + ((p0 + q0 + 1) >> 1) - 2 * p1) >> 1, -c0, c0));
        if (smooth_q)
            q[step] = static_cast<std::uint8_t>(q1 + std::clamp((q2 + ((p0 + q0 + 1) >> 1) - 2 * q1) >> 1, -c0, c0));
        return;
    }
    const bool close = std::abs(p0 - q0) < (t.alpha >> 2) + 2;
    if (smooth_p && close) {
        const int p3 = q[-4 * step];
        q[-step] = static_cast<std::uint8_t>((p2 + 2 * p1 + 2 * p0 + 2 * q0 + q1 + 4) >> 3);
        q[-2 * step] = static_cast<std::uint8_t>((p2 + p1 + p0 + q0 + 2) >> 2);
        q[-3 * step] = static_cast<std::uint8_t>((2 * p3 + 3 * p2 + p1 + p0 + q0 + 4) >> 3);
    } else {
        q[-step] = static_cast<std::uint8_t>((2 * p1 + p0 + q1 + 2) >> 2);
    }
    if (smooth_q && close) {
        const int q3 = q[3 * step];
        q[0] = static_cast<std::uint8_t>((p1 + 2 * p0 + 2 * q0 + 2 * q1 + q2 + 4) >> 3);
        q[step] = static_cast<std::uint8_t>((p0 + q0 + q1 + q2 + 2) >> 2);
        q[2 * step] = static_cast<std::uint8_t>((2 * q3 + 3 * q2 + q1 + q0 + p0 + 4) >> 3);
    } else {
        q[0] = static_cast<std::uint8_t>((2 * q1 + q0 + p1 + 2) >> 2);
    }
}

void chroma_line(std::uint8_t* q, std::ptrdiff_t step, int strength, const Thresholds& t) {
    const int p0 = q[-step], p1 = q[-2 * step], q0 = q[0], q1 = q[step];
    if (std::abs(p0 - q0) >= t.alpha || std::abs(p1 - p0) >= t.beta || std::abs(q1 - q0) >= t.beta) return;
    if (strength == 4) {
        q[-step] = static_cast<std::uint8_t>((2 * p1 + p0 + q1 + 2) >> 2);
        q[0] = static_cast<std::uint8_t>((2 * q1 + q0 + p1 + 2) >> 2);
        return;
    }
    const int c = t.clips[strength - 1] + 1;
    const int delta = std::clamp((((q0 - p0) * 4) + (p1 - q1) + 4) >> 3, -c, c);
    q[-step] = clip(p0 + delta);
    q[0] = clip(q0 - delta);
}

// Whether two blocks move differently (8.7.2.1, bS 1); `most` rows of quarter samples are no difference yet.
bool moves_differently(const Macroblock& p, int p_block, const Macroblock& q, int q_block, int most) {
    const auto eight = [](int block) { return static_cast<std::size_t>(block / 8 * 2 + block % 4 / 2); };
    const std::int32_t p0 = p.ref_picture[0][eight(p_block)], p1 = p.ref_picture[1][eight(p_block)];
    const std::int32_t q0 = q.ref_picture[0][eight(q_block)], q1 = q.ref_picture[1][eight(q_block)];
    const bool straight = p0 == q0 && p1 == q1, crossed = p0 == q1 && p1 == q0;
    if (!straight && !crossed) return true;
    const auto far = [&](std::size_t lp, std::size_t lq) {
        const Vector a = p.mv[lp][static_cast<std::size_t>(p_block)], b = q.mv[lq][static_cast<std::size_t>(q_block)];
        return std::abs(a.x - b.x) >= 4 || std::abs(a.y - b.y) >= most;
    };
    if (straight && !(far(0, 0) || far(1, 1))) return false;
    if (crossed && !(far(0, 1) || far(1, 0))) return false;
    return true;
}

class Deblocking {
  public:
    Deblocking(Frame& frame, int structure) : frame_(frame), structure_(structure) {}

    void run() {
        const int columns = frame_.columns;
        if (frame_.adaptive) {
            for (int row = 0; row < frame_.rows; row += 2) {
                for (int x = 0; x < columns; ++x) {
                    macroblock(x, row);
                    macroblock(x, row + 1);
                }
            }
            return;
        }
        for (int row = structure_ == kBottom ? 1 : 0; row < frame_.rows; row += structure_ == kFrame ? 1 : 2) {
            for (int x = 0; x < columns; ++x) macroblock(x, row);
        }
    }

  private:
    const Macroblock& at(int x, int row) const {
        return frame_.macroblocks[static_cast<std::size_t>(row * frame_.columns + x)];
    }
    static bool has_coefficients(const Macroblock& mb, int block) {
        if (!mb.transform8) return mb.coded[static_cast<std::size_t>(block)] != 0;
        const auto first = static_cast<std::size_t>(block / 8 * 8 + block % 4 / 2 * 2);
        return (mb.coded[first] | mb.coded[first + 1] | mb.coded[first + 4] | mb.coded[first + 5]) != 0;
    }
    static int strength_of(const Macroblock& p, int p_block, const Macroblock& q, int q_block, bool edge, bool vertical,
                           bool mixed) {
        if (p.intra() || q.intra()) return edge && (vertical || (!p.field && !q.field)) ? 4 : 3;
        if (has_coefficients(p, p_block) || has_coefficients(q, q_block)) return 2;
        if (mixed) return 1;
        return moves_differently(p, p_block, q, q_block, q.field ? 2 : 4) ? 1 : 0;
    }
    Thresholds thresholds(int p_qp, int q_qp, const SliceRules& rules) const {
        const int qp = (p_qp + q_qp + 1) >> 1;
        const int a = std::clamp(qp + rules.alpha_offset, 0, 51), b = std::clamp(qp + rules.beta_offset, 0, 51);
        return {kAlpha[a], kBeta[b], kClip[a]};
    }

    struct Lines {
        std::uint8_t* at;
        std::ptrdiff_t stride;
    };
    Lines lines(int component, int x, int row, bool field) const {
        const Picture& picture = frame_.picture;
        const int size = component == 0 ? 16 : 8;
        const std::ptrdiff_t stride = picture.strides[component];
        std::uint8_t* const base = picture.planes[component] + x * size;
        if (!field) return {base + row * size * stride, stride};
        return {base + ((row >> 1) * 2 * size + (row & 1)) * stride, 2 * stride};
    }

    // An edge with four strengths; `offset` in luma samples from the macroblock's beginning.
    void filter(const Macroblock& p, const Macroblock& q, int x, int row, bool vertical, int offset,
                const int strengths[4], const SliceRules& rules) {
        if ((strengths[0] | strengths[1] | strengths[2] | strengths[3]) == 0) return;
        for (int component = 0; component < 3; ++component) {
            if (component > 0 && offset % 8 != 0) break;
            const Thresholds t = component == 0
                                     ? thresholds(p.qp, q.qp, rules)
                                     : thresholds(p.chroma_qp[component - 1], q.chroma_qp[component - 1], rules);
            if (t.alpha == 0 || t.beta == 0) continue;
            const Lines to = lines(component, x, row, q.field);
            const int size = component == 0 ? 16 : 8, from = component == 0 ? offset : offset / 2;
            const std::ptrdiff_t step = vertical ? 1 : to.stride, along = vertical ? to.stride : 1;
            std::uint8_t* at = to.at + from * step;
            for (int i = 0; i < size; ++i, at += along) {
                const int strength = strengths[i * 4 / size];
                if (strength == 0) continue;
                if (component == 0) {
                    luma_line(at, step, strength, t);
                } else {
                    chroma_line(at, step, strength, t);
                }
            }
        }
    }

    // The left edge between a frame and a field pair: each row has a neighbour of its own.
    void mixed_left(const Macroblock& q, int x, int row, const SliceRules& rules) {
        const int pair = row & ~1;
        for (int component = 0; component < 3; ++component) {
            const int size = component == 0 ? 16 : 8;
            const Lines to = lines(component, x, row, q.field);
            for (int y = 0; y < size; ++y) {
                const int luma_y = component == 0 ? y : 2 * y;
                int other_row = pair, other_line = 0;
                if (!q.field) {
                    // Rows of the pair are its fields' in turn.
                    const int line = (row & 1) * size + y;
                    other_row = pair + (line & 1);
                    other_line = (line >> 1) * (16 / size);
                } else {
                    const int line = 2 * y + (row & 1);
                    other_row = pair + (line >= size ? 1 : 0);
                    other_line = line % size * (16 / size);
                }
                const Macroblock& p = at(x - 1, other_row);
                const int strength = strength_of(p, other_line / 4 * 4 + 3, q, luma_y / 4 * 4, true, true, true);
                const Thresholds t = component == 0
                                         ? thresholds(p.qp, q.qp, rules)
                                         : thresholds(p.chroma_qp[component - 1], q.chroma_qp[component - 1], rules);
                if (component == 0) {
                    luma_line(to.at + y * to.stride, 1, strength, t);
                } else {
                    chroma_line(to.at + y * to.stride, 1, strength, t);
                }
            }
        }
    }

    // The top edge of a frame macroblock below a pair of field ones: each field by itself.
    void mixed_top(const Macroblock& q, int x, int row, const SliceRules& rules) {
        for (int parity = 0; parity < 2; ++parity) {
            const Macroblock& p = at(x, row - 2 + parity);
            for (int component = 0; component < 3; ++component) {
                const Thresholds t = component == 0
                                         ? thresholds(p.qp, q.qp, rules)
                                         : thresholds(p.chroma_qp[component - 1], q.chroma_qp[component - 1], rules);
                const Lines to = lines(component, x, row, false);
                const int size = component == 0 ? 16 : 8;
                std::uint8_t* const edge = to.at + parity * to.stride;
                for (int i = 0; i < size; ++i) {
                    const int block = i * 4 / size;
                    const int strength = strength_of(p, 12 + block, q, block, true, false, true);
                    if (component == 0) {
                        luma_line(edge + i, 2 * to.stride, strength, t);
                    } else {
                        chroma_line(edge + i, 2 * to.stride, strength, t);
                    }
                }
            }
        }
    }

    void macroblock(int x, int row) {
        const Macroblock& q = at(x, row);
        if (q.slice == Macroblock::kNoSlice) return;
        const SliceRules& rules = frame_.slices[q.slice];
        if (rules.deblocking == 1) return;
        const auto joins = [&](const Macroblock& p) {
            return p.slice != Macroblock::kNoSlice && (rules.deblocking != 2 || p.slice == q.slice);
        };
        int strengths[4];
        // Vertical edges, from the left.
        if (x > 0) {
            const bool mixed = frame_.adaptive && at(x - 1, row).field != q.field;
            const Macroblock& p = at(x - 1, row);
            if (joins(p) && mixed) {
                mixed_left(q, x, row, rules);
            } else if (joins(p)) {
                for (int i = 0; i < 4; ++i) strengths[i] = strength_of(p, 4 * i + 3, q, 4 * i, true, true, false);
                filter(p, q, x, row, true, 0, strengths, rules);
            }
        }
        for (int edge = 1; edge < 4; ++edge) {
            if (q.transform8 && edge % 2 == 1) continue;
            for (int i = 0; i < 4; ++i)
                strengths[i] = strength_of(q, 4 * i + edge - 1, q, 4 * i + edge, false, true, false);
            filter(q, q, x, row, true, 4 * edge, strengths, rules);
        }
        // Horizontal edges, from the top.
        top_edge(q, x, row, rules, joins);
        for (int edge = 1; edge < 4; ++edge) {
            if (q.transform8 && edge % 2 == 1) continue;
            for (int i = 0; i < 4; ++i)
                strengths[i] = strength_of(q, 4 * edge + i - 4, q, 4 * edge + i, false, false, false);
            filter(q, q, x, row, false, 4 * edge, strengths, rules);
        }
    }

    template <typename Joins>
    void top_edge(const Macroblock& q, int x, int row, const SliceRules& rules, const Joins& joins) {
        int above = row - 1;
        if (!frame_.adaptive) {
            if (q.field) above = row - 2;
        } else if (q.field) {
            const int pair = row & ~1;
            above = pair - 2;
            if (above >= 0) above = at(x, above).field ? above + (row & 1) : above + 1;
        } else if ((row & 1) == 0 && row >= 2 && at(x, row - 2).field) {
            if (joins(at(x, row - 1))) mixed_top(q, x, row, rules);
            return;
        }
        if (above < 0) return;
        const Macroblock& p = at(x, above);
        if (!joins(p)) return;
        int strengths[4];
        for (int i = 0; i < 4; ++i) strengths[i] = strength_of(p, 12 + i, q, i, true, false, p.field != q.field);
        filter(p, q, x, row, false, 0, strengths, rules);
    }

    Frame& frame_;
    const int structure_;
};

}  // namespace

void deblock(Frame& frame, int structure) {
    Deblocking(frame, structure).run();
}

}  // namespace wavecrest::codec::h264
