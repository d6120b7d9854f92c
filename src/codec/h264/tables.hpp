// The tables of Rec. ITU-T H.264 that decoding looks things up in.
#pragma once

#include <cstdint>
#include <span>

namespace wavecrest::codec::h264 {

// m and n of context variables (9.3.1.1): of I slices, then by cabac_init_idc.
extern const std::int8_t kContextInit[4][1024][2];
extern const std::uint8_t kRangeLps[64][4];
extern const std::uint8_t kNextStateLps[64];
extern const std::uint8_t kSignificant8x8[2][63];
extern const std::uint8_t kLast8x8[63];

struct TokenCode {
    std::uint8_t total, trailing, length, code;
};
struct RunCode {
    std::uint8_t value, length, code;
};
// coeff_token by nC: 0-1, 2-3, 4-7, 8 and more, chroma DC.
extern const std::span<const TokenCode> kTokens[5];
extern const std::span<const RunCode> kTotalZeros[15];
extern const std::span<const RunCode> kTotalZerosChromaDc[3];
extern const std::span<const RunCode> kRunBefore[7];
extern const std::uint8_t kCodedBlockPattern[48][2];

extern const std::uint8_t kScan4x4[2][16];
extern const std::uint8_t kScan8x8[2][64];
extern const std::uint8_t kChromaQp[52];
extern const std::uint8_t kAlpha[52];
extern const std::uint8_t kBeta[52];
extern const std::uint8_t kClip[52][3];

}  // namespace wavecrest::codec::h264
