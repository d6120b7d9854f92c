// Bytes from anywhere, read and written in the byte orders of the formats. Readers never run past their end:
// a read beyond it returns 0 and sets `ok()` to false, so a parser reads a structure through and checks once.
#pragma once

#include <cstdint>
#include <cstring>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace wavecrest {
namespace base {

using ByteSpan = std::span<const std::uint8_t>;
using ByteVector = std::vector<std::uint8_t>;

// Shared, immutable bytes: a slice of a reference-counted buffer. Copying shares.
class Bytes {
  public:
    Bytes() = default;
    explicit Bytes(ByteVector bytes)
        : store_(std::make_shared<const ByteVector>(std::move(bytes))), view_(store_->data(), store_->size()) {}

    ByteSpan view() const { return view_; }
    std::size_t size() const { return view_.size(); }
    bool empty() const { return view_.empty(); }
    const std::uint8_t* data() const { return view_.data(); }

  private:
    std::shared_ptr<const ByteVector> store_;
    ByteSpan view_;
};

inline ByteSpan as_bytes(std::string_view text) {
    return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}

// `count` bytes (1 to 8) at `at`, the lowest first; 0 where they run over the end.
inline std::uint64_t little_endian(ByteSpan bytes, std::size_t at, std::size_t count) {
    if (at > bytes.size() || count > bytes.size() - at) return 0;
    std::uint64_t value = 0;
    for (std::size_t i = 0; i < count; ++i) value |= static_cast<std::uint64_t>(bytes[at + i]) << (8 * i);
    return value;
}

class ByteReader {
  public:
    explicit ByteReader(ByteSpan bytes) : bytes_(bytes) {}

    bool ok() const { return ok_; }
    std::size_t position() const { return position_; }
    std::size_t remaining() const { return bytes_.size() - position_; }

    // Moves to an absolute position; past the end clears ok().
    void seek(std::size_t position);
    void skip(std::size_t count);

    std::uint8_t u8() { return static_cast<std::uint8_t>(big_endian<1>()); }
    std::uint16_t u16() { return static_cast<std::uint16_t>(big_endian<2>()); }
    std::uint32_t u24() { return static_cast<std::uint32_t>(big_endian<3>()); }
    std::uint32_t u32() { return static_cast<std::uint32_t>(big_endian<4>()); }
    std::uint64_t u64() { return big_endian<8>(); }
    // `count` bytes, or an empty span when fewer are left.
    ByteSpan take(std::size_t count);
    std::string text(std::size_t count);

  private:
    template <int kCount>
    std::uint64_t big_endian() {
        if (remaining() < kCount) {
            take(kCount);
            return 0;
        }
        std::uint64_t value = 0;
        for (int i = 0; i < kCount; ++i) value = value << 8 | bytes_[position_++];
        return value;
    }

    ByteSpan bytes_;
    std::size_t position_ = 0;
    bool ok_ = true;
};

// Appends to a growing buffer, or overwrites at a position with the put_ functions.
class ByteWriter {
  public:
    std::size_t size() const { return bytes_.size(); }
    const ByteVector& bytes() const { return bytes_; }
    ByteVector release() { return std::move(bytes_); }

    void u8(std::uint64_t value) { big_endian(value, 1); }
    void u16(std::uint64_t value) { big_endian(value, 2); }
    void u24(std::uint64_t value) { big_endian(value, 3); }
    void u32(std::uint64_t value) { big_endian(value, 4); }
    void u64(std::uint64_t value) { big_endian(value, 8); }
    // The lowest byte first.
    void little(std::uint64_t value, int count) {
        for (int i = 0; i < count; ++i) u8(value >> (8 * i) & 0xFF);
    }
    void raw(ByteSpan bytes) { bytes_.insert(bytes_.end(), bytes.begin(), bytes.end()); }
    void text(std::string_view text) { raw(as_bytes(text)); }
    void fill(std::size_t count, std::uint8_t value = 0) { bytes_.insert(bytes_.end(), count, value); }
    // Appends zeros up to an absolute size (no effect when already there).
    void pad_to(std::size_t size) {
        if (bytes_.size() < size) bytes_.resize(size, 0);
    }

    void put_u16(std::size_t at, std::uint64_t value) { overwrite(at, value, 2); }
    void put_u32(std::size_t at, std::uint64_t value) { overwrite(at, value, 4); }
    void put(std::size_t at, ByteSpan bytes);  // within what has been written

  private:
    void big_endian(std::uint64_t value, int count);
    void overwrite(std::size_t at, std::uint64_t value, int count);

    ByteVector bytes_;
};

}  // namespace base

using base::Bytes;
using base::ByteSpan;
using base::ByteVector;

}  // namespace wavecrest
