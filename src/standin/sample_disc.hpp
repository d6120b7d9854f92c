// Makes sample discs: unscrambled DVD-Video structures with titles drawn and coded by our own code. The same
// description gives the same bytes.
#pragma once

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/progress.hpp"
#include "base/result.hpp"
#include "standin/disc_description.hpp"

namespace wavecrest::standin {

// A film and an extra: the disc made without a description.
struct SampleDiscSettings {
    std::string title = "SAMPLE DISC";                             // shown on the card
    Time main_length = base::frames_to_time(2160, {24000, 1001});  // about 90 s
    Time extra_length = base::frames_to_time(360, {24000, 1001});  // about 15 s; 0 leaves it out
    int chapters = 5;                                              // of the main title, evenly spaced
    std::int64_t video_bps = 4'500'000;
    std::uint32_t seed = 1;
};
DiscDescription describe(const SampleDiscSettings& settings);

// Writes the disc: a folder, or an image (UDF) when the name ends in ".iso". The target must not exist. On error or
// cancellation nothing is left behind.
Status make_disc(const base::Path& target, const DiscDescription& disc, const Progress& progress, const Cancel& cancel);

inline Status make_sample_disc(const base::Path& folder, const SampleDiscSettings& settings, const Progress& progress,
                               const Cancel& cancel) {
    return make_disc(folder, describe(settings), progress, cancel);
}

}  // namespace wavecrest::standin
