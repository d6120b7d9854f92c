// What transcoding a title with profiles comes to: decided from its tracks and a look at its frames, before anything is
// done. For files (convert/) and for live streams that are transcoded on the way (site/encode.hpp).
#pragma once

#include <algorithm>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "profile/profile.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::transcode {

struct TrackPlan {
    Track from;
    enum class Action { transcode, keep, drop } action = Action::drop;
    std::string why;
};
std::string_view short_name(TrackPlan::Action action);

// What is to be transcoded, and how to get at it.
struct PlanSource {
    std::string name;  // for messages
    std::vector<Track> tracks;
    Time duration{};
    // Opens it from its beginning, as often as asked; empty where it comes once only (a pipe), so that it can't be
    // looked at first.
    std::function<Result<std::unique_ptr<PacketSource>>()> open;
};

struct PlanRequest {
    std::vector<profile::Profile> profiles;  // an output for each, all of one decoding
    int video = 0;                           // track, from 1; 0: the first
    // "first", "all", "none", or languages and track numbers: "en,2".
    std::string audio = "first";
    // Burned in: "forced", "none", or a language.
    std::string subtitles = "forced";
};

struct EncodePlan {
    struct Output {
        std::string profile;
        std::string container;
        std::int64_t most_bps = 0;       // of all tracks together, by their peak rates; 0: not limited
        std::uint64_t target_bytes = 0;  // size to come to in two passes; 0: none
        bool has_video = true;
        std::vector<std::string> steps;  // what is done to its video and audio, in words
    };
    std::vector<Output> outputs;
    std::vector<TrackPlan> tracks;
    std::vector<std::string> steps;  // what all outputs have in common
    std::vector<std::string> warnings;
    GraphSettings graph;

    // Whether the title is to be gone through once beforehand, for the bits of its video.
    bool two_passes() const {
        return std::any_of(graph.video_encodes.begin(), graph.video_encodes.end(),
                           [](const VideoEncode& one) { return one.encode.mean_bps > 0; });
    }
    // Whether its audio is to be listened to beforehand.
    bool wants_loudness() const {
        return std::any_of(graph.audio_encodes.begin(), graph.audio_encodes.end(),
                           [](const AudioEncode& one) { return one.loudness.has_value(); });
    }
};

// Which audio tracks are taken: the first that tells the story, or one for each language or number asked for (see
// PlanRequest::audio). Fails (kind usage) for what isn't there, or can't be decoded.
Result<std::vector<TrackId>> choose_audio(const PlanSource& source, const std::string& choice);

// Fails (kind input) for titles without video that can be decoded, where a profile wants video; (kind usage) for tracks
// that aren't there, and for what a profile's container can't hold.
Result<EncodePlan> plan_encode(const PlanSource& source, const PlanRequest& request);

}  // namespace wavecrest::transcode
