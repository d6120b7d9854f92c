#include "net/outages.hpp"

#include <algorithm>
#include <random>

namespace wavecrest::net {

Time connection_gap(Time outage) {
    const Time first = base::from_seconds(1) / 3;
    const Time longest = base::from_seconds(120);  // between two attempts
    if (outage.count() <= 0) return Time{};
    Time wait = first, at = first;
    while (at < outage) {
        wait = std::min(wait * 2, longest);
        at += wait;
    }
    return at;
}

Outages::Gap Outages::next(Time at) const {
    const Time lasts = of_connection ? connection_gap(length) : length;
    const Time spare = std::max(every - length, Time(1));
    // One may last into the next turns.
    for (std::int64_t turn = std::max<std::int64_t>((at - lasts) / every, 0);; ++turn) {
        // The moment within each turn comes of the seed and the turn's number alone.
        std::mt19937 random(seed ^ static_cast<std::uint32_t>(turn * 2654435761u));
        const Time from = every * turn + Time(static_cast<std::int64_t>(static_cast<double>(random()) / 4294967296.0 *
                                                                        static_cast<double>(spare.count())));
        if (from + lasts > at) return {from, from + lasts};
    }
}

}  // namespace wavecrest::net
