// The deblocking filter (8.7), a row at a time.
#include <algorithm>
#include <cstdlib>
#include <cstring>

#include "codec/h264/tables.hpp"
#include "codec/h264/work.hpp"

namespace wavecrest::codec::h264 {
namespace {

std::size_t block8_of(int block) {
    return static_cast<std::size_t>(block / 8 * 2 + block % 4 / 2);
}

// Whether two blocks move differently (8.7.2.1, bS 1); `most` quarters of a row are a difference.
bool moves_differently(const Macroblock& p, int p_block, const Macroblock& q, int q_block, int most) {
    const int p0 = p.ref_picture[0][block8_of(p_block)], p1 = p.ref_picture[1][block8_of(p_block)];
    const int q0 = q.ref_picture[0][block8_of(q_block)], q1 = q.ref_picture[1][block8_of(q_block)];
    const bool straight = p0 == q0 && p1 == q1, crossed = p0 == q1 && p1 == q0;
    if (!straight && !crossed) return true;
    const auto far = [&](std::size_t lp, std::size_t lq) {
        const Vector a = p.mv(lp)[static_cast<std::size_t>(p_block)], b = q.mv(lq)[static_cast<std::size_t>(q_block)];
        return std::abs(a.x - b.x) >= 4 || std::abs(a.y - b.y) >= most;
    };
    if (straight && !(far(0, 0) || far(1, 1))) return false;
    if (crossed && !(far(0, 1) || far(1, 0))) return false;
    return true;
}

// Boundary strengths along an edge, of its four quarters.
struct Strengths {
    std::uint8_t of[4] = {0, 0, 0, 0};
    bool any() const {
        std::uint32_t all;
        std::memcpy(&all, of, 4);
        return all != 0;
    }
};

class Deblocking {
  public:
    Deblocking(const Work& work, const Kernels& kernels) : work_(work), kernels_(kernels) {}

    void macroblock(int x, int row) {
        const Macroblock& q = work_.at(row, x);
        const SliceHeader& rules = Work::slice_of(q).header;
        if (rules.deblocking == 1) return;
        q_ = &q;
        x_ = x;
        row_ = row;
        rules_ = &rules;
        const auto joins = [&](const Macroblock& p) {
            return work_.has(p) && (rules.deblocking != 2 || p.slice == q.slice);
        };
        Strengths inside[2][4];
        inner_strengths(inside);
        if (x > 0) {
            const Macroblock& p = work_.at(row, x - 1);
            if (joins(p) && work_.adaptive && p.field != q.field) {
                mixed_left();
            } else if (joins(p)) {
                filter(p, true, 0, outer_strengths(p, true, false));
            }
        }
        for (int edge = 1; edge < 4; ++edge) filter(q, true, 4 * edge, inside[0][edge]);
        top_edge(joins);
        for (int edge = 1; edge < 4; ++edge) filter(q, false, 4 * edge, inside[1][edge]);
    }

  private:
    static int strength_of(const Macroblock& p, int p_block, const Macroblock& q, int q_block, bool vertical,
                           bool mixed) {
        if (p.intra() || q.intra()) return vertical || (!p.field && !q.field) ? 4 : 3;
        if ((p.filled >> p_block & 1) != 0 || (q.filled >> q_block & 1) != 0) return 2;
        if (mixed) return 1;
        return moves_differently(p, p_block, q, q_block, q.field ? 2 : 4) ? 1 : 0;
    }

