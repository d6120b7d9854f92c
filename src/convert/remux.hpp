// Remuxing: the tracks of any input in another container, codec data untouched. Planned, printed and refused before
// anything is written.
#pragma once

#include <string>
#include <vector>

#include "convert/convert.hpp"

namespace wavecrest::convert {

struct RemuxRequest : Selection {
    RemuxRequest() { audio = subtitles = "all"; }
    std::string format;  // a container's short name, or "webvtt" for subtitles or closed captions as text
    Time from{}, to{};   // of a cut; to 0: the end
};

struct RemuxPlan {
    FilmName name;
    base::Path target;  // where it is made
    std::string place;  // where it goes: the same, or an address on a share
    std::shared_ptr<const ShareFolder> share;
    std::string source;
    std::string format;
    int title = 1;
    source::Pick pick;
    int angle = 1;
    Time duration{};
    Time from{}, to{};
    std::uint64_t source_bytes = 0;
    bool accept_losses = false;     // written though much of the input is lost (loss.hpp)
    std::vector<TrackPlan> tracks;  // keep or drop
    std::vector<std::string> steps, warnings;
    std::vector<Chapter> chapters;
};

// Fails (kind usage) for what isn't a format of RemuxRequest.
Status check_remux_format(const std::string& format);

// One plan for each title that is picked. Fails (kind input) for a track that the format can't hold, by its name; kind
// usage for a format that can't be written.
Result<std::vector<RemuxPlan>> plan_remux(const source::Input& input, const RemuxRequest& request);

// `Outcome::pictures` counts packets of pictures. On error or cancellation nothing is left.
Result<Outcome> run_remux(const source::Input& input, const RemuxPlan& plan, const Progress& progress,
                          const Cancel& cancel);

// "0:10:00-0:20:00", "90-" (seconds), "-1:00:00"; fails (kind usage) for anything else.
struct TimeRange {
    Time from{}, to{};  // to 0: the end
};
Result<TimeRange> parse_range(const std::string& text);

}  // namespace wavecrest::convert
