// The arithmetic decoding engine (9.3.1.2 and 9.3.3.2).
#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <cstring>

#include "base/bytes.hpp"
#include "bitstream/nal.hpp"
#include "codec/h264/tables.hpp"

namespace wavecrest::codec::h264 {

// What follows a context variable's state when its more probable symbol came ([128 + state]), and when the other did
// ([127 - state]); a state has its number (pStateIdx) above and the more probable symbol in bit 0.
using Transitions = std::array<std::uint8_t, 256>;
const Transitions& transitions();

// Small enough to live in registers: loops over many decisions work on a copy.
class Cabac {
  public:
    // Begins with the slice data of a unit: behind the unit's first byte and `header` bytes of slice header. Emulation
    // prevention bytes (7.3.1), still in `bytes`, aren't counted and are passed over. Reads past the end give zeros;
    // exhausted() tells.
    void start(ByteSpan bytes, std::size_t header) {
        at_ = nullptr;
        end_ = bytes.data();
        limit_ = end_ + bytes.size();
        past_ = 0;
        next_ = transitions().data() + 128;
        next_interval();
        for (std::size_t i = 0; i < header; ++i) next_byte();
        restart();
    }

    int decision(std::uint8_t& context) {
        const int state = context;
        const std::uint32_t lps = kRangeLps[state >> 1][range_ >> 6 & 3];
        range_ -= lps;
        const std::uint64_t scaled = static_cast<std::uint64_t>(range_) << bits_;
        // All ones where the less probable symbol came.
        const auto other = static_cast<std::int64_t>(scaled - 1 - value_) >> 63;
        value_ -= scaled & static_cast<std::uint64_t>(other);
        range_ += (lps - range_) & static_cast<std::uint32_t>(other);
        const int symbol = state ^ static_cast<int>(other);
        context = next_[symbol];
        const int shift = std::countl_zero(range_) - 23;
        range_ <<= shift;
        bits_ -= shift;
        if (bits_ < 0) fill();
        return symbol & 1;
    }
    int bypass() {
        if (--bits_ < 0) fill();
        const std::uint64_t scaled = static_cast<std::uint64_t>(range_) << bits_;
        const auto zero = static_cast<std::int64_t>(value_ - scaled) >> 63;
        value_ -= scaled & static_cast<std::uint64_t>(~zero);
        return 1 + static_cast<int>(zero);
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
    // After terminate() gave 1: `count` bytes that aren't arithmetic code; the code begins anew behind them. False: so
    // many aren't left. The last bit that the engine has taken is the one that ended the code (9.3.1.2).
    bool take_raw(std::size_t count, std::int16_t* out) {
        for (int unread = past_ > 0 ? 0 : bits_ / 8; count > 0; --count) {
            *out++ = unread > 0 ? static_cast<std::uint8_t>(value_ >> 8 * --unread) : next_byte();
        }
        if (past_ > 0) return false;
        restart();
        return true;
    }
    bool exhausted() const { return past_ > 12; }

  private:
    void restart() {
        range_ = 510;
        value_ = 0;
        bits_ = -9;
        fill();
    }
    void fill() {
        if (end_ - at_ >= 4) {
            std::uint32_t word;
            std::memcpy(&word, at_, 4);
            if constexpr (std::endian::native == std::endian::little) word = __builtin_bswap32(word);
            at_ += 4;
            value_ = value_ << 32 | word;
            bits_ += 32;
            return;
        }
        while (bits_ < 16) {
            value_ = value_ << 8 | next_byte();
            bits_ += 8;
        }
    }
    // 0 past the end.
    std::uint8_t next_byte() {
        if (at_ == end_ && !next_interval()) {
            ++past_;
            return 0;
        }
        return *at_++;
    }
    // Up to the next emulation prevention byte, from behind this one on.
    bool next_interval() {
        if (end_ == limit_) return false;
        at_ = at_ == nullptr ? end_ : end_ + 1;
        const ByteSpan left(at_, limit_);
        end_ = at_ + bitstream::nal::find_emulation_prevention(left);
        return at_ < end_;
    }

    const std::uint8_t *at_ = nullptr, *end_ = nullptr;  // of an interval without emulation prevention bytes
    const std::uint8_t* limit_ = nullptr;
    const std::uint8_t* next_ = nullptr;
    std::uint64_t value_ = 0;  // codIOffset, with bits_ more bits behind it
    int bits_ = 0;
    std::uint32_t range_ = 510;
    int past_ = 0;
};

// The context variables of a slice.
struct Contexts {
    std::uint8_t state[1024];

    void set(int table, int qp) {
        for (int i = 0; i < 1024; ++i) {
            const int m = kContextInit[table][i][0], n = kContextInit[table][i][1];
            const int pre = std::clamp(((m * std::clamp(qp, 0, 51)) >> 4) + n, 1, 126);
            state[i] = static_cast<std::uint8_t>(pre <= 63 ? (63 - pre) << 1 : (pre - 64) << 1 | 1);
        }
    }
};

}  // namespace wavecrest::codec::h264
