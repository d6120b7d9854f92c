#include "site/encode.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <chrono>

#include "base/units.hpp"
#include "container/writer.hpp"
#include "convert/convert.hpp"
#include "convert/ladder.hpp"
#include "measure/capacity.hpp"
#include "source/input.hpp"

namespace wavecrest::site {
namespace {

// A part of a stream, opened to be planned.
struct OpenPart {
    std::unique_ptr<source::Input> input;
    source::Pick pick;
    transcode::PlanSource from;  // refers to this object
};
Result<std::unique_ptr<OpenPart>> open_part(const stream::Part& part) {
    auto made = std::make_unique<OpenPart>();
    WAVECREST_TRY_ASSIGN(input, stream::open_source(part));
    made->input = std::move(input);
    WAVECREST_TRY_ASSIGN(pick, made->input->pick(part.title));
    made->pick = std::move(pick);
    WAVECREST_TRY(made->input->check_protection(made->pick.title->number));
    made->from.name = fmt::format("{}, title {}", made->input->path(), made->pick.title->number);
    made->from.tracks = made->pick.title->tracks;
    made->from.duration = made->pick.duration();
    if (made->input->reopens()) made->from.open = [self = made.get()] { return self->input->open(self->pick); };
    return made;
}

// What of it is wanted, as planning is asked.
template <typename Request>
void take_choice(const stream::Part& part, Request& request) {
    request.video = part.choice.video;
    if (!part.choice.audio.empty()) request.audio = fmt::format("{}", fmt::join(part.choice.audio, ","));
    request.subtitles = part.choice.burn_in;
}

struct Planned {
    std::unique_ptr<OpenPart> part;
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

// So that a viewer's orders act soon.
void make_prompt(transcode::GraphSettings& graph) {
    graph.prompt = true;
    for (transcode::VideoEncode& one : graph.video_encodes) one.encode.lookahead = std::chrono::milliseconds(400);
}

Result<Planned> plan_of(const stream::Part& part, const std::string& name) {
    WAVECREST_TRY_ASSIGN(profile, profile::find(name));
    WAVECREST_TRY(check_live(profile));
    Planned made;
    WAVECREST_TRY_ASSIGN(opened, open_part(part));
    made.part = std::move(opened);
    transcode::PlanRequest request;
    request.profiles = {std::move(profile)};
    take_choice(part, request);
    WAVECREST_TRY_ASSIGN(plan, transcode::plan_encode(made.part->from, request));
    made.plan = std::move(plan);
    make_prompt(made.plan.graph);
    // Live streams are transport streams, whatever files the profile is for.
    WAVECREST_TRY_ASSIGN(tracks, transcode::tracks_of(made.plan.graph, 0));
    for (const Track& track : tracks) {
        if (const std::string why = container::why_not_codec("mpeg-ts", track); !why.empty())
            return fail(ErrorKind::usage, "live streams are transport streams: " + why, fmt::format("profile {}", name),
                        "use a profile with other codecs, or convert it and stream the file");
    }
    return made;
}

Result<convert::Plan> ladder_of(const OpenPart& source, const convert::Request& request,
                                const std::vector<profile::Rung>& rungs) {
    convert::Plan plan;
    WAVECREST_TRY_ASSIGN(ladder, convert::plan_ladder(source.from, request, rungs));
    // (Subtitles of text aren't sent beside a live ladder.)
    while (!ladder.encode.outputs.empty() && ladder.encode.outputs.back().container == convert::kWebVtt) {
        ladder.encode.outputs.pop_back();
        ladder.encode.graph.outputs.pop_back();
    }
    static_cast<transcode::EncodePlan&>(plan) = std::move(ladder.encode);
    make_prompt(plan.graph);
    plan.segment = ladder.segment;
    plan.pick = source.pick;
    plan.source = source.from.name;
    plan.duration = source.from.duration;
    return plan;
}

// How many times as fast as it plays a plan is encoded; nothing where that can't be known.
Result<std::optional<double>> speed_of(const OpenPart& source, const convert::Plan& plan, const Cancel& cancel) {
    if (source.input->reopens() && plan.duration.count() > 0) {
        WAVECREST_TRY_ASSIGN(estimate, convert::estimate(*source.input, plan, cancel));
        if (estimate.time.count() <= 0) return std::optional<double>();
        return std::optional(base::to_seconds(plan.duration) / base::to_seconds(estimate.time));
    }
    const auto capacity = measure::load_capacity(measure::capacity_file());
    if (!capacity || !*capacity) return std::optional<double>();
    const auto load = measure::load_of(**capacity, plan.graph);
    return load && load->alone > 0 ? std::optional(1 / load->alone) : std::nullopt;
}

// What the encoders of some rungs take, against one another.
double cost_of(const convert::Plan& plan, std::size_t from) {
    double cost = 0;
    for (std::size_t i = from; i < plan.graph.video_encodes.size(); ++i)
        cost +=
            static_cast<double>(plan.graph.video_encodes[i].encode.width) * plan.graph.video_encodes[i].encode.height;
    return cost;
}

// Bits a second of a segment at most: what the peak lets through in its time, and all that the decoder's buffer held.
std::int64_t most_of_a_segment(const codec::VideoEncoderSettings& encode, Time segment) {
    if (encode.peak_bps == 0) return encode.mean_bps * 3 / 2;
    const double held = encode.buffer_level * base::to_seconds(encode.buffer) / base::to_seconds(segment);
    return static_cast<std::int64_t>(static_cast<double>(encode.peak_bps) * (1 + held));
}

std::string names_of(const convert::Plan& plan) {
    std::string names;
    for (std::size_t i = 0; i < plan.graph.video_encodes.size(); ++i)
        names += (i > 0 ? ", " : "") + plan.outputs[i].profile.substr(plan.outputs[i].profile.find('-') + 1);
    return names;
}

}  // namespace

Status check_profile(const std::string& profile) {
    WAVECREST_TRY_ASSIGN(found, profile::find(profile));
    return check_live(found);
}

Result<EncodedLadder> plan_ladder(const stream::Part& part, const std::string& name, bool others, bool tries,
                                  const Cancel& cancel) {
    constexpr double kEnough = 1.15;
    WAVECREST_TRY_ASSIGN(profile, profile::find(name.empty() ? kLadderProfile : name));
    if (name.empty()) profile.video.effort = 1;
    WAVECREST_TRY(check_live(profile));
    WAVECREST_TRY_ASSIGN(opened, open_part(part));
    const OpenPart& source = *opened;
    convert::Request request;
    request.profiles = {profile};
    take_choice(part, request);
    const auto video = std::find_if(source.from.tracks.begin(), source.from.tracks.end(),
                                    [](const Track& track) { return track.kind == TrackKind::video; });
    if (video == source.from.tracks.end())
        return fail(ErrorKind::input, "no video", source.from.name, "a ladder is of video: deliver audio live instead");
    std::vector<std::string> notes;
    std::vector<profile::Rung> rungs = profile::rungs_for(profile, *video, notes);
    const std::size_t all = rungs.size();
    // What a segment needs at most is promised before it is encoded: a short buffer keeps that near the peak.
    for (profile::Rung& rung : rungs) rung.video.buffer = std::min(rung.video.buffer, rung.video.keyframe_interval / 2);
    WAVECREST_TRY_ASSIGN(plan, ladder_of(source, request, rungs));
    EncodedLadder made;
    std::string how;
    for (int round = 0; tries && round < 4; ++round) {
        WAVECREST_TRY_ASSIGN(speed, speed_of(source, plan, cancel));
        if (!speed) {
            how = "not measured: wavecrest site measure tells whether this machine keeps up";
            break;
        }
        how = fmt::format("encoded {:.1f} times as fast as they play", *speed);
        if (*speed >= kEnough) break;
        if (rungs.size() == 1)
            return fail(ErrorKind::machine,
                        fmt::format("this machine encodes even one rung ({}) at {:.2f} times real time", names_of(plan),
                                    *speed),
                        source.from.name, "make a ladder of files beforehand: wavecrest convert --ladder");
        // The largest cost most, and go first.
        std::size_t dropped = 1;
        while (dropped + 1 < rungs.size() && *speed * cost_of(plan, 0) / cost_of(plan, dropped) < kEnough) ++dropped;
        rungs.erase(rungs.begin(), rungs.begin() + static_cast<std::ptrdiff_t>(dropped));
        WAVECREST_TRY_ASSIGN(smaller, ladder_of(source, request, rungs));
        plan = std::move(smaller);
    }
    made.tracks.segment = plan.segment;
    for (std::size_t i = 0; i < plan.outputs.size(); ++i) {
        const transcode::OutputTrack& track = plan.graph.outputs[i].front();
        const bool is_video = track.kind == transcode::OutputTrack::Kind::video;
        made.tracks.entries.push_back(
            {plan.outputs[i].profile, i,
             is_video ? most_of_a_segment(plan.graph.video_encodes[track.index].encode, plan.segment)
                      : plan.outputs[i].most_bps});
    }
    made.tracks.told = fmt::format("{} of {} ({}){}", plan.graph.video_encodes.size(), base::format_count(all, "rung"),
                                   names_of(plan), how.empty() ? "" : ": " + how);
    made.graph = std::move(plan.graph);
    if (others) {
        std::vector<transcode::OutputTrack> together;
        for (const auto& output : made.graph.outputs) {
            const bool first_video = together.empty(),
                       is_video = output.front().kind == transcode::OutputTrack::Kind::video;
            if (first_video || !is_video) together.push_back(output.front());
        }
        made.tracks.transport = made.graph.outputs.size();
        made.graph.outputs.push_back(std::move(together));
    }
    return made;
}

Result<transcode::GraphSettings> plan_encode(const stream::Part& part, const std::string& profile) {
    WAVECREST_TRY_ASSIGN(planned, plan_of(part, profile));
    return std::move(planned.plan.graph);
}

Result<std::optional<Error>> try_encode(const stream::Part& part, const std::string& profile, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(planned, plan_of(part, profile));
    convert::Plan plan;
    static_cast<transcode::EncodePlan&>(plan) = std::move(planned.plan);
    plan.pick = planned.part->pick;
    plan.source = part.source.text();
    plan.duration = planned.part->pick.duration();
    WAVECREST_TRY_ASSIGN(estimate, convert::estimate(*planned.part->input, plan, cancel));
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
                     part.source.name(), profile, speed),
         part.source.text(),
         smaller.empty() ? "convert it beforehand (wavecrest convert), and stream the file"
                         : fmt::format("use a faster profile ({}), or convert it beforehand", smaller)});
}

}  // namespace wavecrest::site
