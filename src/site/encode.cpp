#include "site/encode.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>

#include "base/units.hpp"
#include "container/writer.hpp"
#include "convert/convert.hpp"
#include "source/input.hpp"

namespace wavecrest::site {
namespace {

// A part of a stream with what it is planned from.
struct Planned {
    std::unique_ptr<source::Input> input;
    source::Pick pick;
    transcode::EncodePlan plan;
};

// What a stream can't do that goes out as it comes: a profile for files may ask for it.
Status check_live(const profile::Profile& profile) {
    const auto refuse = [&](const char* what, const char* remedy) {
        return fail(ErrorKind::usage, what, fmt::format("profile {}", profile.name), remedy);
    };
    if (profile.video.what != profile::VideoSettings::What::encode)
        return refuse("a live stream's profile must encode the video",
                      "name a codec in [video] of the profile, or stream without a profile");
    if (profile.video.target_bytes > 0)
        return refuse("a live stream has no size to come to", "use bitrate or visual_quality instead of target_size");
    if (std::any_of(profile.audio.begin(), profile.audio.end(),
                    [](const auto& one) { return one.loudness.has_value(); }))
        return refuse("a live stream can't be listened to beforehand for its loudness",
                      "leave loudness out of the profile, or convert it first and stream the file");
    return {};
}

Result<Planned> plan_of(const stream::Part& part, const std::string& name) {
    WAVECREST_TRY_ASSIGN(profile, profile::find(name));
    WAVECREST_TRY(check_live(profile));
    Planned made;
    WAVECREST_TRY_ASSIGN(input, source::open_input(part.source));
    made.input = std::move(input);
    WAVECREST_TRY_ASSIGN(pick, made.input->pick(part.title));
    made.pick = std::move(pick);
    WAVECREST_TRY(made.input->check_protection(made.pick.title->number));
    transcode::PlanSource from;
    from.name = fmt::format("{}, title {}", made.input->path(), made.pick.title->number);
    from.tracks = made.pick.title->tracks;
    from.duration = made.pick.duration();
    if (made.input->reopens()) from.open = [&made] { return made.input->open(made.pick); };
    transcode::PlanRequest request;
    request.profiles = {std::move(profile)};
    request.video = part.choice.video;
    if (!part.choice.audio.empty()) request.audio = fmt::format("{}", fmt::join(part.choice.audio, ","));
    request.subtitles = part.choice.burn_in;
    WAVECREST_TRY_ASSIGN(plan, transcode::plan_encode(from, request));
    made.plan = std::move(plan);
    // Live streams are transport streams, whatever files the profile is for.
    WAVECREST_TRY_ASSIGN(tracks, transcode::tracks_of(made.plan.graph, 0));
    for (const Track& track : tracks) {
        if (const std::string why = container::why_not_codec("mpeg-ts", track); !why.empty())
            return fail(ErrorKind::usage, "live streams are transport streams: " + why, fmt::format("profile {}", name),
                        "use a profile with other codecs, or convert it and stream the file");
    }
    return made;
}

}  // namespace

Result<transcode::GraphSettings> plan_encode(const stream::Part& part, const std::string& profile) {
    WAVECREST_TRY_ASSIGN(planned, plan_of(part, profile));
    return std::move(planned.plan.graph);
}

Result<std::optional<Error>> try_encode(const stream::Part& part, const std::string& profile, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(planned, plan_of(part, profile));
    convert::Plan plan;
    static_cast<transcode::EncodePlan&>(plan) = std::move(planned.plan);
    plan.pick = planned.pick;
    plan.source = part.source.string();
    plan.duration = planned.pick.duration();
    WAVECREST_TRY_ASSIGN(estimate, convert::estimate(*planned.input, plan, cancel));
    if (plan.duration.count() <= 0 || estimate.time.count() <= 0) return std::optional<Error>{};
    const double speed = base::to_seconds(plan.duration) / base::to_seconds(estimate.time);
    constexpr double kEnough = 1.15;
    if (speed >= kEnough) return std::optional<Error>{};
    std::string smaller;
    WAVECREST_TRY_ASSIGN(now, profile::find(profile));
    for (const profile::Profile& other : profile::built_in()) {
        if (other.video.what == profile::VideoSettings::What::encode && other.video.peak_bps > 0 &&
            other.video.codec == Codec::h264 && (other.video.peak_bps < now.video.peak_bps || now.video.peak_bps == 0))
            smaller += (smaller.empty() ? "" : ", ") + other.name;
    }
    return std::optional<Error>(
        {ErrorKind::wanting,
         fmt::format("this machine transcodes \"{}\" with {} at {:.2f} times real time: playback will stall",
                     part.source.filename().string(), profile, speed),
         part.source.string(),
         smaller.empty() ? "convert it beforehand (wavecrest convert), and stream the file"
                         : fmt::format("use a faster profile ({}), or convert it beforehand", smaller)});
}

}  // namespace wavecrest::site
