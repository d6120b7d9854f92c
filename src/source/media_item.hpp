// What is played, as UPnP AV describes it: an item with its resource, from what is known of a title.
#pragma once

#include <string>

#include "source/input.hpp"
#include "upnp/didl.hpp"
#include "upnp/protocol_info.hpp"

namespace wavecrest::source {

// The form of a title that is at an address. `container`: short name; "hls" for a media playlist. Whether its server
// can give it from a time on, too.
upnp::Resource resource_of(const Title& title, const std::string& container, const std::string& address,
                           bool seeks_by_time = false);
// The class of a title: a film, or music where it has no video.
std::string upnp_class_of(const Title& title);
// An item for a renderer. Where nothing can be told of what is at the address, it has the address and the title alone.
upnp::Object item_of(const std::string& title, const std::string& address, const Input* input);

}  // namespace wavecrest::source
