#include "filter/deinterlace.hpp"

#include <algorithm>
#include <cstdlib>
#include <cstring>

namespace wavecrest::filter {
namespace {

// Differences up to the first are noise, from the second on motion; between them both estimates are mixed.
constexpr int kStill = 6, kMoving = 14;

template <typename Sample>
struct Rows {
    // Of the field being completed: lines above and below the missing one, now and one frame before and after.
    const Sample *above, *below, *above_before, *below_before, *above_after, *below_after;
    // Of the other parity: the missing line's place half a frame before and after.
    const Sample *here_before, *here_after;
};

// One missing line. Integers only and no branches over the middle of the line, so that compilers can use vectors.
// `shift`: bits a sample beyond 8, by which differences are larger.
template <typename Sample>
void fill_line(const Rows<Sample>& r, Sample* out, int width, int shift, Sample* motion, Sample* wide) {
    const int still = kStill << shift, span = (kMoving - kStill) << shift;
    for (int x = 0; x < width; ++x) {
        const int a = std::abs(r.above[x] - r.above_before[x]), b = std::abs(r.below[x] - r.below_before[x]);
        const int c = std::abs(r.above[x] - r.above_after[x]), d = std::abs(r.below[x] - r.below_after[x]);
        const int e = std::abs(r.here_before[x] - r.here_after[x]);
        motion[x] = static_cast<Sample>(std::max({std::max(a, b), std::max(c, d), e}));
    }
    // A point is as moving as its neighbours up to three away: the middle of a moving stripe may look still.
    constexpr int kReach = 3;
    for (int x = 0; x < width; ++x) wide[x] = motion[x];
    for (int d = 1; d <= kReach; ++d) {
        for (int x = d; x < width; ++x) wide[x] = std::max(wide[x], motion[x - d]);
        for (int x = 0; x < width - d; ++x) wide[x] = std::max(wide[x], motion[x + d]);
    }

    const auto blend = [&](int x, int spatial) {
        const int temporal = (r.here_before[x] + r.here_after[x] + 1) >> 1;
        const int weight = std::clamp(wide[x] - still, 0, span);  // of the spatial estimate
        out[x] = static_cast<Sample>(temporal + ((spatial - temporal) * weight + span / 2) / span);
    };
    constexpr int kMargin = 3;
    for (int x = 0; x < std::min(kMargin, width); ++x) blend(x, (r.above[x] + r.below[x] + 1) >> 1);
    for (int x = std::max(kMargin, width - kMargin); x < width; ++x) blend(x, (r.above[x] + r.below[x] + 1) >> 1);
    for (int x = kMargin; x < width - kMargin; ++x) {
        // The direction along which the lines above and below agree best, straight down unless another is clearly
        // better: a slanted edge is continued instead of stepped.
        const auto cost = [&](int d) {
            return std::abs(r.above[x - 1 + d] - r.below[x - 1 - d]) + std::abs(r.above[x + d] - r.below[x - d]) +
                   std::abs(r.above[x + 1 + d] - r.below[x + 1 - d]);
        };
        int best = cost(0) - (2 << shift), spatial = (r.above[x] + r.below[x] + 1) >> 1;
        for (const int d : {-1, 1, -2, 2}) {
            const int c = cost(d) + (d == 2 || d == -2 ? 4 << shift : 0);
            const int value = (r.above[x + d] + r.below[x - d] + 1) >> 1;
            spatial = c < best ? value : spatial;
            best = std::min(best, c);
        }
        blend(x, spatial);
    }
}

template <typename Sample>
void complete_samples(const Picture& frame, int parity, const Picture& before, const Picture& after,
                      const Picture& past, const Picture& future, Picture& out) {
    std::vector<Sample> motion(static_cast<std::size_t>(frame.width)), wide(motion.size());
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = frame.plane_height(plane);
        const auto row = [&](const Picture& p, int y) {
            // Beyond the edge the nearest line of the same field.
            if (y < 0) y += 2;
            if (y >= rows) y -= 2;
            return p.row<Sample>(plane, std::clamp(y, 0, rows - 1));
        };
        for (int y = 0; y < rows; ++y) {
            Sample* to = out.row<Sample>(plane, y);
            if (y % 2 == parity) {
                std::memcpy(to, row(frame, y), frame.row_bytes(plane));
                continue;
            }
            const Rows<Sample> r{row(frame, y - 1),  row(frame, y + 1),  row(past, y - 1), row(past, y + 1),
                                 row(future, y - 1), row(future, y + 1), row(before, y),   row(after, y)};
            fill_line(r, to, frame.plane_width(plane), frame.bit_depth - 8, motion.data(), wide.data());
        }
    }
}

// The picture of the instant of one field: `parity` 0 has the even lines. `before` and `after` hold the fields of the
// other parity half a frame away; `past` and `future` the same parity a frame away.
Picture complete(const Picture& frame, int parity, const Picture& before, const Picture& after, const Picture& past,
                 const Picture& future) {
    Picture out = frame.allocate_alike(frame.width, frame.height);
    media::with_sample_type(frame.bit_depth, [&](auto sample) {
        complete_samples<decltype(sample)>(frame, parity, before, after, past, future, out);
    });
    out.progressive = true;
    out.top_field_first = true;
    // Lines of one view would have been filled in from the other's.
    if (out.frame_packing && out.frame_packing->interleaved()) out.frame_packing.reset();
    return out;
}

}  // namespace

void Deinterlacer::push(Picture picture, std::vector<Picture>& out) {
    if (current_) {
        const bool same = current_->width == picture.width && current_->height == picture.height &&
                          current_->bit_depth == picture.bit_depth;
        emit(same ? &picture : nullptr, out);
        previous_ = std::move(current_);
        if (!same) previous_.reset();
    }
    current_ = std::move(picture);
}

void Deinterlacer::flush(std::vector<Picture>& out) {
    if (current_) emit(nullptr, out);
    previous_.reset();
    current_.reset();
}

void Deinterlacer::emit(const Picture* next, std::vector<Picture>& out) {
    const Picture& now = *current_;
    if (now.progressive) {
        out.push_back(now);
        return;
    }
    const Picture& past = previous_ ? *previous_ : now;
    const Picture& future = next != nullptr ? *next : now;
    const int first = now.top_field_first ? 0 : 1;
    // Half a frame before the first field lies the second of the frame before, half a frame after it its own second.
    Picture one = complete(now, first, past, now, past, future);
    if (rate_ == Rate::frame) {
        out.push_back(std::move(one));
        return;
    }
    Picture two = complete(now, 1 - first, now, future, past, future);
    one.duration = now.duration / 2;
    one.fields = two.fields = 1;
    two.pts = now.pts + one.duration;
    two.duration = now.duration - one.duration;
    out.push_back(std::move(one));
    out.push_back(std::move(two));
}

}  // namespace wavecrest::filter
