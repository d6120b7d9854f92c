// The arithmetic decoding engine (9.3.1.2 and 9.3.3.2).
#pragma once

#include <algorithm>
#include <bit>
#include <cstdint>

#include "base/bytes.hpp"
#include "codec/h264/tables.hpp"

namespace wavecrest::codec::h264 {

class Cabac {
  public:
    // Begins at a whole byte. Reads past the end give zeros; exhausted() tells.
    void start(ByteSpan bytes) {
        at_ = bytes.data();
        begin_ = at_;
        end_ = at_ + bytes.size();
        range_ = 510;
        value_ = 0;
        bits_ = -9;
        past_ = 0;
        fill();
    }
    void set_contexts(int table, int qp) {
        for (int i = 0; i < 1024; ++i) {
            const int m = kContextInit[table][i][0], n = kContextInit[table][i][1];
            const int state = std::clamp(((m * std::clamp(qp, 0, 51)) >> 4) + n, 1, 126);
            // The state number above, the more probable symbol in bit 0.
            contexts_[i] = static_cast<std::uint8_t>(state <= 63 ? (63 - state) << 1 : (state - 64) << 1 | 1);
        }
    }

    int decision(int context) {
        std::uint8_t& state = contexts_[context];
        const unsigned number = state >> 1;
        int symbol = state & 1;
        const std::uint32_t lps = kRangeLps[number][range_ >> 6 & 3];
        range_ -= lps;
        const std::uint64_t scaled = static_cast<std::uint64_t>(range_) << bits_;
        if (value_ < scaled) {
            if (number < 62) state = static_cast<std::uint8_t>(state + 2);
            if (range_ < 256) {
                range_ <<= 1;
                --bits_;
            }
        } else {
            value_ -= scaled;
            symbol ^= 1;
            if (number == 0) state ^= 1;
            state = static_cast<std::uint8_t>(kNextStateLps[number] << 1 | (state & 1));
            const int shift = std::countl_zero(lps) - 23;
            range_ = lps << shift;
            bits_ -= shift;
        }
        if (bits_ < 0) fill();
        return symbol;
    }
    int bypass() {
        if (--bits_ < 0) fill();
        const std::uint64_t scaled = static_cast<std::uint64_t>(range_) << bits_;
        if (value_ < scaled) return 0;
        value_ -= scaled;
        return 1;
    }
    int terminate() {
        range_ -= 2;
        const std::uint64_t scaled = static_cast<std::uint64_t>(range_) << bits_;
        if (value_ >= scaled) return 1;
        if (range_ < 256) {
            range_ <<= 1;
            if (--bits_ < 0) fill();
        }
        return 0;
    }
    // After terminate() gave 1: where bytes go on that aren't arithmetic code. The last bit that the engine has taken
    // then is the one that ends the code (9.3.4.5).
    const std::uint8_t* aligned() const {
        const std::ptrdiff_t read = (at_ - begin_) * 8 + past_ * 8;
        return std::min(begin_ + (read - bits_ + 7) / 8, end_);
    }
    const std::uint8_t* end() const { return end_; }
    bool exhausted() const { return past_ > 12; }

  private:
    void fill() {
        while (bits_ <= 40) {
            value_ <<= 8;
            if (at_ < end_) {
                value_ |= *at_++;
            } else {
                ++past_;
            }
            bits_ += 8;
        }
    }

    const std::uint8_t *at_ = nullptr, *begin_ = nullptr, *end_ = nullptr;
    std::uint64_t value_ = 0;  // codIOffset, with bits_ more bits behind it
    int bits_ = 0;
    std::uint32_t range_ = 510;
    std::ptrdiff_t past_ = 0;
    std::uint8_t contexts_[1024] = {};
};

}  // namespace wavecrest::codec::h264
