// Conversion: what would be done (a plan, with reasons), what it would cost (a sample of this very title), and doing
// it.
#pragma once

#include <algorithm>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "convert/loss.hpp"
#include "convert/name.hpp"
#include "convert/share_folder.hpp"
#include "measure/capacity.hpp"
#include "measure/picture_quality.hpp"
#include "profile/ladder.hpp"
#include "profile/profile.hpp"
#include "source/input.hpp"
#include "transcode/plan.hpp"

namespace wavecrest::convert {

// What of an input is wanted, and where it is to go.
struct Selection {
    std::string pick = "main";  // see source::Input::picks
    base::Path into;            // folder of the library; or the address of one on a share, until connect()
    std::string name;           // empty: from the rip's folder or label
    int video = 0;              // track, from 1; 0: the first to convert, all to remux
    // "first", "all", "none", or languages and track numbers: "en,2"; of subtitles also "forced". To convert, those are
    // drawn into the picture: "forced", "none", or a language.
    std::string audio, subtitles;
    int angle = 1;
    int season = -1;        // of episodes; -1: that of the name, else 1
    int first_episode = 1;  // number of the first of them
    bool extras = false;    // bonus titles, too, into a folder "extras" beside the film
    NameTemplates names;
    bool record = true;  // of what it came from and how it was made, beside each file (record.hpp)
    bool accept_losses = false;
    std::shared_ptr<const ShareFolder> share;  // by connect(): what is made below `into` goes there
};

struct Request : Selection {
    Request() {
        audio = "first";
        subtitles = "forced";
    }
    std::vector<profile::Profile> profiles;  // a file for each, all of one decoding
    // Instead a folder with a ladder of the first profile: asked for the rungs of each title (ladder.hpp). Empty: none.
    std::function<Result<std::vector<profile::Rung>>(const source::Pick& pick)> rungs;
    bool quality = false;  // decode what is coded, and compare it with the pictures it was coded from
};

using transcode::TrackPlan;

struct Plan : transcode::EncodePlan {
    struct Target {
        base::Path path;               // where it is made
        std::string place;             // where it goes: the same, or an address on a share
        std::uint64_t most_bytes = 0;  // the file can't become larger than this (peak rate), 0 when not limited
        bool finished = false;         // by an earlier run that was killed before it came to the others
        bool recorded = false;         // made before of the same source in the same way (record.hpp)
        bool waits = false;            // the same, but not copied to the share yet
    };
    FilmName name;
    std::vector<Target> targets;  // of each output
    std::shared_ptr<const ShareFolder> share;
    std::string source;
    int title = 1;
    source::Pick pick;
    int angle = 1;
    Time duration{};
    std::uint64_t source_bytes = 0;
    std::vector<Chapter> chapters;
    bool quality = false;                        // is measured, of the first output
    bool accept_losses = false;                  // written though much of the input is lost (loss.hpp)
    bool record = true;                          // is written beside each file, of a ladder beside the first
    Time segment{};                              // length of a ladder's segments; 0: it is none
    Time piece_length = base::from_seconds(60);  // see transcode::Pieces

    const base::Path& target() const { return targets.front().path; }
    base::Path place() const { return targets.front().place; }
    bool is_ladder() const { return segment.count() > 0; }
    // All of it was made before.
    bool done() const {
        return std::all_of(targets.begin(), targets.end(), [](const Target& target) { return target.recorded; });
    }
    // All of it was made before, and is only to be copied to the share.
    bool waits() const {
        return std::all_of(targets.begin(), targets.end(), [](const Target& target) { return target.waits; });
    }
};

// Where a title's file goes, and what it is called.
struct Place {
    FilmName name;
    base::Path path;
};
Place place_of(const source::Input& input, const Selection& selection, const source::Pick& pick, bool several,
               std::string_view extension);
// What is picked, with the extras where they are asked for.
Result<std::vector<source::Pick>> picks_of(const source::Input& input, const Selection& selection);

// The error of a target that is there.
tl::unexpected<Error> exists_already(const std::string& place);
bool is_taken(const Error& error);
// Bytes that can be written where a plan's files go: the least of the places they come to.
Result<std::uint64_t> free_space(const base::Path& target, const ShareFolder* share);

// Decides, one plan for each title or episode that is picked. Reads headers, and a few seconds of interlaced video to
// tell film from video. Fails for protected titles, titles without a usable picture, or an existing target. Of several
// titles those that were made before are left out.
Result<std::vector<Plan>> make_plans(const source::Input& input, const Request& request);
// The same where one title is wanted.
Result<Plan> make_plan(const source::Input& input, const Request& request);
// The same of a title that was picked already; one of `several`, its number goes into the name, and what was made of
// it before is no failure (Plan::done()).
Result<Plan> make_plan(const source::Input& input, const Request& request, const source::Pick& pick, bool several);

struct Estimate {
    std::uint64_t size_bytes = 0;           // of all files
    std::vector<std::uint64_t> file_bytes;  // of each; 0 where nothing bounds it and nothing was tried
    Time time{};                            // working time for the whole title
    Time sampled{};                         // how much of the title was tried; 0: sizes are the most they can be
    std::optional<measure::PictureQuality> quality;
};
// Converts short excerpts spread over the title, to nowhere.
Result<Estimate> estimate(const source::Input& input, const Plan& plan, const Cancel& cancel);
// The same without a sample, from headers: time by what was measured of this machine, sizes by the plan's limits. Kind
// wanting where something of it was not measured.
Result<Estimate> estimate(const Plan& plan, const measure::Capacity& capacity);

struct Outcome {
    struct File {
        base::Path path;  // or an address on a share
        std::uint64_t bytes = 0;
    };
    base::Path playlist;  // of a ladder: what players are given
    std::vector<File> files;
    int title = 1;
    Time duration{};
    std::int64_t pictures = 0;
    std::uint64_t size_bytes = 0;  // of all files
    std::uint64_t source_bytes = 0;
    Time elapsed{};
    Time copying{};  // to a share, after that
    std::vector<Problem> problems;
    Loss loss;          // what of the input did not come out
    Time kept{};        // of an earlier run that was interrupted
    int subtitles = 0;  // images drawn into the picture
    std::optional<measure::PictureQuality> quality;

    const base::Path& path() const { return files.front().path; }
    // Of what this run did itself.
    double speed() const {
        return elapsed.count() > 0 ? base::to_seconds(duration - kept) / base::to_seconds(elapsed) : 0;
    }
};
// Checks free space, converts, and puts the finished files in their places, also on a share. Of a long title finished
// pieces of the video are kept beside the file meanwhile: killed or interrupted, out of space, or refused for its
// losses, the same run goes on behind them and gives the same bytes. After other errors nothing is left. Of video in
// two passes the first is kept. Nothing is of what comes over a pipe, nor where there isn't space for it twice.
Result<Outcome> run(const source::Input& input, const Plan& plan, const Progress& progress, const Cancel& cancel);
// Copies what was made to its share: all of a ladder's folder, its playlist last, with which the ladder is there. The
// outcome has the addresses then. Records go with it where they are asked for.
Status deliver(const ShareFolder& share, bool records, const Progress& progress, Outcome& outcome);
// Writes what came of it to the log.
void log_outcome(const Outcome& outcome);

}  // namespace wavecrest::convert
