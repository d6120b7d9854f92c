#include "profile/ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace wavecrest::profile {
namespace {

// Bits a second that 1920x1080 at 25 fps takes at its peak in H.264, and how others compare: less than in proportion
// to the pixels, since smaller pictures have more detail in each. Steps between the sizes below come to about 2.
constexpr double kFullHd = 6'000'000, kByPixels = 0.9, kByFrames = 0.6;
constexpr int kHeights[] = {2160, 1440, 1080, 720, 540, 360, 270};

double share_of(Codec codec) {
    return codec == Codec::h264 ? 1 : codec == Codec::av1 ? 0.55 : 0.65;
}

// Of the picture as it is seen: with square pixels.
int shown_height(const Track& video) {
    return video.rotation % 180 == 0 ? video.height : video.width;
}
int shown_width(const Track& video) {
    if (video.rotation % 180 != 0) return video.height;
    return static_cast<int>(
        base::rescale(video.width, video.pixel_aspect.num, std::max<std::int64_t>(video.pixel_aspect.den, 1)));
}

// Whether scaling to fit into `largest` makes the picture no smaller.
bool covers(const base::Size& largest, const Track& video) {
    return largest.width >= shown_width(video) && largest.height >= shown_height(video);
}

std::int64_t rounded_rate(double bps) {
    const double step = bps >= 1'000'000 ? 100'000 : 10'000;
    return static_cast<std::int64_t>(std::round(bps / step) * step);
}

std::vector<Rung> usual_rungs(const Profile& profile, const Track& video) {
    std::vector<Rung> rungs;
    const double fps = video.frame_rate.num > 0 ? video.frame_rate.value() : 25;
    const double faster = std::max(fps / 30, 1.0);
    std::vector<int> heights = {profile.video.largest.height};
    for (const int height : kHeights) {
        if (height * 10 < heights.front() * 9) heights.push_back(height);
    }
    for (const int height : heights) {
        Rung rung;
        rung.video = profile.video;
        rung.video.largest = {(height * 16 / 9 + 1) / 2 * 2, height};
        // Wide films have fewer lines in the same width: the size that just covers them is their own.
        const bool covers_it = covers(rung.video.largest, video);
        if (covers_it && !rungs.empty() && covers(rungs.back().video.largest, video)) rungs.clear();
        const double pixels =
            covers_it ? static_cast<double>(shown_width(video)) * shown_height(video) : 16.0 / 9 * height * height;
        rung.video.peak_bps = rounded_rate(kFullHd * share_of(rung.video.codec) *
                                           std::pow(pixels / (1920.0 * 1080), kByPixels) * std::pow(faster, kByFrames));
        rung.why = "usual for this size";
        rungs.push_back(std::move(rung));
    }
    return rungs;
}

}  // namespace

std::string size_name(int width, int height) {
    return fmt::format("{}p", std::max<long>(height, std::lround(width * 9 / 16.0)));
}

std::vector<Rung> rungs_for(const Profile& profile, const Track& video, std::vector<std::string>& notes) {
    std::vector<Rung> rungs;
    if (profile.rungs.empty()) {
        rungs = usual_rungs(profile, video);
    } else {
        for (const VideoSettings& one : profile.rungs) rungs.push_back({one, "in the profile"});
        const auto rate = [](const Rung& rung) {
            return rung.video.peak_bps > 0 ? rung.video.peak_bps : rung.video.mean_bps;
        };
        std::stable_sort(rungs.begin(), rungs.end(), [&](const Rung& a, const Rung& b) { return rate(a) > rate(b); });
        // Larger than the source they would be the same picture with more bits.
        const auto above = [&](const Rung& rung) { return covers(rung.video.largest, video); };
        base::Size least{};
        for (const Rung& rung : rungs) {
            if (above(rung) && (least.height == 0 || rung.video.largest.height < least.height))
                least = rung.video.largest;
        }
        for (auto rung = rungs.begin(); rung != rungs.end();) {
            if (!above(*rung) || rung->video.largest == least) {
                ++rung;
                continue;
            }
            notes.push_back(fmt::format("rung of {}p left out: the source has {}x{}", rung->video.largest.height,
                                        shown_width(video), shown_height(video)));
            rung = rungs.erase(rung);
        }
    }
    for (Rung& rung : rungs) {
        rung.video.fixed_keyframes = true;
        if (rung.video.keyframe_interval.count() == 0) rung.video.keyframe_interval = kLadderSegment;
    }
    return rungs;
}

}  // namespace wavecrest::profile
