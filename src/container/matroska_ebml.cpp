#include "container/matroska_ebml.hpp"
#include "base/byte_source.hpp"

#include <algorithm>
#include <bit>

namespace wavecrest::container::mkv {

std::optional<Element> parse_element(ByteSpan bytes) {
    if (bytes.empty() || bytes[0] == 0) return std::nullopt;
    const auto id_size = static_cast<std::size_t>(std::countl_zero(bytes[0])) + 1;
    if (id_size > 4 || bytes.size() < id_size + 1) return std::nullopt;
    Element element;
    for (std::size_t i = 0; i < id_size; ++i) element.id = element.id << 8 | bytes[i];
    const std::uint8_t first = bytes[id_size];
    if (first == 0) return std::nullopt;
    const auto width = static_cast<std::size_t>(std::countl_zero(first)) + 1;
    if (bytes.size() < id_size + width) return std::nullopt;
    std::uint64_t size = first & (0xFFu >> width);
    bool all_ones = size == (0xFFu >> width);
    for (std::size_t i = 1; i < width; ++i) {
        size = size << 8 | bytes[id_size + i];
        all_ones = all_ones && bytes[id_size + i] == 0xFF;
    }
    element.size = all_ones ? kUnknownSize : size;
    element.header = id_size + width;
    return element;
}

std::uint64_t unsigned_of(ByteSpan body) {
    std::uint64_t value = 0;
    for (const std::uint8_t byte : body.first(std::min<std::size_t>(body.size(), 8))) value = value << 8 | byte;
    return value;
}
std::int64_t signed_of(ByteSpan body) {
    if (body.empty()) return 0;
    const auto shift = static_cast<int>(64 - 8 * std::min<std::size_t>(body.size(), 8));
    return static_cast<std::int64_t>(unsigned_of(body) << shift) >> shift;
}
double float_of(ByteSpan body) {
    if (body.size() == 4) return std::bit_cast<float>(static_cast<std::uint32_t>(unsigned_of(body)));
    if (body.size() == 8) return std::bit_cast<double>(unsigned_of(body));
    return 0;
}
std::string text_of(ByteSpan body) {
    return {body.begin(), std::find(body.begin(), body.end(), 0)};
}

}  // namespace wavecrest::container::mkv
