// Simple Service Discovery Protocol (UPnP Device Architecture 1.1, clause 1; ISO/IEC 29341-1-1): searching for devices
// and services on the local networks, and being found.
#pragma once

#include <chrono>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "net/udp_socket.hpp"

namespace wavecrest::upnp {

inline constexpr std::uint16_t kSsdpPort = 1900;
inline constexpr const char* kSsdpGroup = "239.255.255.250";
inline constexpr const char* kSsdpGroupIpv6 = "ff02::c";  // link-local
inline constexpr const char* kServerField = "Linux UPnP/1.1 Wavecrest/0.1";

struct SsdpMessage {
    enum class Kind { search, alive, byebye, response } kind = Kind::response;
    std::string target;    // ST, NT: "upnp:rootdevice", "urn:schemas-upnp-org:device:MediaRenderer:1"
    std::string usn;       // "uuid:...::urn:..."
    std::string location;  // of the device description
    std::string server;
    int max_age = 1800;  // seconds for which it is valid, from CACHE-CONTROL
    int mx = 1;          // of a search: seconds in which to answer
};
// Nothing for what is no such message.
std::optional<SsdpMessage> parse_ssdp(std::string_view datagram);
std::string write_ssdp(const SsdpMessage& message, bool ipv6 = false);

// The device of a unique service name, "uuid:..."; empty where it has none.
std::string udn_of(std::string_view usn);

struct SearchSettings {
    std::string target = "upnp:rootdevice";
    std::string interface;                // by name or address; empty: all
    Time length = base::from_seconds(3);  // listened for so long
    std::function<bool()> enough;         // ends it earlier; null: nothing does
};
struct SearchAnswer {
    SsdpMessage message;
    net::UdpEnd from;
};
// What answers or announces itself meanwhile, as it comes; the same from one place once. An answer whose location isn't
// at the address it came from is left out: nobody can send this program to other hosts. Fails where there is no
// network, and when cancelled.
Status search(const SearchSettings& settings, const std::function<void(const SearchAnswer&)>& on_answer,
              const Cancel& cancel);

// Whether the host in a location is the sender of the datagram it came in.
bool is_senders_own(const std::string& location, const net::UdpEnd& from);

// Lets a device be found: announces it, answers searches from the local networks, and takes it back at the end.
class Advertiser {
  public:
    struct Settings {
        std::string udn;                                    // "uuid:..."
        std::vector<std::string> targets;                   // device and service types
        std::string path;                                   // of the description: "/upnp/device.xml"
        std::uint16_t port = 0;                             // of its server
        std::string interface;                              // by name or address; empty: all
        std::function<void(const std::string&)> on_search;  // for a log; may be null
    };
    // Fails (kind machine) where the SSDP port can't be listened at.
    static Result<std::unique_ptr<Advertiser>> start(Settings settings);
    virtual ~Advertiser() = default;
};

}  // namespace wavecrest::upnp
