// A title as a ladder: the video in several encodes with aligned keyframes (rungs), audio and subtitles once, in a
// folder that any web server can give out (container/ladder.hpp), with a page that plays it.
#pragma once

#include <string_view>
#include <vector>

#include "base/atomic_file.hpp"
#include "convert/convert.hpp"
#include "profile/ladder.hpp"

namespace wavecrest::convert {

// Folders of ladders are called "Film Title (Year).ladder".
inline constexpr std::string_view kLadderExtension = "ladder";
// The container of a ladder's subtitles.
inline constexpr std::string_view kWebVtt = "webvtt";

// What is made for the rungs: an output for each, named "video-" and the rung, then one for each audio track and each
// text track that goes along ("audio-en", "subtitles-de").
struct LadderPlan {
    transcode::EncodePlan encode;
    Time segment{};  // length of the segments: keyframes of all rungs lie exactly so far apart
};
// Fails as transcode::plan_encode does, and (kind usage) where no rung is left or the profile doesn't encode.
Result<LadderPlan> plan_ladder(const transcode::PlanSource& source, const Request& request,
                               const std::vector<profile::Rung>& rungs);

// The rungs for a title, from samples of it: each size in several qualities, compared with the source at the size it is
// shown in. The best is as good as the profile asks for, or where half as many bits again would add less than 0.003 to
// SSIM; from there down in even steps of about 1.8 in bit rate, each in the size that looks best at its rate; steps
// that would not be seen are left out, steep ones halved. Fails as weigh() does.
Result<std::vector<profile::Rung>> find_rungs(const source::Input& input, const Request& request,
                                              const source::Pick& pick, const Progress& progress, const Cancel& cancel);

// Has make_plans() make ladders: rungs as the profile lists them, or found by samples, or (without `samples`) the usual
// ones. `input` must outlive the request. `notes` (not null: outlives it, too) gets what was left out.
void as_ladder(Request& request, const source::Input& input, bool samples, std::vector<std::string>* notes,
               Progress progress, const Cancel& cancel);

// Kind usage: the profile can't be made into a ladder.
Status check_ladder(const profile::Profile& profile);

// Of one output of a plan.
Result<std::unique_ptr<PacketSink>> create_ladder_file(const Plan& plan, std::size_t output, base::AtomicFile file,
                                                       const std::vector<Track>& tracks);
// Playlists, manifest and page, from the files as they are in the folder. Gives the path of the multivariant playlist,
// which comes last. Fails (kind input) where the rungs don't fit together.
Result<base::Path> finish_ladder(const Plan& plan);

}  // namespace wavecrest::convert
