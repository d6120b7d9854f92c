#include "base/bits.hpp"

namespace wavecrest::base {

std::uint32_t BitReader::bits(int count) {
    if (static_cast<std::size_t>(count) > bits_left()) {
        ok_ = false;
        position_ = bytes_.size() * 8;
        return 0;
    }
    std::uint64_t value = 0;
    int taken = 0;
    while (taken < count) {
        const int offset = static_cast<int>(position_ & 7);
        const int step = std::min(8 - offset, count - taken);
        const std::uint32_t byte = bytes_[position_ >> 3];
        value = value << step | ((byte >> (8 - offset - step)) & ((1u << step) - 1));
        position_ += static_cast<std::size_t>(step);
        taken += step;
    }
    return static_cast<std::uint32_t>(value);
}

void BitReader::skip(std::size_t count) {
    if (count > bits_left()) {
        ok_ = false;
        count = bits_left();
    }
    position_ += count;
}

std::uint32_t BitReader::ue() {
    int zeros = 0;
    while (ok_ && zeros < 32 && !flag()) ++zeros;
    if (!ok_ || zeros >= 32) {
        ok_ = false;
        return 0;
    }
    return (1u << zeros) - 1 + bits(zeros);
}

std::int32_t BitReader::se() {
    const std::uint32_t code = ue();
    const auto magnitude = static_cast<std::int32_t>((code + 1) / 2);
    return (code & 1) != 0 ? magnitude : -magnitude;
}

}  // namespace wavecrest::base
