// Pictures of what was received, for people at a machine without a screen.
#pragma once

#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "media/flow.hpp"

namespace wavecrest::verify {

struct StillSettings {
    base::Path folder;  // made when it isn't there
    std::string stem;   // of the files' names: "Lanterns-Lounge-TV-0-00-05.png"
    Time every = base::from_seconds(5);
    bool by_seeking = false;  // else read and decoded from the beginning
};

// Decodes the first picture with a moment of its own in each stretch of `every`, and saves it as PNG in its shape on a
// display; a file of that name is replaced. Gives the files, in the order of their times. Errors: tracks without
// pictures that can be decoded (kind input), a folder that can't be written to.
Result<std::vector<base::Path>> save_stills(PacketSource& source, const StillSettings& settings, const Cancel& cancel);

}  // namespace wavecrest::verify
