// Elements of EBML (RFC 8794) in memory.
#pragma once

#include <optional>
#include <string>

#include "base/byte_source.hpp"
#include "base/bytes.hpp"
#include "container/matroska_format.hpp"

namespace wavecrest::container::mkv {

// An element's header (RFC 8794, clauses 5 and 6).
struct Element {
    std::uint32_t id = 0;
    std::uint64_t size = 0;  // kUnknownSize when not told
    std::size_t header = 0;  // bytes
};
std::optional<Element> parse_element(ByteSpan bytes);

// Calls `each` (id, body) for the elements directly inside `bytes`, as far as they are whole.
template <typename Each>
void for_children(ByteSpan bytes, Each each) {
    std::size_t at = 0;
    while (at < bytes.size()) {
        const auto element = parse_element(bytes.subspan(at));
        if (!element) return;
        at += element->header;
        const std::uint64_t left = bytes.size() - at;
        const auto size = static_cast<std::size_t>(element->size == kUnknownSize ? left : element->size);
        if (size > left) return;
        each(element->id, bytes.subspan(at, size));
        at += size;
    }
}

// An element's body as what it stands for.
std::uint64_t unsigned_of(ByteSpan body);
std::int64_t signed_of(ByteSpan body);
double float_of(ByteSpan body);
std::string text_of(ByteSpan body);

}  // namespace wavecrest::container::mkv
