// Seeks as viewers make them, by the model of a device's player: it plays for a moment, reading on, is told to go
// elsewhere, and goes on there when what it wants in its buffer has come.
#pragma once

#include <functional>
#include <vector>

#include "base/cancel.hpp"
#include "base/clock.hpp"
#include "device/device.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

// Where a viewer goes, as parts of the film: far ahead, back, and far ahead again.
inline constexpr double kSeeks[] = {0.5, 0.25, 0.75};
// How long it has played before the first, and before each other.
inline constexpr Time kBeforeFirstSeek = std::chrono::seconds(3), kBeforeNextSeek = std::chrono::seconds(2);

// What of a file a player has read, as runs of bytes from one seek to the next.
class ReadRuns {
  public:
    struct Run {
        std::uint64_t from = 0, to = 0;
    };
    explicit ReadRuns(std::uint64_t first) : runs_{{0, first}} {}
    // The run that a player reads on to go to `offset`: one that holds it, or the one it is reading, where that has
    // come to less than `through` bytes before it; else a new one.
    Run& at(std::uint64_t offset, std::uint64_t through);

  private:
    std::vector<Run> runs_;
    std::size_t reading_ = 0;
};

// A film in segments, for seeks in it.
struct SegmentedFilm {
    std::vector<Time> ends;  // of each: what has come with it can be played so far
    // Fetches a segment over the link; whether it came whole. `keep_on` is asked with the part of it that has come (0
    // to 1): false gives it up.
    std::function<Result<bool>(std::size_t number, const std::function<bool(double part)>& keep_on)> fetch;
};
// Begins anew, then seeks to kSeeks. Errors are those of `fetch`, or kind interrupted.
Result<std::vector<SeekOrder>> seek_in_segments(const SegmentedFilm& film, const device::Playing& playing, Clock& clock,
                                                const Cancel& cancel);

}  // namespace wavecrest::verify
