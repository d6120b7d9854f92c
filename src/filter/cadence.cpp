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
constexpr int kMoves = 1000;  // thousandths of a level by which frames differ when something moves
constexpr int kGroup = 5;     // frames that hold four film pictures
constexpr int kFewestMoving = 12;

bool clearly_less(int a, int b) {
    return b >= a + a / 2 + kCombed;
}

// Mean difference of two pictures' luma in thousandths of a level, on every fourth line of a field.
std::int64_t difference(const Picture& a, const Picture& b, int parity) {
    std::int64_t sum = 0, count = 0;
    for (int y = parity; y < a.height; y += 8) {
        const std::uint8_t* p = a.planes[0] + y * a.strides[0];
        const std::uint8_t* q = b.planes[0] + y * b.strides[0];
        int line = 0;
        for (int x = 0; x < a.width; ++x) line += std::abs(p[x] - q[x]);
        sum += line;
        count += a.width;
    }
    return count > 0 ? sum * 1000 / count : 0;
}

// Lines of one parity from each picture.
Picture weave(const Picture& first, int first_parity, const Picture& second) {
    Picture out = first.allocate_alike(first.width, first.height);
    out.progressive = true;
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? first.height : (first.height + 1) / 2;
        for (int y = 0; y < rows; ++y) {
            const Picture& from = y % 2 == first_parity ? first : second;
            std::memcpy(out.planes[plane] + y * out.strides[plane], from.planes[plane] + y * from.strides[plane],
                        static_cast<std::size_t>(std::min(out.strides[plane], from.strides[plane])));
        }
    }
    return out;
}

}  // namespace

std::string_view describe(Cadence cadence) {
    switch (cadence) {
        case Cadence::video:
            return "true interlaced video";
        case Cadence::progressive:
            return "whole pictures, though not marked so";
        case Cadence::shifted:
            return "film, cut one field off";
        case Cadence::pulldown:
            return "film with pulldown, not marked so";
    }
    return "";
}

int combing(const Picture& first, int first_parity, const Picture& second) {
    std::int64_t combed = 0, points = 0;
    for (int y = 2 + (first_parity == 0 ? 1 : 0); y + 1 < first.height; y += 2) {
        if (y % 2 == first_parity) continue;
        const std::uint8_t* above = first.planes[0] + (y - 1) * first.strides[0];
        const std::uint8_t* below = first.planes[0] + (y + 1) * first.strides[0];
        const std::uint8_t* here = second.planes[0] + y * second.strides[0];
        int line = 0;
        for (int x = 0; x < first.width; ++x) {
            const int a = here[x] - above[x], b = here[x] - below[x];
            line += (a > kStickOut && b > kStickOut) || (a < -kStickOut && b < -kStickOut) ? 1 : 0;
        }
        combed += line;
        points += first.width;
    }
    return points > 0 ? static_cast<int>(combed * 1'000'000 / points) : 0;
}

void CadenceFinder::push(const Picture& picture) {
    if (previous_ && previous_->width == picture.width && previous_->height == picture.height) {
        const int first = picture.top_field_first ? 0 : 1;
        const int own = combing(picture, first, picture), with_previous = combing(picture, first, *previous_);
        if (clearly_less(own, with_previous)) {
            ++own_;
            runs_.back() += 'o';
        } else if (clearly_less(with_previous, own)) {
            ++shifted_;
            runs_.back() += 's';
        } else if (difference(*previous_, picture, first) >= kMoves) {
            ++neither_;
            runs_.back() += 'n';
        } else {
            runs_.back() += '.';
        }
    }
    previous_ = picture;
}

