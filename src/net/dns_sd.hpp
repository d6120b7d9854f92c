// Services that hosts of the local networks announce by DNS-SD over mDNS (RFC 6763, RFC 6762): asked of the Avahi
// daemon of this machine by its client library, since one responder a machine is enough. Where it doesn't run, nothing
// is found.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/time.hpp"

namespace wavecrest::net {

struct DnsService {
    std::string name;     // as people call it: "Attic server"
    std::string type;     // "_smb._tcp"
    std::string host;     // "attic.local"
    std::string address;  // in digits
    std::uint16_t port = 0;
};
struct DnsServices {
    std::vector<DnsService> services;  // each once; IPv4 addresses where there are both
    std::string unavailable;  // why there are none to be had: "the mDNS daemon (Avahi) doesn't run"; empty: none
};

// What announces itself meanwhile of these types, at most 256.
DnsServices browse_services(const std::vector<std::string>& types, Time length, const Cancel& cancel);

}  // namespace wavecrest::net
