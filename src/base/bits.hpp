// Bit fields, most significant bit first, as video and audio syntax is written.
#pragma once

#include <cstdint>

#include "base/bytes.hpp"

namespace wavecrest::base {

// Reads past the end give 0 and clear ok().
class BitReader {
  public:
    explicit BitReader(ByteSpan bytes) : bytes_(bytes) {}

    bool ok() const { return ok_; }
    std::size_t bit_position() const { return position_; }
    std::size_t bits_left() const { return bytes_.size() * 8 - position_; }

    // The next `count` bits, 0 to 32.
    std::uint32_t bits(int count);
    bool flag() { return bits(1) != 0; }
    void skip(std::size_t count);

    // Exp-Golomb codes, Rec. ITU-T H.264 clause 9.1.
    std::uint32_t ue();
    std::int32_t se();

  private:
    ByteSpan bytes_;
    std::size_t position_ = 0;
    bool ok_ = true;
};

class BitWriter {
  public:
    // Appends the low `count` bits of `value`, 0 to 32.
    void bits(std::uint32_t value, int count) {
        held_ = held_ << count | (value & (count == 32 ? 0xFFFFFFFFu : (1u << count) - 1));
        held_count_ += count;
        while (held_count_ >= 8) {
            held_count_ -= 8;
            bytes_.push_back(static_cast<std::uint8_t>(held_ >> held_count_));
        }
    }
    // Appends zero bits up to the next byte boundary.
    void align() {
        if (held_count_ > 0) bits(0, 8 - held_count_);
    }

    std::size_t bit_count() const { return bytes_.size() * 8 + static_cast<std::size_t>(held_count_); }
    // The whole bytes written so far.
    const ByteVector& bytes() const { return bytes_; }
    ByteVector release() {
        align();
        return std::move(bytes_);
    }
    void clear() {
        bytes_.clear();
        held_ = 0;
        held_count_ = 0;
    }

  private:
    ByteVector bytes_;
    std::uint64_t held_ = 0;
    int held_count_ = 0;
};

}  // namespace wavecrest::base