    // Of the edges between the macroblock's own blocks: [0] vertical, [1] horizontal ones.
    void inner_strengths(Strengths (&inside)[2][4]) const {
        const Macroblock& q = *q_;
        const int step = q.transform8 ? 2 : 1;
        if (q.intra()) {
            for (auto& direction : inside) {
                for (int edge = step; edge < 4; edge += step) std::memset(direction[edge].of, 3, 4);
            }
            return;
        }
        const unsigned filled[2] = {q.filled | unsigned{q.filled} << 1, q.filled | unsigned{q.filled} << 4};
        const int most = q.field ? 2 : 4;
        for (int direction = 0; direction < 2; ++direction) {
            for (int edge = step; edge < 4; edge += step) {
                if (q.filled == 0 && !moves_at(direction, edge)) continue;
                for (int i = 0; i < 4; ++i) {
                    const int block = direction == 0 ? 4 * i + edge : 4 * edge + i;
                    const int before = direction == 0 ? block - 1 : block - 4;
                    if ((filled[direction] >> block & 1) != 0) {
                        inside[direction][edge].of[i] = 2;
                    } else if (moves_at(direction, edge) && moves_differently(q, before, q, block, most)) {
                        inside[direction][edge].of[i] = 1;
                    }
                }
            }
        }
    }
    // Whether parts may meet there.
    bool moves_at(int direction, int edge) const {
        switch (q_->shape) {
            case Shape::whole:
                return false;
            case Shape::rows:
                return direction == 1 && edge == 2;
            case Shape::columns:
                return direction == 0 && edge == 2;
            case Shape::quarters:
                break;
        }
        return edge == 2 || std::any_of(q_->sub_shapes.begin(), q_->sub_shapes.end(),
                                        [](Shape shape) { return shape != Shape::whole; });
    }
    // Of the left or top edge of the macroblock.
    Strengths outer_strengths(const Macroblock& p, bool vertical, bool mixed) const {
        const Macroblock& q = *q_;
        Strengths strengths;
        if (p.intra() || q.intra()) {
            std::memset(strengths.of, strength_of(p, 0, q, 0, vertical, mixed), 4);
            return strengths;
        }
        const bool alike = p.shape == Shape::whole && q.shape == Shape::whole;
        if (alike && p.filled == 0 && q.filled == 0) {
            std::memset(strengths.of, strength_of(p, 0, q, 0, vertical, mixed), 4);
            return strengths;
        }
        for (int i = 0; i < 4; ++i)
            strengths.of[i] = static_cast<std::uint8_t>(vertical ? strength_of(p, 4 * i + 3, q, 4 * i, vertical, mixed)
                                                                 : strength_of(p, 12 + i, q, i, vertical, mixed));
        return strengths;
    }

    struct Thresholds {
        int alpha = 0, beta = 0;
        const std::uint8_t* clips = nullptr;
    };
    Thresholds thresholds(const Macroblock& p, int component) const {
        const int sum = component == 0 ? p.qp + q_->qp : p.chroma_qp[component - 1] + q_->chroma_qp[component - 1];
        const int qp = (sum + 1) >> 1;
        const int a = std::clamp(qp + rules_->alpha_offset, 0, 51), b = std::clamp(qp + rules_->beta_offset, 0, 51);
        return {kAlpha[a], kBeta[b], kClip[a]};
    }

    struct Lines {
        std::uint8_t* at;
        std::ptrdiff_t stride;
    };
    Lines lines(int component, bool field) const {
        const Picture& picture = work_.frame->picture;
        const int size = component == 0 ? 16 : 8;
        const std::ptrdiff_t stride = picture.strides[component];
        std::uint8_t* const base = picture.planes[component] + x_ * size;
        if (!field) return {base + row_ * size * stride, stride};
        return {base + ((row_ >> 1) * 2 * size + (row_ & 1)) * stride, 2 * stride};
    }

    // `offset` in luma samples from the macroblock's beginning.
    void filter(const Macroblock& p, bool vertical, int offset, const Strengths& strengths) {
        if (!strengths.any()) return;
        for (int component = 0; component < 3; ++component) {
            if (component > 0 && offset % 8 != 0) return;
            const Thresholds t = thresholds(p, component);
            if (t.alpha == 0 || t.beta == 0) continue;
            const Lines to = lines(component, q_->field);
            const int from = component == 0 ? offset : offset / 2;
            std::uint8_t* const at = to.at + from * (vertical ? 1 : to.stride);
            std::int8_t clip[4];
            for (int i = 0; i < 4; ++i)
                clip[i] = static_cast<std::int8_t>(strengths.of[i] == 0 ? -1 : t.clips[(strengths.of[i] - 1) % 3]);
            const Kernels::EdgeFilter run = component == 0
                                                ? vertical ? kernels_.luma_vertical : kernels_.luma_horizontal
                                            : vertical ? kernels_.chroma_vertical
                                                       : kernels_.chroma_horizontal;
            // Strength 4 is that of a whole edge.
            run(at, to.stride, t.alpha, t.beta, strengths.of[0] == 4 ? nullptr : clip);
        }
    }

