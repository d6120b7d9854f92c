// Decodes pictures of what was received: whether they can be shown whole, and some of them for people at a machine
// without a screen.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "media/flow.hpp"

namespace wavecrest::verify {

struct PictureSettings {
    // By skipping to so many places of the title, from each of which a second is decoded; 0: all of it is decoded, but
    // for its last picture, which may not have arrived whole.
    int places = 0;
    std::optional<Time> patience;        // decoding ends after so long, wherever it is
    base::Path folder;                   // for stills: made when it isn't there; empty: none are saved
    std::string stem;                    // of their files' names: "Lanterns-Lounge-TV-0-00-05.png"
    Time every = base::from_seconds(5);  // a still in each such time; where it seeks, one at each place
};

struct PictureLook {
    bool possible = false;  // the pictures are of a kind that can be decoded here
    std::string refused;    // why not, of H.264 that few devices can decode either
    std::int64_t decoded = 0;
    bool in_part = false;  // patience was at its end
    std::vector<Problem> problems;
    std::vector<base::Path> stills;  // PNG, in their shape on a display, in the order of their times
};

// A still replaces a file of its name. Errors: a folder that can't be written to (kind machine), interruption.
Result<PictureLook> look_at_pictures(PacketSource& source, const PictureSettings& settings, const Cancel& cancel);

}  // namespace wavecrest::verify
