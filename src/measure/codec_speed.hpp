// How fast this machine decodes, filters and encodes, tried on made-up pictures with detail, motion and grain.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/units.hpp"
#include "measure/capacity.hpp"

namespace wavecrest::measure {

struct SpeedSettings {
    std::vector<base::Size> sizes = {{720, 480}, {1280, 720}, {1920, 1080}, {3840, 2160}};
    std::vector<int> efforts = {1, 3, 5, 7, 9};  // at the first size
    int effort = 3;                              // at the others, and of what decoders are given
    double seconds = 0.7;                        // of each trial, about; none is of fewer than eight pictures
};

// Coded pictures that were made on the way, the first of them a keyframe.
struct Clip {
    Track track;
    std::vector<Packet> packets;
};

// Fills encoding, decoding, filters and audio of `capacity`; clips have all sizes of all codecs. `tell` is called with
// how much is done (0 to 1) and what comes next. Kind interrupted on cancellation.
using TellProgress = std::function<void(double done, const std::string& next)>;
Result<std::vector<Clip>> measure_codecs(const SpeedSettings& settings, Capacity& capacity, const TellProgress& tell,
                                         const Cancel& cancel);

// Pictures for that: a texture with detail of all sizes that moves, something that moves the other way, and grain.
Picture test_picture(base::Size size, int bit_depth, int index);

}  // namespace wavecrest::measure
