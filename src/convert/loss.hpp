// What of the input did not come out: added up over everything that was found damaged, and held against what may be
// lost unasked.
#pragma once

#include <string>
#include <vector>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::convert {

struct Loss {
    Time total{};                    // intervals that overlap count once
    std::vector<Problem> intervals;  // in order of time, joined where they overlap; `what` is the first one's
    bool any() const { return !intervals.empty(); }
};
Loss add_up(const std::vector<Problem>& problems);

// More than this is lost only where somebody agrees to it: the smaller of the two.
inline constexpr Time kMostLost = std::chrono::seconds(10);
inline constexpr double kMostLostPart = 0.01;

// Fails (kind input) when more is lost than may be; names the intervals.
Status check_loss(const Loss& loss, Time duration, const std::string& source);

// "0:04.2 to 0:04.6, 1:10:00 to 1:10:02"; at most a handful, then how many more.
std::string times_of(const Loss& loss);

}  // namespace wavecrest::convert
