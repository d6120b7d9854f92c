#include "base/printable.hpp"

#include <fmt/format.h>

#include <cstdint>

namespace wavecrest::base {
namespace {

// The bytes of the character that begins at `at`, and which it is; 0 bytes for what is no UTF-8 (RFC 3629).
std::size_t decode(std::string_view text, std::size_t at, std::uint32_t& character) {
    const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(text[i]); };
    const unsigned first = byte(at);
    if (first < 0x80) {
        character = first;
        return 1;
    }
    const std::size_t size = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : 2;
    if (first < 0xC2 || first > 0xF4 || at + size > text.size()) return 0;
    character = first & (0xFFu >> (size + 1));
    for (std::size_t i = 1; i < size; ++i) {
        if ((byte(at + i) & 0xC0) != 0x80) return 0;
        character = character << 6 | (byte(at + i) & 0x3Fu);
    }
    constexpr std::uint32_t kLeast[] = {0, 0, 0x80, 0x800, 0x10000};
    const bool surrogate = character >= 0xD800 && character <= 0xDFFF;
    return character >= kLeast[size] && character <= 0x10FFFF && !surrogate ? size : 0;
}

bool is_harmful(std::uint32_t character) {
    return character < 0x20 || (character >= 0x7F && character < 0xA0) || character == 0x061C || character == 0x200E ||
           character == 0x200F || (character >= 0x2028 && character <= 0x202E) ||
           (character >= 0x2066 && character <= 0x2069) || character == 0xFEFF;
}

}  // namespace

std::size_t utf8_size(std::string_view text, std::size_t at) {
    std::uint32_t character = 0;
    return decode(text, at, character);
}

std::string printable(std::string_view text) {
    std::string out;
    out.reserve(text.size());
    for (std::size_t at = 0; at < text.size();) {
        std::uint32_t character = 0;
        const std::size_t size = decode(text, at, character);
        if (size == 0) {
            out += fmt::format("\\x{:02x}", static_cast<unsigned char>(text[at++]));
            continue;
        }
        if (!is_harmful(character)) {
            out += text.substr(at, size);
        } else if (character < 0x80) {
            out += fmt::format("\\x{:02x}", character);
        } else {
            out += fmt::format("\\u{{{:x}}}", character);
        }
        at += size;
    }
    return out;
}

}  // namespace wavecrest::base
