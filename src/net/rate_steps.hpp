// The rate of a link that changes on purpose: so much for so long, then so much, and so on; and nothing at times.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "net/outages.hpp"

namespace wavecrest::net {

struct RateStep {
    std::int64_t rate_bps = 0;  // payload, more than 0
    Time length{};              // 0: for good, of the last one
};

class RateSteps {
  public:
    // A link of one rate.
    explicit RateSteps(std::int64_t rate_bps) : RateSteps(std::vector<RateStep>{{rate_bps, {}}}) {}
    // At least one; the last one's rate stays.
    explicit RateSteps(std::vector<RateStep> steps) : steps_(std::move(steps)) {}

    std::int64_t rate_at(Time at) const;
    // Bytes that pass from one time to another.
    double between(Time from, Time to) const;
    // When so many bytes have passed from `from` on. Where nothing passes for an hour, at its end.
    Time when(double bytes, Time from) const;
    const std::vector<RateStep>& steps() const { return steps_; }
    // None of them is faster than this.
    void limit(std::int64_t most_bps);
    // Meanwhile nothing passes.
    void interrupt(const Outages& outages) { outages_ = outages; }

  private:
    std::vector<RateStep> steps_;
    Outages outages_;
};

// "8 Mbit/s 20 s, 1 Mbit/s 20 s, 8 Mbit/s". Kind usage: a rate or a length that is none, a step but the last without a
// length, more than 100 steps.
Result<std::vector<RateStep>> parse_rate_steps(const std::string& text);
// The same for people.
std::string describe(const std::vector<RateStep>& steps);

}  // namespace wavecrest::net
