// Bits of slice data that aren't arithmetically coded: Exp-Golomb codes (9.1) and variable length codes.
#pragma once

#include <bit>
#include <cstdint>

#include "base/bytes.hpp"

namespace wavecrest::codec::h264 {

class SliceBits {
  public:
    SliceBits() = default;
    SliceBits(ByteSpan bytes, std::size_t position) : bytes_(bytes), position_(position) {
        // Without the stop bit and what follows it.
        std::size_t last = bytes.size();
        while (last > 0 && bytes[last - 1] == 0) --last;
        end_ = last == 0 ? 0 : last * 8 - 1 - static_cast<std::size_t>(std::countr_zero(unsigned{bytes[last - 1]}));
    }
    // The next 32 bits; zeros behind the end.
    std::uint32_t peek() const {
        const std::size_t byte = position_ >> 3;
        std::uint64_t value = 0;
        if (byte + 8 <= bytes_.size()) {
            for (std::size_t i = 0; i < 5; ++i) value = value << 8 | bytes_[byte + i];
        } else {
            for (std::size_t i = 0; i < 5; ++i) value = value << 8 | (byte + i < bytes_.size() ? bytes_[byte + i] : 0u);
        }
        return static_cast<std::uint32_t>(value >> (8 - (position_ & 7)));
    }
    void skip(int count) { position_ += static_cast<std::size_t>(count); }
    std::uint32_t bits(int count) {
        if (count == 0) return 0;
        const std::uint32_t value = peek() >> (32 - count);
        skip(count);
        return value;
    }
    int flag() { return static_cast<int>(bits(1)); }
    std::uint32_t ue() {
        const int zeros = std::countl_zero(peek());
        if (zeros > 31) {
            position_ = end_ + 1;
            return 0;
        }
        skip(zeros);
        return bits(zeros + 1) - 1;
    }
    int se() {
        const std::uint32_t code = ue();
        return (code & 1) != 0 ? static_cast<int>((code + 1) >> 1) : -static_cast<int>(code >> 1);
    }
    // te(v), 9.1: with one bit where only 0 and 1 are possible.
    int te(int range) { return range > 1 ? static_cast<int>(ue()) : 1 - flag(); }
    bool more() const { return position_ < end_; }
    bool ok() const { return position_ <= end_; }
    void align() { position_ = (position_ + 7) & ~std::size_t{7}; }
    std::size_t position() const { return position_; }
    ByteSpan bytes() const { return bytes_; }

  private:
    ByteSpan bytes_;
    std::size_t position_ = 0, end_ = 0;
};

}  // namespace wavecrest::codec::h264
