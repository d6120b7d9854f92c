// XML from the network, for this module's own files: bounded, and without what makes documents grow.
#pragma once

#include <pugixml.hpp>
#include <string>
#include <string_view>

#include "base/result.hpp"

namespace wavecrest::upnp {

inline constexpr std::size_t kMostXml = 2 << 20;  // bytes of one document

// Fails (kind wanting) for more than kMostXml, for a document type declaration (no UPnP document has one, and entities
// are defined there), and for what is no XML. `what` is it that is read: "device description".
Status parse_xml(std::string_view text, const std::string& what, pugi::xml_document& document);

// A name without its namespace's prefix. Prefixes are free to choose, so elements are looked up without.
std::string_view local_name(pugi::xml_node node);
// The first child of this name; an empty node where there is none.
pugi::xml_node child(pugi::xml_node parent, std::string_view name);
// Its text without blanks around it; empty where there is none. Not cut by characters: at most 4096 bytes of it.
std::string text_of(pugi::xml_node parent, std::string_view name);
std::string text_of(pugi::xml_node node);

// Text and attribute values, escaped. Characters that XML 1.0 can't hold (2.2) are left out; bytes that are no UTF-8
// become question marks: names of files have them.
std::string escaped(std::string_view text);
// "<name>text</name>"; nothing for an empty text.
std::string element(std::string_view name, std::string_view text);

}  // namespace wavecrest::upnp
