// What a resource is and what a device takes, in one line: "http-get:*:video/mp4:*" (ISO/IEC 29341-4-10,
// ConnectionManager, 2.5.2).
#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace wavecrest::upnp {

struct ProtocolInfo {
    std::string protocol;    // "http-get", "rtsp-rtp-udp"
    std::string network;     // "*"
    std::string media_type;  // "video/mp4"
    std::string extra;       // "*", or "NAME=VALUE;..."

    std::string text() const;
    // The value of a further field; empty: there is none.
    std::string extra_field(std::string_view name) const;
};
// Nothing is left of what has not four fields; commas separate several.
std::vector<ProtocolInfo> parse_protocol_infos(std::string_view list);

// Whether a device that takes `sink` takes a resource of `source`, by protocol and media type. "*" is anything.
bool takes(const std::vector<ProtocolInfo>& sink, const ProtocolInfo& source);

// What devices of the trade expect in the fourth field, and in headers, beyond UPnP AV; see the table in the source
// file, with its reasons (IEC 62481-1).
struct TransferTraits {
    bool seeks_by_bytes = false;
    bool seeks_by_time = false;
    bool live = false;
    bool image = false;
};
std::string extra_fields(const TransferTraits& traits);

}  // namespace wavecrest::upnp
