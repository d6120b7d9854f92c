// A link of limited rate, imitated with a token bucket on an injected clock. Rates are TCP payload.
#pragma once

#include "base/clock.hpp"

namespace wavecrest::net {

class ShapedLink {
  public:
    // `burst` bytes may pass at once after a pause; a switch port's buffer is of this order.
    ShapedLink(std::int64_t payload_bps, Clock& clock, std::int64_t burst = 64 * 1024)
        : rate_(payload_bps), clock_(clock), burst_(burst), tokens_(burst) {}

    // Takes `bytes` over the link: returns when the last of them has passed. Pieces should be small (some kB).
    void pass(std::int64_t bytes) {
        refill();
        tokens_ -= static_cast<double>(bytes);
        if (tokens_ < 0) {
            const Time wait = base::from_seconds(-tokens_ * 8 / static_cast<double>(rate_));
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
        tokens_ += base::to_seconds(now - last_) * static_cast<double>(rate_) / 8;
        if (tokens_ > static_cast<double>(burst_)) tokens_ = static_cast<double>(burst_);
        last_ = now;
    }

    std::int64_t rate_;
    Clock& clock_;
    std::int64_t burst_;
    double tokens_;
    Time last_{};
    Time waited_{};
};

}  // namespace wavecrest::net
