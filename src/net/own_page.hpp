// Pages of this program that act: who may ask for them, and what keeps other pages from using them.
#pragma once

#include <string>

#include "net/http_server.hpp"

namespace wavecrest::net {

// Whether it was asked for by an IP address, "localhost", a name of this machine, `announced`, or a name ending in
// .local or .home.arpa: a page elsewhere may not be let in by a name of its own that points here (DNS rebinding), and
// those are names that no one outside can own.
bool is_own_host(const HttpRequest& request, const std::string& announced);

// The reply with header fields that keep it out of frames and away from other origins.
HttpReply guarded(HttpReply reply);

}  // namespace wavecrest::net
