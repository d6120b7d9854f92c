// XML from outside: bounded, and without what makes documents grow.
#pragma once

#include <pugixml.hpp>
#include <string>
#include <string_view>

#include "base/result.hpp"

namespace wavecrest::base {

inline constexpr std::size_t kMostXml = 2 << 20;  // bytes of one document

// Fails (kind wanting) for more than `most` bytes, for a document type declaration (entities are defined there, and no
// format read here has one), and for what is no XML. `what` is it that is read: "device description"; `remedy` what
// its reader can do about it.
Status parse_xml(std::string_view text, const std::string& what, const std::string& remedy,
                 pugi::xml_document& document, std::size_t most = kMostXml);

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

}  // namespace wavecrest::base
