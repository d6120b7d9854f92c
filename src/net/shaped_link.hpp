// A link of limited rate, imitated with a token bucket on an injected clock. Rates are TCP payload.
#pragma once

#include <algorithm>
#include <cstddef>
#include <cstdint>

#include "base/clock.hpp"

namespace wavecrest::net {

class ShapedLink {
  public:
    // After a pause as much may pass at once as the link carries in 10 ms (at least two packets): more would be a link
    // that is faster than its rate.
    ShapedLink(std::int64_t payload_bps, Clock& clock)
        : rate_(static_cast<double>(payload_bps) / 8),
          clock_(clock),
          burst_(std::max(3000.0, rate_ / 100)),
          tokens_(burst_) {}

    // The most that a receiver should read before it passes that over the link: what the link carries in 20 ms, from
    // one packet of Ethernet to 16 KiB. Larger pieces arrive at one moment what a real link spreads over time.
    std::size_t piece() const { return static_cast<std::size_t>(std::clamp(rate_ / 50, 1448.0, 16384.0)); }
    // Takes `bytes` over the link: returns when the last of them has passed.
    void pass(std::int64_t bytes) {
        refill();
        tokens_ -= static_cast<double>(bytes);
        if (tokens_ < 0) {
            const Time wait = base::from_seconds(-tokens_ / rate_);
            waited_ += wait;
            clock_.wait_until(clock_.now() + wait);
            refill();
        }
    }
    // Time spent waiting for the link so far.
    Time waited() const { return waited_; }

  private:
    void refill() {
        const Time now = clock_.now();
        tokens_ += base::to_seconds(now - last_) * rate_;
        tokens_ = std::min(tokens_, burst_);
        last_ = now;
    }

    double rate_;  // bytes a second
    Clock& clock_;
    double burst_;  // bytes
    double tokens_;
    Time last_{};
    Time waited_{};
};

}  // namespace wavecrest::net
