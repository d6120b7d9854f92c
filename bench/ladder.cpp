// A ladder of six rungs against the six conversions it stands for, one after the other, in the same run: one decode and
// one chain of filters for all, and encoders side by side.
//
//   bench_ladder [SECONDS [RUNS [MBIT [LIVE_MBIT]]]]
//
// SECONDS: length of the 1080p film (20). RUNS: how often each is made (3). MBIT: the film's bit rate (25, as of a
// Blu-ray disc's busy scenes): the more it takes to decode, the more is shared. Goal: at most 0.7.
//
// Also: encoding live on this machine, 720p, 480p and 360p at effort 1, as a share of real time (goal: under 1), from a
// film of LIVE_MBIT (8, as a television channel in 1080p has) and from that of MBIT.
#include <fmt/core.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>

#include "base/clock.hpp"
#include "convert/ladder.hpp"
#include "sample/clip.hpp"
#include "value.hpp"

using namespace wavecrest;

namespace {

profile::VideoSettings rung(int height, std::int64_t peak_bps, int effort) {
    profile::VideoSettings video;
    video.largest = {(height * 16 / 9 + 1) / 2 * 2, height};
    video.effort = effort;
    video.quality = 74;
    video.peak_bps = peak_bps;
    video.keyframe_interval = base::from_seconds(2);
    video.fixed_keyframes = true;
    return video;
}

double seconds_of(const source::Input& input, const convert::Request& request) {
    const auto plan = value(convert::make_plan(input, request));
    const base::RealClock clock;
    value(convert::run(input, plan, {}, Cancel()));
    const double took = base::to_seconds(clock.now());
    std::filesystem::remove_all(request.into);
    return took;
}

std::unique_ptr<source::Input> film_of(const base::Path& path, double seconds, double mbit) {
    sample::Clip clip;
    clip.video = sample::ClipVideo{};
    clip.video->size = {1920, 1080};
    clip.video->frame_rate = {24, 1};
    clip.video->bitrate_bps = static_cast<std::int64_t>(mbit * 1e6);
    clip.audio = sample::ClipAudio{};
    clip.length = base::from_seconds(seconds);
    auto file = value(base::AtomicFile::create(path, base::AtomicFile::IfExists::refuse));
    value(sample::make_clip(clip, std::make_unique<base::AtomicFile>(std::move(file)), Cancel()));
    return value(source::open_input(path));
}

double processor_time() {
    rusage used{};
    ::getrusage(RUSAGE_SELF, &used);
    const auto seconds = [](const timeval& t) {
        return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) / 1e6;
    };
    return seconds(used.ru_utime) + seconds(used.ru_stime);
}

}  // namespace

int main(int argc, char** argv) {
    const double seconds = argc > 1 ? std::atof(argv[1]) : 20;
    const int runs = argc > 2 ? std::atoi(argv[2]) : 3;
    const base::Path folder = std::filesystem::temp_directory_path() / fmt::format("bench-ladder-{}", ::getpid());
    std::filesystem::create_directories(folder);
    const double mbit = argc > 3 ? std::atof(argv[3]) : 25, live_mbit = argc > 4 ? std::atof(argv[4]) : 8;
    const auto film = film_of(folder / "film.mp4", seconds, mbit);
    const auto channel = film_of(folder / "channel.mp4", seconds, live_mbit);

    const auto make = [&](const source::Input& input, const std::vector<profile::VideoSettings>& rungs, bool together) {
        double took = 0;
        const auto request_for = [&](const std::vector<profile::VideoSettings>& some) {
            convert::Request request;
            request.into = folder / "out";
            request.record = false;
            profile::Profile profile;
            profile.name = "bench";
            profile.video = some.front();
            request.profiles = {profile};
            if (together)
                request.rungs = [some](const source::Pick&) -> Result<std::vector<profile::Rung>> {
                    std::vector<profile::Rung> all;
                    for (const auto& one : some) all.push_back({one, ""});
                    return all;
                };
            return request;
        };
        if (together) return seconds_of(input, request_for(rungs));
        for (const auto& one : rungs) took += seconds_of(input, request_for({one}));
        return took;
    };
    const std::vector<profile::VideoSettings> six = {rung(1080, 6'000'000, 5), rung(720, 3'200'000, 5),
                                                     rung(540, 1'800'000, 5),  rung(432, 1'100'000, 5),
                                                     rung(360, 800'000, 5),    rung(270, 450'000, 5)};
    double ladder = 1e9, singles = 1e9;
    double ladder_work = 0, singles_work = 0;  // of the processors, in the fastest run
    const auto fastest = [&](bool together, double& least, double& work) {
        const double before = processor_time();
        const double took = make(*film, six, together);
        if (took < least) {
            least = took;
            work = processor_time() - before;
        }
    };
    for (int i = 0; i < runs; ++i) {
        fastest(true, ladder, ladder_work);
        fastest(false, singles, singles_work);
    }
    fmt::print("six rungs from 1080p: {:.2f} s together, {:.2f} s one by one: ratio {:.2f} (goal 0.7)\n", ladder,
               singles, ladder / singles);
    fmt::print("  processor time: {:.1f} s together, {:.1f} s one by one: ratio {:.2f}\n", ladder_work, singles_work,
               ladder_work / singles_work);
    const std::vector<profile::VideoSettings> three = {rung(720, 3'200'000, 1), rung(480, 1'500'000, 1),
                                                       rung(360, 800'000, 1)};
    double live = 1e9, busy = 1e9;
    for (int i = 0; i < runs; ++i) {
        live = std::min(live, make(*channel, three, true));
        busy = std::min(busy, make(*film, three, true));
    }
    fmt::print("720p, 480p and 360p at effort 1: {:.2f} of real time from {} Mbit/s (goal under 1), {:.2f} from {}\n",
               live / seconds, live_mbit, busy / seconds, mbit);
    std::filesystem::remove_all(folder);
}
