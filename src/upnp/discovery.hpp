// The UPnP devices of the local networks: found, and asked what they are and take.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "upnp/description.hpp"
#include "upnp/protocol_info.hpp"

namespace wavecrest::upnp {

struct FoundDevice {
    enum class Kind { renderer, server, other } kind = Kind::other;
    DeviceDescription description;
    std::string location;             // of the description
    std::string address;              // of the host, in digits
    std::vector<ProtocolInfo> takes;  // of a renderer, as it says; empty: it doesn't say
    std::string problem;              // why it couldn't be asked; empty: it could
};

struct FindSettings {
    std::string interface;  // by name or address; empty: all
    Time length = base::from_seconds(4);
    std::string name;  // only until a device is found by its name, the beginning of it, or its UDN; empty: all
};
// Renderers first, then servers, then the rest; by name. A device that is found by several interfaces is there once.
Result<std::vector<FoundDevice>> find_devices(const FindSettings& settings, const Cancel& cancel);
// Asks what is at a location, and what it takes. Fails (kind wanting).
Result<FoundDevice> ask_device(const std::string& location, Time limit = base::from_seconds(3));

std::string_view short_name(FoundDevice::Kind kind);

}  // namespace wavecrest::upnp
