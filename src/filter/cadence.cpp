#include "filter/cadence.hpp"

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <cstring>

namespace wavecrest::filter {
namespace {

constexpr int kStickOut = 12;  // levels by which a combing point exceeds both neighbours
// One weaving is clearly the better when the other combs half as much again, and by this many points per million.
// Detail and noise comb by themselves: only the comparison counts.
constexpr int kCombed = 700;
constexpr int kGroup = 5;  // frames that hold four film pictures
constexpr int kFewestMoving = 12;

bool clearly_less(int a, int b) {
    return b >= a + a / 2 + kCombed;
}

}  // namespace

std::int64_t field_difference(const Picture& a, const Picture& b, int parity) {
    std::int64_t sum = 0, count = 0;
    media::with_sample_type(a.bit_depth, [&](auto sample) {
        using Sample = decltype(sample);
        for (int y = parity; y < a.height; y += 8) {
            const Sample *p = a.row<Sample>(0, y), *q = b.row<Sample>(0, y);
            int line = 0;
            for (int x = 0; x < a.width; ++x) line += std::abs(p[x] - q[x]);
            sum += line;
            count += a.width;
        }
    });
    return count > 0 ? (sum * 1000 / count) >> (a.bit_depth - 8) : 0;
}

Picture weave_fields(const Picture& first, int first_parity, const Picture& second) {
    Picture out = first.allocate_alike(first.width, first.height);
    out.progressive = true;
    for (int plane = 0; plane < 3; ++plane) {
        for (int y = 0; y < first.plane_height(plane); ++y) {
            const Picture& from = y % 2 == first_parity ? first : second;
            std::memcpy(out.row<std::uint8_t>(plane, y), from.row<std::uint8_t>(plane, y), first.row_bytes(plane));
        }
    }
    return out;
}

std::string_view describe(Cadence cadence) {
    switch (cadence) {
        case Cadence::video:
            return "true interlaced video";
        case Cadence::progressive:
            return "progressive, though flagged interlaced";
        case Cadence::shifted:
            return "field-shifted film";
        case Cadence::pulldown:
            return "film, 3:2 pulldown, not flagged";
    }
    return "";
}

int combing(const Picture& first, int first_parity, const Picture& second) {
    std::int64_t combed = 0, points = 0;
    const int stick_out = kStickOut << (first.bit_depth - 8);
    media::with_sample_type(first.bit_depth, [&](auto sample) {
        using Sample = decltype(sample);
        for (int y = 2 + (first_parity == 0 ? 1 : 0); y + 1 < first.height; y += 2) {
            if (y % 2 == first_parity) continue;
            const Sample *above = first.row<Sample>(0, y - 1), *below = first.row<Sample>(0, y + 1);
            const Sample* here = second.row<Sample>(0, y);
            int line = 0;
            for (int x = 0; x < first.width; ++x) {
                const int a = here[x] - above[x], b = here[x] - below[x];
                line += (a > stick_out && b > stick_out) || (a < -stick_out && b < -stick_out) ? 1 : 0;
            }
            combed += line;
            points += first.width;
        }
    });
    return points > 0 ? static_cast<int>(combed * 1'000'000 / points) : 0;
}

Belongs fields_belong(const Picture& previous, const Picture& picture) {
    if (previous.width != picture.width || previous.height != picture.height || previous.bit_depth != picture.bit_depth)
        return Belongs::unknown;
    const int first = picture.top_field_first ? 0 : 1;
    const int own = combing(picture, first, picture), with_previous = combing(picture, first, previous);
    if (clearly_less(own, with_previous)) return Belongs::own;
    if (clearly_less(with_previous, own)) return Belongs::previous;
    const std::int64_t moved = field_difference(previous, picture, first);
    // Where the second field is that of the frame before once more, the first goes with both of them.
    const bool repeated = field_difference(previous, picture, 1 - first) * 2 < moved;
    return moved >= kMoves && !repeated ? Belongs::neither : Belongs::unknown;
}

bool can_have_pulldown(Ratio frame_rate) {
    const double rate = frame_rate.value();
    return rate > 29.9 && rate < 30.1;
}

namespace {

// Of five frames of pulldown two go with themselves, two with the frame before; one repeats a field and tells nothing.
struct Rhythm {
    int told = 0, right = 0;  // frames that tell, and those of them that fit the best phase
};
Rhythm rhythm_of(std::string_view run) {
    constexpr std::string_view kRhythm = "ooss.";
    Rhythm rhythm;
    for (std::size_t phase = 0; phase < kGroup; ++phase) {
        int same = 0;
        for (std::size_t i = 0; i < run.size(); ++i)
            same += run[i] == kRhythm[(i + phase) % kGroup] && run[i] != '.' ? 1 : 0;
        rhythm.right = std::max(rhythm.right, same);
    }
    rhythm.told = static_cast<int>(std::count_if(run.begin(), run.end(), [](char c) { return c == 'o' || c == 's'; }));
    return rhythm;
}
bool fits(const Rhythm& rhythm) {
    return rhythm.told >= kFewestMoving / 2 && rhythm.right * 100 >= rhythm.told * 85;
}

}  // namespace

bool has_pulldown_rhythm(std::string_view run) {
    return run.size() >= 2 * kGroup && fits(rhythm_of(run));
}

void CadenceFinder::push(const Picture& picture) {
    if (picture.progressive) {
        ++marked_;
        repeated_ += picture.fields == 3 ? 1 : 0;
        previous_.reset();
        return;
    }
    ++unmarked_;
    if (previous_) {
        const Belongs belongs = fields_belong(*previous_, picture);
        own_ += belongs == Belongs::own ? 1 : 0;
        shifted_ += belongs == Belongs::previous ? 1 : 0;
        neither_ += belongs == Belongs::neither ? 1 : 0;
        runs_.back() += static_cast<char>(belongs);
    }
    previous_ = picture;
}

// The rhythm is looked for in short intervals: cuts of the finished video set it off.
bool CadenceFinder::has_rhythm() const {
    constexpr std::size_t kStretch = 3 * kGroup;
    Rhythm all;
    for (const std::string& run : runs_) {
        for (std::size_t at = 0; at + 2 * kGroup <= run.size(); at += kStretch) {
            const Rhythm one = rhythm_of(std::string_view(run).substr(at, kStretch));
            all.right += one.right;
            all.told += one.told;
        }
    }
    return fits(all);
}

std::optional<Cadence> CadenceFinder::result() const {
    const int decided = own_ + shifted_, all = decided + neither_;
    if (all < kFewestMoving) return std::nullopt;
    if (decided * 2 < all) return Cadence::video;
    if (own_ * 20 >= decided * 19) return Cadence::progressive;
    if (shifted_ * 20 >= decided * 19) return Cadence::shifted;
    if (can_have_pulldown(frame_rate_) && decided * 10 >= all * 6 && has_rhythm()) return Cadence::pulldown;
    // Film whose fields are cut now here, now there: each frame by what it is.
    return decided * 10 >= all * 9 ? Cadence::shifted : Cadence::video;
}

}  // namespace wavecrest::filter
