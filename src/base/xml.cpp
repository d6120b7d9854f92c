#include "base/xml.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wavecrest::base {

Status parse_xml(std::string_view text, const std::string& what, const std::string& remedy,
                 pugi::xml_document& document, std::size_t most) {
    const auto refuse = [&](std::string why) {
        return fail(ErrorKind::wanting, fmt::format("the {} {}", what, why), "", remedy);
    };
    if (text.size() > most) return refuse("is too long");
    if (text.find("<!DOCTYPE") != std::string_view::npos) return refuse("declares entities, which it must not");
    const pugi::xml_parse_result read =
        document.load_buffer(text.data(), text.size(), pugi::parse_default, pugi::encoding_auto);
    if (!read) return refuse(fmt::format("isn't valid XML ({} at byte {})", read.description(), read.offset));
    return {};
}

std::string_view local_name(pugi::xml_node node) {
    std::string_view name = node.name();
    if (const std::size_t colon = name.find(':'); colon != std::string_view::npos) name.remove_prefix(colon + 1);
    return name;
}

pugi::xml_node child(pugi::xml_node parent, std::string_view name) {
    for (const pugi::xml_node one : parent.children()) {
        if (local_name(one) == name) return one;
    }
    return {};
}

std::string text_of(pugi::xml_node node) {
    constexpr std::size_t kMost = 4096;
    std::string_view text = node.text().get();
    constexpr const char* kBlanks = " \t\r\n";
    const std::size_t first = text.find_first_not_of(kBlanks);
    if (first == std::string_view::npos) return "";
    text = text.substr(first, text.find_last_not_of(kBlanks) - first + 1);
    return std::string(text.substr(0, kMost));
}

std::string text_of(pugi::xml_node parent, std::string_view name) {
    return text_of(child(parent, name));
}

namespace {

// How many bytes the character at the beginning has (RFC 3629); 0: it is none.
std::size_t character_size(std::string_view text) {
    const auto byte = [&](std::size_t at) { return static_cast<unsigned char>(text[at]); };
    const std::size_t size = byte(0) < 0x80   ? 1
                             : byte(0) < 0xC2 ? 0
                             : byte(0) < 0xE0 ? 2
                             : byte(0) < 0xF0 ? 3
                             : byte(0) < 0xF5 ? 4
                                              : 0;
    if (size == 0 || size > text.size()) return 0;
    for (std::size_t i = 1; i < size; ++i) {
        if ((byte(i) & 0xC0) != 0x80) return 0;
    }
    const bool overlong = (byte(0) == 0xE0 && byte(1) < 0xA0) || (byte(0) == 0xF0 && byte(1) < 0x90);
    const bool surrogate = byte(0) == 0xED && byte(1) >= 0xA0;
    const bool beyond = byte(0) == 0xF4 && byte(1) >= 0x90;
    const bool no_character = size == 3 && byte(0) == 0xEF && byte(1) == 0xBF && byte(2) >= 0xBE;  // U+FFFE, U+FFFF
    return overlong || surrogate || beyond || no_character ? 0 : size;
}

}  // namespace

std::string escaped(std::string_view text) {
    std::string result;
    result.reserve(text.size());
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t size = character_size(text.substr(at));
        const char c = text[at];
        if (size == 0)
            result += '?';
        else if (size > 1)
            result += text.substr(at, size);
        else if (c == '<')
            result += "&lt;";
        else if (c == '>')
            result += "&gt;";
        else if (c == '&')
            result += "&amp;";
        else if (c == '"')
            result += "&quot;";
        else if (c == '\t' || c == '\n' || c == '\r')
            result += ' ';
        else if (static_cast<unsigned char>(c) >= 0x20)
            result += c;
        at += std::max<std::size_t>(size, 1);
    }
    return result;
}

std::string element(std::string_view name, std::string_view text) {
    return text.empty() ? "" : fmt::format("<{0}>{1}</{0}>", name, escaped(text));
}

}  // namespace wavecrest::base
