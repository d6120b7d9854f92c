// Bit rate over time: mean, highest window, and a value for every second.
#pragma once

#include <cstdint>
#include <vector>

#include "base/time.hpp"
#include "media/types.hpp"

namespace wavecrest::measure {

class RateCurve {
  public:
    RateCurve() = default;
    explicit RateCurve(const std::vector<RatePiece>& pieces);

    Time duration() const { return points_.empty() ? Time{} : points_.back().at; }
    std::uint64_t bytes() const;
    std::int64_t mean_bps() const;
    // The highest mean over any window of this length (the whole, when it is shorter).
    std::int64_t peak_bps(Time window = base::from_seconds(1)) const;
    // What a buffer must hold, in bits, that is filled at `rate_bps` and emptied as the curve goes: the most by which
    // any interval exceeds that rate. Bytes of a piece count evenly over it, so that this is the least that it can be.
    double buffer_bits(double rate_bps) const;
    // Bits per second for each whole second from 0; the last may be a part of one, at its own rate.
    std::vector<double> per_second() const;

    // The time by which so many bytes have gone by: where a player is that has fetched them.
    Time time_of(std::uint64_t bytes) const;

  private:
    struct Point {
        Time at;
        double bytes;  // before `at`; linear in between
    };
    // Goes along the curve; times may not go back.
    class Walk {
      public:
        explicit Walk(const std::vector<Point>& points) : points_(points) {}
        double bytes_before(Time time);

      private:
        const std::vector<Point>& points_;
        std::size_t next_ = 0;
    };
    std::vector<Point> points_;
};

}  // namespace wavecrest::measure
