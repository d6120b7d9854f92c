#include "base/bytes.hpp"

namespace wavecrest::base {

void ByteReader::seek(std::size_t position) {
    if (position > bytes_.size()) {
        ok_ = false;
        position = bytes_.size();
    }
    position_ = position;
}

void ByteReader::skip(std::size_t count) {
    if (count > remaining()) {
        ok_ = false;
        count = remaining();
    }
    position_ += count;
}

ByteSpan ByteReader::take(std::size_t count) {
    if (count > remaining()) {
        ok_ = false;
        position_ = bytes_.size();
        return {};
    }
    const ByteSpan taken = bytes_.subspan(position_, count);
    position_ += count;
    return taken;
}

std::string ByteReader::text(std::size_t count) {
    const ByteSpan taken = take(count);
    return {taken.begin(), taken.end()};
}

void ByteWriter::big_endian(std::uint64_t value, int count) {
    for (int shift = 8 * (count - 1); shift >= 0; shift -= 8)
        bytes_.push_back(static_cast<std::uint8_t>(value >> shift));
}

void ByteWriter::overwrite(std::size_t at, std::uint64_t value, int count) {
    for (int i = 0; i < count; ++i) {
        bytes_.at(at + static_cast<std::size_t>(i)) = static_cast<std::uint8_t>(value >> (8 * (count - 1 - i)));
    }
}

void ByteWriter::put(std::size_t at, ByteSpan bytes) {
    for (const std::uint8_t byte : bytes) bytes_.at(at++) = byte;
}

}  // namespace wavecrest::base