    static void filter_line(int component, std::uint8_t* at, std::ptrdiff_t step, int strength, const Thresholds& t) {
        const int clip = strength > 0 ? t.clips[(strength - 1) % 3] : 0;
        if (strength == 0) return;
        if (component == 0) {
            filter_luma_line(at, step, t.alpha, t.beta, strength, clip);
        } else {
            filter_chroma_line(at, step, t.alpha, t.beta, strength, clip);
        }
    }

    // The left edge between a frame and a field pair: each row has a neighbour of its own.
    void mixed_left() {
        const Macroblock& q = *q_;
        const int pair = row_ & ~1;
        for (int component = 0; component < 3; ++component) {
            const int size = component == 0 ? 16 : 8;
            const Lines to = lines(component, q.field);
            for (int y = 0; y < size; ++y) {
                const int luma_y = component == 0 ? y : 2 * y;
                int other_row = pair, other_line = 0;
                if (!q.field) {
                    // Rows of the pair are its fields' in turn.
                    const int line = (row_ & 1) * size + y;
                    other_row = pair + (line & 1);
                    other_line = (line >> 1) * (16 / size);
                } else {
                    const int line = 2 * y + (row_ & 1);
                    other_row = pair + (line >= size ? 1 : 0);
                    other_line = line % size * (16 / size);
                }
                const Macroblock& p = work_.at(other_row, x_ - 1);
                filter_line(component, to.at + y * to.stride, 1,
                            strength_of(p, other_line / 4 * 4 + 3, q, luma_y / 4 * 4, true, true),
                            thresholds(p, component));
            }
        }
    }

    // The top edge of a frame macroblock below a pair of field ones: each field by itself.
    void mixed_top() {
        for (int parity = 0; parity < 2; ++parity) {
            const Macroblock& p = work_.at(row_ - 2 + parity, x_);
            for (int component = 0; component < 3; ++component) {
                const Thresholds t = thresholds(p, component);
                const Lines to = lines(component, false);
                const int size = component == 0 ? 16 : 8;
                std::uint8_t* const edge = to.at + parity * to.stride;
                for (int i = 0; i < size; ++i) {
                    const int block = i * 4 / size;
                    filter_line(component, edge + i, 2 * to.stride, strength_of(p, 12 + block, *q_, block, false, true),
                                t);
                }
            }
        }
    }

    template <typename Joins>
    void top_edge(const Joins& joins) {
        const Macroblock& q = *q_;
        int above = row_ - 1;
        if (!work_.adaptive) {
            if (q.field) above = row_ - 2;
        } else if (q.field) {
            const int pair = row_ & ~1;
            above = pair - 2;
            if (above >= 0) above = work_.at(above, x_).field ? above + (row_ & 1) : above + 1;
        } else if ((row_ & 1) == 0 && row_ >= 2 && work_.at(row_ - 2, x_).field) {
            if (joins(work_.at(row_ - 1, x_))) mixed_top();
            return;
        }
        if (above < 0) return;
        const Macroblock& p = work_.at(above, x_);
        if (joins(p)) filter(p, false, 0, outer_strengths(p, false, p.field != q.field));
    }

    const Work& work_;
    const Kernels& kernels_;
    // The macroblock
    const Macroblock* q_ = nullptr;
    const SliceHeader* rules_ = nullptr;
    int x_ = 0, row_ = 0;
};

}  // namespace

void deblock_row(const Work& work, const Kernels& kernels, int row) {
    Deblocking deblocking(work, kernels);
    const int raster = work.raster_row(row);
    for (int x = 0; x < work.columns; ++x) {
        for (int k = 0; k < work.rows_in_raster(); ++k) deblocking.macroblock(x, raster + k);
    }
}

}  // namespace wavecrest::codec::h264
