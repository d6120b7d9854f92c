// Names of NetBIOS over UDP (RFC 1001, RFC 1002): file servers that answer to a broadcast, and what they are called.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>

namespace wavecrest::share {

inline constexpr std::uint16_t kNetBiosPort = 137;  // IANA: netbios-ns

// Asks everybody for the name "*", to be broadcast (4.2.12); and one host for all its names (4.2.17).
std::string netbios_query(std::uint16_t number);
std::string netbios_status_query(std::uint16_t number);

struct NetBiosNames {
    std::string computer, group;  // empty: not told
};
// Whether a datagram answers such a question at all; and the names of one to a status query (4.2.18).
bool is_netbios_answer(std::string_view datagram, std::uint16_t number);
NetBiosNames parse_netbios_status(std::string_view datagram);

}  // namespace wavecrest::share
