#include "site/encode.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <unistd.h>

#include "base/units.hpp"
#include "convert/convert.hpp"
#include "source/input.hpp"

namespace wavecrest::site {
namespace {

Result<convert::Plan> plan_of(const stream::Part& part, const std::string& name) {
    WAVECREST_TRY_ASSIGN(profile, profile::find(name));
    WAVECREST_TRY_ASSIGN(input, source::open_input(part.source));
    convert::Request request;
    request.pick = part.title;
    request.profile = profile;
    request.video = part.choice.video;
    if (!part.choice.audio.empty()) request.audio = fmt::format("{}", fmt::join(part.choice.audio, ","));
    request.subtitles = part.choice.burn_in;
    // Nothing is written: a name that can't be taken.
    request.into = std::filesystem::temp_directory_path() / fmt::format("wavecrest-live-{}", ::getpid());
    return convert::make_plan(*input, request);
}

}  // namespace

Result<transcode::GraphSettings> plan_encode(const stream::Part& part, const std::string& profile) {
    WAVECREST_TRY_ASSIGN(plan, plan_of(part, profile));
    return plan.graph;
}

Result<std::optional<Error>> try_encode(const stream::Part& part, const std::string& profile, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(plan, plan_of(part, profile));
    WAVECREST_TRY_ASSIGN(input, source::open_input(part.source));
    WAVECREST_TRY_ASSIGN(estimate, convert::estimate(*input, plan, cancel));
    if (plan.duration.count() <= 0 || estimate.time.count() <= 0) return std::optional<Error>{};
    const double speed = base::to_seconds(plan.duration) / base::to_seconds(estimate.time);
    constexpr double kEnough = 1.15;
    if (speed >= kEnough) return std::optional<Error>{};
    std::string smaller;
    WAVECREST_TRY_ASSIGN(now, profile::find(profile));
    for (const profile::Profile& other : profile::built_in()) {
        if (other.video.peak_bps < now.video.peak_bps) smaller += (smaller.empty() ? "" : ", ") + other.name;
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
