#include "net/crowd.hpp"

#include <algorithm>

namespace wavecrest::net {

std::optional<std::size_t> who_gives_way(std::span<const Guest> guests, const std::string& address,
                                         const CrowdLimits& limits) {
    const auto of_address = static_cast<std::size_t>(
        std::count_if(guests.begin(), guests.end(), [&](const Guest& g) { return g.address == address; }));
    const bool own_only = of_address >= limits.most_of_address;
    if (!own_only && guests.size() < limits.most) return std::nullopt;
    std::optional<std::size_t> choice;
    // The quietest of those that ask nothing; else of those that take nothing.
    for (const bool served : {false, true}) {
        for (std::size_t i = 0; i < guests.size(); ++i) {
            const Guest& guest = guests[i];
            if (guest.served != served || (own_only && guest.address != address)) continue;
            if (served && guest.quiet < limits.stalled) continue;
            if (!choice || guest.quiet > guests[*choice].quiet) choice = i;
        }
        if (choice) return choice;
    }
    return guests.size();
}

Time idle_limit(std::size_t guests, const CrowdLimits& limits) {
    return guests > limits.most / 4 * 3 ? std::min(limits.idle, limits.idle_in_crowd) : limits.idle;
}

CrowdLimits crowd_limits(std::size_t handles) {
    constexpr std::size_t kElse = 128, kMost = 10'000;
    CrowdLimits limits;
    limits.most = std::clamp<std::size_t>(handles > kElse ? (handles - kElse) / 3 : 0, 32, kMost);
    limits.most_of_address = limits.most / 4 * 3;
    return limits;
}

}  // namespace wavecrest::net
