// Whether somebody watches a stream of this machine right now, and whether it goes well: for programs that would take
// the processor away from it.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "measure/viewing.hpp"

namespace wavecrest::stream {

struct Watched {
    bool anybody = false;
    // How often a source came too late or a viewer had to be moved ahead, since the servers started.
    std::int64_t troubles = 0;
    double late_s = 0;  // 99 of 100 datagrams left no later than so much after their time
};

// What one server answers at /control/status says; nothing of what isn't an answer.
Watched watched_in(const std::string& status);

// Of all servers of this user that run; nobody where none answers.
Watched watched();

// How those fare or fared who fetch films for themselves from the server at this port of this machine. Fails (kind
// wanting) where none of this user's answers there.
Result<std::vector<measure::Viewing>> viewings_at(std::uint16_t port);
// What its answer says; nothing of what isn't one.
std::vector<measure::Viewing> viewings_in(const std::string& answer);

}  // namespace wavecrest::stream
