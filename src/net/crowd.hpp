// Who gives way when a server has as many connections as it can hold: those that ask nothing, before those that take
// nothing, before a newcomer. Whoever is being served and takes what is sent stays.
#pragma once

#include <cstddef>
#include <optional>
#include <span>
#include <string>

#include "base/time.hpp"

namespace wavecrest::net {

struct CrowdLimits {
    std::size_t most = 400;                // connections in all
    std::size_t most_of_address = 200;     // of one address
    Time stalled = base::from_seconds(5);  // what is being sent and isn't taken for so long counts as stalled
    // How long a connection may ask nothing, by how many there are: the former up to three quarters of `most`.
    Time idle = base::from_seconds(60), idle_in_crowd = base::from_seconds(5);
};

struct Guest {
    std::string address;
    bool served = false;  // a request has come whole and its answer is under way
    Time quiet{};         // since it last sent a whole request or took something
};

// Which of the connections is closed to make room for one more of this address; nothing when there is room, and
// guests.size() when the newcomer itself is turned away.
std::optional<std::size_t> who_gives_way(std::span<const Guest> guests, const std::string& address,
                                         const CrowdLimits& limits);
// How long connections that ask nothing may stay now.
Time idle_limit(std::size_t guests, const CrowdLimits& limits);
// For as many open files (and sockets) as the process may have: each connection takes up to two, by HTTPS (half of them
// at most) two more, and some are kept for everything else.
CrowdLimits crowd_limits(std::size_t handles);

}  // namespace wavecrest::net
