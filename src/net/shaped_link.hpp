// A link of limited rate, which may change on purpose, imitated with a token bucket on an injected clock. Rates are TCP
// payload.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>

#include "base/clock.hpp"
#include "net/rate_steps.hpp"

namespace wavecrest::net {

class ShapedLink {
  public:
    // After a pause as much may pass at once as the link carries in 10 ms (at least two packets): more would be a link
    // that is faster than its rate.
    ShapedLink(std::int64_t payload_bps, Clock& clock) : ShapedLink(RateSteps(payload_bps), clock) {}
    ShapedLink(RateSteps rates, Clock& clock) : rates_(std::move(rates)), clock_(clock), tokens_(burst()) {}

    // The most that a receiver should read before it passes that over the link: what the link carries in 20 ms, from
    // one packet of Ethernet to 16 KiB. Larger pieces arrive at one moment what a real link spreads over time.
    std::size_t piece() const { return static_cast<std::size_t>(std::clamp(rate() / 50, 1448.0, 16384.0)); }
    // Takes `bytes` over the link: returns when the last of them has passed.
    void pass(std::int64_t bytes) {
        refill();
        tokens_ -= static_cast<double>(bytes);
        if (tokens_ < 0) {
            const Time now = clock_.now(), free = rates_.when(-tokens_, now);
            waited_ += free - now;
            clock_.wait_until(free);
            refill();
        }
    }
    const RateSteps& rates() const { return rates_; }
    // Time spent waiting for the link so far.
    Time waited() const { return waited_; }

  private:
    double rate() const { return static_cast<double>(rates_.rate_at(clock_.now())) / 8; }  // bytes a second
    double burst() const { return std::max(3000.0, rate() / 100); }
    void refill() {
        const Time now = clock_.now();
        tokens_ = std::min(tokens_ + rates_.between(last_, now), burst());
        last_ = now;
    }

    RateSteps rates_;
    Clock& clock_;
    double tokens_;  // bytes
    Time last_{};
    Time waited_{};
};

}  // namespace wavecrest::net
