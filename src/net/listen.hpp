// Listening on a TCP port, with errors that say who is in the way.
#pragma once

#include <cstdint>
#include <string>

#include "base/result.hpp"

namespace wavecrest::net {

// The error for a listening socket that couldn't be had; `error` is the system's number.
Error listen_error(int error, const std::string& message, const std::string& address, std::uint16_t port);

}  // namespace wavecrest::net
