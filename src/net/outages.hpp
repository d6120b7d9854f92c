// When a link that drops out on purpose carries nothing, by a schedule that a seed decides.
#pragma once

#include <cstdint>

#include "base/time.hpp"

namespace wavecrest::net {

struct Outages {
    Time length{};  // so long nothing passes ...
    Time every{};   // ... in each such time, at a moment that the seed decides; 0: never
    std::uint32_t seed = 1;
    // As a connection sees them (connection_gap): what datagrams see is the outage itself.
    bool of_connection = false;

    bool any() const { return length.count() > 0 && every.count() > 0; }
    struct Gap {
        Time from{}, to{};
    };
    // The gap that is on at a time (from 0), or the next one. Only where there are any.
    Gap next(Time at) const;
};

// How long nothing comes over a TCP connection on which something waits to be sent, when the link drops out for so
// long. The sender tries again after a time that doubles each time (RFC 6298, 5.5), so that it finds the link again
// only later. Begins with a third of a second: Linux's least of 200 ms and the round trip over a full queue; outages of
// 0.5 to 12 s on a real path of 8 Mbit/s gave gaps within 5 % of this, but the shortest, 10 % longer.
Time connection_gap(Time outage);

}  // namespace wavecrest::net
