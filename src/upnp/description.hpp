// Device descriptions (UPnP Device Architecture 1.1, clause 2): what a device is, and where its services are.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"

namespace wavecrest::upnp {

inline constexpr std::string_view kMediaRenderer = "urn:schemas-upnp-org:device:MediaRenderer:";
inline constexpr std::string_view kMediaServer = "urn:schemas-upnp-org:device:MediaServer:";
inline constexpr std::string_view kAvTransport = "urn:schemas-upnp-org:service:AVTransport:";
inline constexpr std::string_view kRenderingControl = "urn:schemas-upnp-org:service:RenderingControl:";
inline constexpr std::string_view kConnectionManager = "urn:schemas-upnp-org:service:ConnectionManager:";
inline constexpr std::string_view kContentDirectory = "urn:schemas-upnp-org:service:ContentDirectory:";

struct Service {
    std::string type;         // "urn:schemas-upnp-org:service:AVTransport:1"
    std::string id;           // "urn:upnp-org:serviceId:AVTransport"
    std::string description;  // addresses; in a description to write, paths
    std::string control;
    std::string events;
};

struct DeviceDescription {
    std::string type;
    std::string name;  // friendlyName
    std::string manufacturer, model, model_number, model_description;
    std::string udn;  // "uuid:..."
    std::vector<Service> services;
    std::vector<DeviceDescription> devices;  // embedded ones

    // The first service of a type, whatever its version, here or in an embedded device; null: there is none.
    const Service* service(std::string_view type) const;
    // This device or an embedded one of a type; null: there is none.
    const DeviceDescription* device(std::string_view type_wanted) const;
};

// `location` is where it was fetched: addresses in it are resolved against it. Services at other hosts are left out, so
// that a description can't point this program elsewhere. Fails (kind wanting) for what is no description.
Result<DeviceDescription> parse_description(std::string_view xml, const std::string& location);
std::string write_description(const DeviceDescription& device);

// A name that is the same for the same text, and no other's: "uuid:..." (RFC 9562, version 8, of a SHA-256).
std::string udn_from(std::string_view text);

}  // namespace wavecrest::upnp
