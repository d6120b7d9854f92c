#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/units.hpp"
#include "sample/test_card.hpp"
#include "trial/step.hpp"

namespace wavecrest::trial {
namespace {

constexpr double kLostPart = 0.05;   // of the frames: more are seen
constexpr double kWaitSeen = 0.5;    // s of standing still
constexpr double kMostOfClip = 0.7;  // of its length must have been played for a verdict
constexpr double kSettles = 0.5;     // s until a download runs at its speed
constexpr double kSilence = 0.001;   // RMS below it is none

double frame_rate_of(const Step& step) {
    return step.clip && step.clip->video ? step.clip->video->frame_rate.value() : 0;
}

bool has_audio_alone(const Step& step) {
    return step.clip && step.clip->audio && !step.clip->video;
}

int heard_channels(const Seen& seen) {
    return static_cast<int>(
        std::count_if(seen.levels.begin(), seen.levels.end(), [](double level) { return level > kSilence; }));
}

Judged judge_audio(const Step& step, const Seen& seen) {
    const int heard = heard_channels(seen);
    if (heard > 0) {
        const bool all = heard >= step.clip->audio->channels;
        return {Outcome::played,
                all ? fmt::format("{} heard", heard == 1 ? "1 channel" : fmt::format("{} channels", heard))
                    : fmt::format("heard, mixed to {}", heard == 1 ? "1 channel" : fmt::format("{} channels", heard))};
    }
    if (seen.audio_bytes == 0) return {Outcome::failed, "no audio decoded"};
    if (seen.audio_bytes > 0) return {Outcome::played, "decoded; not heard by the page"};
    return {Outcome::unclear, "its position advances; whether it is heard can't be told"};
}

Judged judge_frames(const Step& step, const Seen& seen, double display_hz) {
    const double rate = frame_rate_of(step);
    if (seen.width <= 0 || seen.height <= 0) return {Outcome::failed, "no video shown"};
    const std::string starts = fmt::format("starts in {}", base::format_span(base::from_seconds(seen.startup_s)));
    if (seen.waited_s > kWaitSeen)
        return {Outcome::stutters,
                fmt::format("stood still {} for {:.1f} s",
                            seen.waits == 1 ? "once" : fmt::format("{} times", seen.waits), seen.waited_s)};
    // Slower than it should be, without saying so.
    if (seen.wall_s > seen.played_s * 1.15 + 0.5)
        return {Outcome::stutters, fmt::format("{:.1f} s took {:.1f} s", seen.played_s, seen.wall_s)};
    if (step.clip->video->interlaced) {
        constexpr int kCombed = 60;
        if (seen.combing > kCombed) return {Outcome::stutters, "plays, but not deinterlaced: moving edges are combed"};
        if (seen.combing < 0) return {Outcome::unclear, "plays; whether it is deinterlaced can't be told"};
    }
    if (seen.frames > 0 && seen.dropped >= 0) {
        const double lost = static_cast<double>(seen.dropped) / static_cast<double>(seen.frames);
        const std::string counts = fmt::format("{} of {} frames dropped", seen.dropped, seen.frames);
        // (Few at the start are normal.)
        if (seen.dropped > 3 && lost > kLostPart) return {Outcome::stutters, counts};
        const double expected = rate * seen.played_s * 0.8;
        if (expected > 10 && static_cast<double>(seen.frames) < expected && !step.clip->video->interlaced)
            return {Outcome::stutters, fmt::format("{} frames in {:.1f} s", seen.frames, seen.played_s)};
        return {Outcome::played, fmt::format("{}, {}", counts, starts)};
    }
    if (seen.presented >= 0) {
        const double due = std::min(rate, display_hz > 0 ? display_hz : rate) * seen.played_s;
        const std::string counts = fmt::format("{} of {:.0f} frames shown", seen.presented, due);
        return {static_cast<double>(seen.presented) < due * (1 - 2 * kLostPart) ? Outcome::stutters : Outcome::played,
                counts + ", " + starts};
    }
    return {Outcome::unclear, "its position advances evenly; its frames can't be counted; " + starts};
}

Judged judge_clip(const Step& step, const Seen& seen, double display_hz) {
    if (!seen.error.empty()) return {Outcome::failed, seen.error};
    if (!seen.started) return {Outcome::failed, "did not start"};
    const double length = base::to_seconds(step.clip->length);
    if (seen.played_s < length * kMostOfClip)
        return {Outcome::failed, fmt::format("stopped after {:.1f} of {:.1f} s", seen.played_s, length)};
    return has_audio_alone(step) ? judge_audio(step, seen) : judge_frames(step, seen, display_hz);
}

Judged judge_seeks(const Step& step, const Seen& seen) {
    if (!seen.error.empty()) return {Outcome::failed, seen.error};
    if (seen.seeks.empty()) return {Outcome::failed, "did not start"};
    double longest = 0;
    for (const Seen::Seek& seek : seen.seeks) {
        if (seek.took_s < 0) return {Outcome::failed, fmt::format("seeking to {:.0f} s never ended", seek.to_s)};
        if (std::abs(seek.landed_s - seek.to_s) > 2)
            return {Outcome::failed, fmt::format("asked for {:.0f} s, shows {:.1f} s", seek.to_s, seek.landed_s)};
        // The frame itself says where it is.
        const double rate = frame_rate_of(step);
        if (seek.frame >= 0 && rate > 0 && std::abs(seek.frame / rate - seek.to_s) > 2)
            return {Outcome::failed,
                    fmt::format("asked for {:.0f} s, shows the frame of {:.1f} s", seek.to_s, seek.frame / rate)};
        longest = std::max(longest, seek.took_s);
    }
    return {Outcome::played, fmt::format("{} seeks, at most {} each", seen.seeks.size(),
                                         base::format_span(base::from_seconds(longest)))};
}

Judged judge_beat(const Step& step, const Seen& seen, double display_hz) {
    Judged judged = judge_clip(step, seen, display_hz);
    if (judged.outcome == Outcome::failed) return judged;
    const double rate = frame_rate_of(step);
    const Motion motion = judge_motion(seen.marks, rate, display_hz);
    if (!motion.readable) {
        judged.seen += "; its frames can't be read by the page";
        return judged;
    }
    constexpr double kMostUnseen = 0.4;
    const double all = motion.frames + motion.missing + motion.unseen;
    if (motion.unseen > all * kMostUnseen && motion.backwards == 0) {
        judged.seen += "; the page is too slow to read them all";
        return judged;
    }
    // Of more frames than the display has refreshes some are left out by nature.
    const double possible = display_hz > 0 ? std::min(1.0, display_hz / rate) : 1.0;
    const double missing = static_cast<double>(motion.missing) / std::max(1, motion.frames + motion.missing);
    std::string text = fmt::format("{} frames read, {} missing", motion.frames, motion.missing);
    if (motion.unseen > 0) text += fmt::format(", {} not looked at", motion.unseen);
    if (motion.backwards > 0) {
        return {Outcome::stutters, text + fmt::format(", {} out of order", motion.backwards)};
    }
    text += fmt::format(", each within {:.0f} ms of its time", motion.uneven_s * 1000);
    if (display_hz > 0) {
        const double refreshes = display_hz / rate;
        if (std::abs(refreshes - std::round(refreshes)) > 0.02)
            text += fmt::format(" (uneven by nature: {:.4g} fps on {:.4g} Hz)", rate, display_hz);
    }
    const bool lost = missing > (1 - possible) + kLostPart;
    return {lost ? Outcome::stutters : Outcome::played, text};
}

Judged judge_sync(const Step& step, const Seen& seen, double display_hz) {
    Judged judged = judge_clip(step, seen, display_hz);
    if (judged.outcome == Outcome::failed) return judged;
    const auto late = audio_lateness(seen, frame_rate_of(step));
    if (!late) return {Outcome::unclear, "flash and beep can't be seen or heard by the page"};
    const double ms = *late * 1000;
    // ms. Acceptable is from 185 earlier to 90 later (Rec. ITU-R BT.1359); pages measure to about 80.
    constexpr double kNoticed = 150;
    const std::string text =
        std::abs(ms) < 1 ? std::string("audio with the video")
                         : fmt::format("audio {:.0f} ms {} than the video", std::abs(ms), ms > 0 ? "later" : "earlier");
    return {std::abs(ms) > kNoticed ? Outcome::stutters : Outcome::played, text};
}

}  // namespace

std::string_view short_name(Outcome result) {
    switch (result) {
        case Outcome::played:
            return "played";
        case Outcome::stutters:
            return "stutters";
        case Outcome::failed:
            return "failed";
        default:
            return "unclear";
    }
}

std::string claim_text(const Seen& seen) {
    std::string text = seen.says;
    const auto add = [&](const char* more) { text += (text.empty() ? "" : ", ") + std::string(more); };
    if (seen.capabilities && !seen.capabilities->supported) add("not supported");
    if (seen.capabilities && seen.capabilities->supported) {
        add(seen.capabilities->smooth ? "smooth" : "not smooth");
        if (seen.capabilities->power_efficient) add("power-efficient");
    }
    return text;
}

Judged judge(const Step& step, const Seen& seen, double display_hz) {
    using Kind = Step::Kind;
    switch (step.kind) {
        case Kind::display:
            if (seen.display_width <= 0) return {Outcome::unclear, "not told"};
            return {Outcome::played, fmt::format("{}x{}{}{}", seen.display_width, seen.display_height,
                                                 seen.display_hz > 0 ? fmt::format(", {:.4g} Hz", seen.display_hz) : "",
                                                 seen.display_hdr ? ", HDR" : "")};
        case Kind::download: {
            const auto speed = download_speed(seen);
            if (!speed) return {Outcome::unclear, seen.error.empty() ? "nothing came" : seen.error};
            return {Outcome::played, fmt::format("{}, {} in its slowest second",
                                                 base::format_bitrate(static_cast<std::int64_t>(speed->mean_bps)),
                                                 base::format_bitrate(static_cast<std::int64_t>(speed->slowest_bps)))};
        }
        case Kind::claims: {
            const auto yes = std::count_if(seen.claims.begin(), seen.claims.end(), [](const auto& claim) {
                return claim.second == "probably" || claim.second == "maybe";
            });
            return {Outcome::unclear, fmt::format("says it plays {} of {}", yes, step.types.size())};
        }
        case Kind::question:
            return {seen.answer.empty()                   ? Outcome::unclear
                    : seen.answer == step.answers.front() ? Outcome::played
                                                          : Outcome::failed,
                    seen.answer.empty() ? "not answered" : "answered: " + seen.answer};
        case Kind::seek:
            return judge_seeks(step, seen);
        case Kind::motion:
            return judge_beat(step, seen, display_hz);
        case Kind::sync:
            return judge_sync(step, seen, display_hz);
        default:
            return judge_clip(step, seen, display_hz);
    }
}

Motion judge_motion(const std::vector<Seen::Mark>& marks, double frame_rate, double display_hz) {
    Motion motion;
    if (frame_rate <= 0) return motion;
    const double looks_every = 1.6 / (display_hz > 0 ? display_hz : 60);
    std::size_t unreadable = 0;
    std::vector<std::pair<double, int>> shown;  // when each frame appeared
    const Seen::Mark* before = nullptr;         // the last that was readable
    int high = -1;
    for (const Seen::Mark& mark : marks) {
        if (mark.frame < 0) {
            ++unreadable;
            continue;
        }
        const bool looked = before != nullptr && mark.at_s - before->at_s < looks_every;
        before = &mark;
        if (!shown.empty() && shown.back().second == mark.frame) continue;
        if (mark.frame < high) ++motion.backwards;
        if (high >= 0 && mark.frame > high + 1) (looked ? motion.missing : motion.unseen) += mark.frame - high - 1;
        high = std::max(high, mark.frame);
        shown.emplace_back(mark.at_s, mark.frame);
    }
    if (shown.size() < 10 || unreadable * 2 > marks.size()) return motion;
    motion.readable = true;
    motion.frames = static_cast<int>(shown.size());
    // Against the even beat that fits them best: their mean offset.
    std::vector<double> off;
    double sum = 0;
    for (const auto& [at, frame] : shown) sum += at - frame / frame_rate;
    const double mean = sum / static_cast<double>(shown.size());
    for (const auto& [at, frame] : shown) off.push_back(std::abs(at - frame / frame_rate - mean));
    std::sort(off.begin(), off.end());
    motion.uneven_s = off[off.size() * 95 / 100];
    return motion;
}

std::optional<double> audio_lateness(const Seen& seen, double frame_rate) {
    if (frame_rate <= 0) return std::nullopt;
    const double period = sample::kFlashEvery / frame_rate;
    std::vector<double> late;
    int last = -1;
    for (const Seen::Mark& mark : seen.marks) {
        const bool first = mark.frame != last;
        last = mark.frame;
        if (!first || mark.frame <= 0 || mark.frame % sample::kFlashEvery != 0) continue;
        // The beep nearest to it.
        double best = period;
        for (const double beep : seen.beeps) {
            if (std::abs(beep - mark.at_s) < std::abs(best)) best = beep - mark.at_s;
        }
        if (std::abs(best) < period / 2 + 0.01) late.push_back(best);
    }
    if (late.size() < 3) return std::nullopt;
    std::sort(late.begin(), late.end());
    return late[late.size() / 2];
}

std::optional<Speed> download_speed(const Seen& seen) {
    const auto from = std::find_if(seen.downloaded.begin(), seen.downloaded.end(),
                                   [](const auto& point) { return point.first >= kSettles; });
    if (from == seen.downloaded.end() || seen.downloaded.back().first - from->first < 0.5) return std::nullopt;
    Speed speed;
    const auto rate = [](const auto& a, const auto& b) { return (b.second - a.second) * 8 / (b.first - a.first); };
    speed.mean_bps = rate(*from, seen.downloaded.back());
    speed.slowest_bps = speed.mean_bps;
    for (auto a = from; a != seen.downloaded.end(); ++a) {
        const auto b = std::find_if(a, seen.downloaded.end(), [&](const auto& p) { return p.first >= a->first + 1; });
        if (b != seen.downloaded.end()) speed.slowest_bps = std::min(speed.slowest_bps, rate(*a, *b));
    }
    if (speed.mean_bps <= 0) return std::nullopt;
    return speed;
}

}  // namespace wavecrest::trial
