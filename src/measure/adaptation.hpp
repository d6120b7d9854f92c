// How a player of a ladder chooses the bit rate of its next segment: a rule of our own, stated, with figures for each
// device class (device::Adapting; in brackets those of a class that says nothing). Real players have rules of their
// own; what a ladder must give each of them is the same.
//
// A rung fits when its peak (BANDWIDTH) is at most the link share (80 %) of what the link was measured to carry: the
// rate of the last (three) segments together, or of the last one where that is lower.
//   - The first segment is the lowest rung's, or that of the one that is listed first; then, until the buffer has held
//     the secure level once, the best whose peak is at most the cautious share (40 %) of the measured rate.
//   - With more than the secure level in the buffer: up, by at most (one) rung, where a higher one fits; never down,
//     since the buffer carries it, unless the class doesn't hold its rung.
//   - With less: down to the best that fits; never up.
//   - With less than the low level: down to the best whose peak is at most the cautious share.
//   - While a segment comes, where the class abandons segments (it does): when the rest of it would take longer than
//     the buffer lasts, and a lower rung would come sooner, it is given up, and the best rung that fits is fetched.
// The secure level is that of the class, or a third of what the device's player holds of HLS, from 4 to 12 s; of a live
// stream at most half of how far behind the live edge it plays. The low level is 40 % of it.
#pragma once

#include <algorithm>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/time.hpp"
#include "device/device.hpp"

namespace wavecrest::measure {

struct AdaptationSettings {
    Time secure{}, low{};  // media in the buffer
    device::Adapting rule{};
    std::size_t first = 0;  // the rung of the first segment
};
// `behind`: of a live stream, how far behind the live edge it plays; 0: it is on demand.
AdaptationSettings adaptation_of(const device::Playing& playing, Time behind = {});

class Adaptation {
  public:
    // The peak of each rung with its audio, bit/s, going up; at least one.
    Adaptation(std::vector<std::int64_t> peaks, const AdaptationSettings& settings)
        : peaks_(std::move(peaks)), settings_(settings), rung_(std::min(settings.first, peaks_.size() - 1)) {}

    // A segment of so many bytes came within `took`, or as much of one that was given up.
    void measured(std::uint64_t bytes, Time took);
    // What the link carries, bit/s; 0: nothing was measured.
    double rate() const;

    struct Choice {
        std::size_t rung = 0;
        std::string why;  // "1.60 Mbit/s measured, 3.9 s in the buffer"
    };
    // The rung of the next segment, with so much in the buffer. `playing`: pictures have been shown.
    Choice next(Time buffer, bool playing);
    std::size_t rung() const { return rung_; }
    // Whether the segment that is coming is given up: `got` of `whole` bytes in `took` so far. Gives the choice
    // instead.
    std::optional<Choice> give_up(std::uint64_t got, std::uint64_t whole, Time took, Time buffer);

  private:
    struct Measured {
        double bits, seconds;
    };
    std::size_t fitting(double share) const;
    std::string told(Time buffer) const;

    std::vector<std::int64_t> peaks_;
    AdaptationSettings settings_;
    std::vector<Measured> last_;  // as many as the rule counts
    std::size_t rung_ = 0;
    bool settled_ = false;  // the buffer has held the secure level
};

}  // namespace wavecrest::measure
