// Times that containers rounded, put back where they belong; and decoding times where containers leave them out.
#pragma once

#include <queue>
#include <vector>

#include "base/time.hpp"

namespace wavecrest::container {

// Pictures at a fixed rate: a time that lies within `tolerance` of a multiple of the picture period counts as that
// multiple. Where the first time is not near one, multiples are counted from it.
class PictureGrid {
  public:
    // A rate of 0 snaps nothing.
    PictureGrid(Ratio rate, Time tolerance) : rate_(rate), tolerance_(tolerance) {}
    Time snap(Time time);

  private:
    Ratio rate_;
    Time tolerance_;
    bool anchored_ = false;
    Time anchor_{};
};

// Audio that goes on without a gap: as long as the stated times stay within `tolerance` of the sum of what was
// heard before, the sum counts; else the stated time does, put on the grid of samples.
class AudioClock {
  public:
    AudioClock(int sample_rate, Time tolerance) : sample_rate_(sample_rate), tolerance_(tolerance) {}
    Time on_timeline(Time stated, Time duration);
    // For a packet without a time of its own.
    Time next(Time duration);
    bool begun() const { return begun_; }
    void restart() { begun_ = false; }
    // The times come from another clock from here on: the next stated one counts to the sample.
    void rejoin() { rejoined_ = begun_; }

  private:
    int sample_rate_;
    Time tolerance_;
    bool begun_ = false, rejoined_ = false;
    Time next_{};
};

// Decoding times from presentation times in decoding order. With `depth` pictures of reordering the n-th picture is
// decoded at the presentation time of the (n - depth)-th in order of presentation.
class DecodingTimes {
  public:
    // `period` is a picture's duration, for the times before the first.
    DecodingTimes(int depth, Time period) : depth_(static_cast<std::size_t>(depth)), period_(period) {}
    // Never later than `pts` as long as the depth suffices; where it doesn't, the depth grows.
    Time next(Time pts);
    // Before the first picture, where it isn't the first of all: behind it come so many that are shown before it.
    void expect_leading(int pictures) { leading_ = pictures; }

  private:
    std::size_t depth_;
    int leading_ = 0;
    Time period_;
    bool begun_ = false;
    Time last_{};
    std::priority_queue<Time, std::vector<Time>, std::greater<>> waiting_;
};

// The rate that a period of so many nanoseconds stands for: one of those in use when it is near.
Ratio rate_of_period(std::int64_t nanoseconds, double tolerance = 2e-5);

}  // namespace wavecrest::container