// Of five frames of pulldown two go with themselves, two with the frame before; one repeats a field and tells nothing.
// The rhythm is looked for in short stretches: cuts of the finished video set it off.
bool CadenceFinder::has_rhythm() const {
    constexpr std::string_view kRhythm = "ooss.";
    constexpr std::size_t kStretch = 3 * kGroup;
    int told = 0, right = 0;
    for (const std::string& run : runs_) {
        for (std::size_t at = 0; at + 2 * kGroup <= run.size(); at += kStretch) {
            const std::string_view stretch = std::string_view(run).substr(at, kStretch);
            int best = 0;
            for (std::size_t phase = 0; phase < kGroup; ++phase) {
                int same = 0;
                for (std::size_t i = 0; i < stretch.size(); ++i)
                    same += stretch[i] == kRhythm[(i + phase) % kGroup] && stretch[i] != '.' ? 1 : 0;
                best = std::max(best, same);
            }
            right += best;
            told += static_cast<int>(
                std::count_if(stretch.begin(), stretch.end(), [](char c) { return c == 'o' || c == 's'; }));
        }
    }
    return told >= kFewestMoving / 2 && right * 100 >= told * 85;
}

std::optional<Cadence> CadenceFinder::result() const {
    const int decided = own_ + shifted_, all = decided + neither_;
    if (all < kFewestMoving) return std::nullopt;
    if (decided * 2 < all) return Cadence::video;
    if (own_ * 20 >= decided * 19) return Cadence::progressive;
    if (shifted_ * 20 >= decided * 19) return Cadence::shifted;
    const double rate = static_cast<double>(frame_rate_.num) / static_cast<double>(frame_rate_.den);
    if (rate > 29.9 && rate < 30.1 && decided * 10 >= all * 6 && has_rhythm()) return Cadence::pulldown;
    // Film whose fields are cut now here, now there: each frame by what it is.
    return decided * 10 >= all * 9 ? Cadence::shifted : Cadence::video;
}

void FilmWeaver::push(Picture picture, std::vector<Picture>& out) {
    const int first = picture.top_field_first ? 0 : 1;
    Picture woven = picture;
    woven.progressive = true;
    const bool follows = previous_ && previous_->width == picture.width && previous_->height == picture.height;
    if (!picture.progressive && follows) {
        const int own = combing(picture, first, picture), with_previous = combing(picture, first, *previous_);
        if (with_previous < own) woven = weave(picture, first, *previous_);
        // Neither goes, and both comb much more than what went before: video in between, left to a deinterlacer.
        const int least = std::min(own, with_previous);
        if (!clearly_less(least, std::max(own, with_previous)) && least > 3 * usual_ + kCombed) {
            woven = picture;
            woven.progressive = false;
        }
        usual_ = least < usual_ ? least : usual_ + usual_ / 20 + 1;
    }
    previous_ = std::move(picture);
    if (film_rate_.num == 0) {
        out.push_back(std::move(woven));
        return;
    }
    const std::int64_t change =
        last_ && last_->width == woven.width ? difference(*last_, woven, first) : std::int64_t{1} << 40;
    last_ = woven;
    group_.push_back({std::move(woven), change});
    if (group_.size() == kGroup) release(out);
}

void FilmWeaver::release(std::vector<Picture>& out) {
    if (group_.empty()) return;
    const Time start = group_.front().picture.pts;
    const Time end = group_.back().picture.pts + group_.back().picture.duration;
    if (group_.size() == kGroup) {
        const auto repeated = std::min_element(
            group_.begin(), group_.end(), [](const Woven& a, const Woven& b) { return a.difference < b.difference; });
        group_.erase(repeated);
    }
    // The pictures that are left share the stretch: four on the film's own grid.
    const auto count = static_cast<std::int64_t>(group_.size());
    for (std::int64_t i = 0; i < count; ++i) {
        Picture& picture = group_[static_cast<std::size_t>(i)].picture;
        picture.pts = start + (end - start) * i / count;
        picture.duration = start + (end - start) * (i + 1) / count - picture.pts;
        picture.fields = 2;
        out.push_back(std::move(picture));
    }
    group_.clear();
}

void FilmWeaver::flush(std::vector<Picture>& out) {
    release(out);
    previous_.reset();
    last_.reset();
}

}  // namespace wavecrest::filter
