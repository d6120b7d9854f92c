// A device by what it says of itself over UPnP: media types, and profiles of IEC 62481-2 where it names them. That
// tells containers, and of codecs a part; nothing of levels, frame rates or bit rates.
#pragma once

#include <string>
#include <vector>

#include "device/device.hpp"
#include "upnp/protocol_info.hpp"

namespace wavecrest::device {

// What is assumed because the device doesn't tell it says so in its basis.
Device from_claims(const std::string& name, const std::vector<upnp::ProtocolInfo>& takes);

// "MP4, MPEG-TS, MP3": what of it an installer looks for, for a table.
std::string claims_in_words(const std::vector<upnp::ProtocolInfo>& takes);

}  // namespace wavecrest::device
