// XML of devices, for this module's own files: base/xml.hpp with words for who has such a device.
#pragma once

#include "base/xml.hpp"

namespace wavecrest::upnp {

using base::child;
using base::element;
using base::escaped;
using base::kMostXml;
using base::local_name;
using base::text_of;

inline Status parse_xml(std::string_view text, const std::string& what, pugi::xml_document& document) {
    return base::parse_xml(
        text, what, "switch the device off and on; where that doesn't help, its software needs an update", document);
}

}  // namespace wavecrest::upnp
