// Web Services Dynamic Discovery (OASIS WS-Discovery 1.1, in the form of April 2005 that computers and network drives
// speak): who of the local network calls itself a computer. What is asked of each besides is its metadata
// (WS-MetadataExchange), for its name.
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace wavecrest::share {

inline constexpr const char* kWsGroup = "239.255.255.250";
inline constexpr std::uint16_t kWsPort = 3702;  // IANA

// The question to everybody (3.1: Probe). `id`: unforeseeable, "urn:uuid:..." without its front.
std::string ws_probe(const std::string& id);

struct WsHost {
    std::string endpoint;                // "urn:uuid:..."
    std::vector<std::string> addresses;  // of its metadata, http://
};
// Those of an answer (ProbeMatches) that are computers; none for anything else.
std::vector<WsHost> parse_probe_matches(std::string_view text);

// The question for an endpoint's metadata (WS-Transfer: Get).
std::string ws_get(const std::string& id, const std::string& endpoint);
// The name and workgroup of a computer in its metadata ("ATTIC/Workgroup:CEDAR"); empty: it tells none.
struct WsComputer {
    std::string name, group;
};
WsComputer parse_ws_computer(std::string_view text);

}  // namespace wavecrest::share
