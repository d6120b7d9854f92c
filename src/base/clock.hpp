// Clocks that can be injected: real time, and real time with the waits left out.
#pragma once

#include "base/time.hpp"

namespace wavecrest {
namespace base {

class Clock {
  public:
    virtual ~Clock() = default;
    // Time since the clock was made; never goes back.
    virtual Time now() const = 0;
    // Returns when now() has reached `time`.
    virtual void wait_until(Time time) = 0;
};

class RealClock : public Clock {
  public:
    RealClock() : start_(std::chrono::steady_clock::now()) {}
    Time now() const override { return std::chrono::duration_cast<Time>(std::chrono::steady_clock::now() - start_); }
    void wait_until(Time time) override;

  private:
    std::chrono::steady_clock::time_point start_;
};

// Runs with real time, but a wait is skipped by moving the clock forward. Work takes as long as it takes,
// waiting takes nothing: a slow link can be played through in seconds while what the server does still counts.
class SkippingClock : public Clock {
  public:
    Time now() const override { return real_.now() + skipped_; }
    void wait_until(Time time) override {
        if (const Time left = time - now(); left.count() > 0) skipped_ += left;
    }

  private:
    RealClock real_;
    Time skipped_{};
};

}  // namespace base

using base::Clock;

}  // namespace wavecrest
