#include "upnp/xml.hpp"

#include <fmt/format.h>

namespace wavecrest::upnp {

Status parse_xml(std::string_view text, const std::string& what, pugi::xml_document& document) {
    const auto refuse = [&](std::string why) {
        return fail(ErrorKind::wanting, fmt::format("the {} {}", what, why), "",
                    "switch the device off and on; where that doesn't help, its software needs an update");
    };
    if (text.size() > kMostXml) return refuse("is too long");
    if (text.find("<!DOCTYPE") != std::string_view::npos) return refuse("declares entities, which UPnP doesn't have");
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

std::string escaped(std::string_view text) {
    std::string result;
    result.reserve(text.size());
    for (const char c : text) {
        switch (c) {
            case '<':
                result += "&lt;";
                break;
            case '>':
                result += "&gt;";
                break;
            case '&':
                result += "&amp;";
                break;
            case '"':
                result += "&quot;";
                break;
            case '\t':
            case '\n':
            case '\r':
                result += ' ';
                break;
            default:
                if (static_cast<unsigned char>(c) >= 0x20) result += c;
        }
    }
    return result;
}

std::string element(std::string_view name, std::string_view text) {
    return text.empty() ? "" : fmt::format("<{0}>{1}</{0}>", name, escaped(text));
}

}  // namespace wavecrest::upnp
