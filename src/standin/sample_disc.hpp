// Makes the sample rip: an unscrambled DVD-Video folder with a main title and an extra, drawn and coded by our own
// code. The same settings give the same bytes.
#pragma once

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/progress.hpp"
#include "base/result.hpp"

namespace wavecrest::standin {

struct SampleDiscSettings {
    std::string title = "SAMPLE DISC";                             // shown on the card
    Time main_length = base::frames_to_time(2160, {24000, 1001});  // about 90 s
    Time extra_length = base::frames_to_time(360, {24000, 1001});  // about 15 s; 0 leaves it out
    int chapters = 5;                                              // of the main title, evenly spaced
    std::int64_t video_bps = 4'500'000;
    std::uint32_t seed = 1;
};

// Writes the disc into `folder`, which must not exist. On error or cancellation nothing is left behind.
Status make_sample_disc(const base::Path& folder, const SampleDiscSettings& settings, const Progress& progress,
                        const Cancel& cancel);

}  // namespace wavecrest::standin
