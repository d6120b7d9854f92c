// Tables of ETSI TS 102 366 (AC-3), clause 6.2.2: parametric bit allocation.
#pragma once

#include <array>
#include <cstdint>

namespace wavecrest::codec::ac3 {

inline constexpr int kCoefficients = 256;
inline constexpr int kBands = 50;

// First coefficient of each band (table 6.12), and the end of the last.
inline constexpr std::array<int, kBands + 1> kBandStart = {
    0,  1,  2,  3,  4,  5,  6,  7,  8,  9,  10, 11, 12, 13, 14, 15, 16, 17,  18,  19,  20,  21,  22,  23,  24, 25,
    26, 27, 28, 31, 34, 37, 40, 43, 46, 49, 55, 61, 67, 73, 79, 85, 97, 109, 121, 133, 157, 181, 205, 229, 253};

// Addition of two levels in the logarithmic domain by half their difference (table 6.14).
inline constexpr std::array<std::uint8_t, 256> kLogAddition = {
    64, 63, 62, 61, 60, 59, 58, 57, 56, 55, 54, 53, 52, 52, 51, 50, 49, 48, 47, 47, 46, 45, 44, 44, 43, 42, 41, 41, 40,
    39, 38, 38, 37, 36, 36, 35, 35, 34, 33, 33, 32, 32, 31, 30, 30, 29, 29, 28, 28, 27, 27, 26, 26, 25, 25, 24, 24, 23,
    23, 22, 22, 21, 21, 21, 20, 20, 19, 19, 19, 18, 18, 18, 17, 17, 17, 16, 16, 16, 15, 15, 15, 14, 14, 14, 13, 13, 13,
    13, 12, 12, 12, 12, 11, 11, 11, 11, 10, 10, 10, 10, 10, 9,  9,  9,  9,  9,  8,  8,  8,  8,  8,  8,  7,  7,  7,  7,
    7,  7,  6,  6,  6,  6,  6,  6,  6,  6,  5,  5,  5,  5,  5,  5,  5,  5,  4,  4,  4,  4,  4,  4,  4,  4,  4,  4,  4,
    3,  3,  3,  3,  3,  3,  3,  3,  3,  3,  3,  3,  3,  3,  2,  2,  2,  2,  2,  2,  2,  2,  2,  2,  2,  2,  2,  2,  2,
    2,  2,  2,  2,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,  1,
    1,  1,  1,  1,  1,  1,  1,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,
    0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0,  0};

// Hearing threshold at 48 kHz (table 6.15).
inline constexpr std::array<int, kBands> kThreshold48 = {
    1232, 1232, 1088, 1024, 992, 960,  944,  944,  928,  928,  928,  928,  928,  912,  912,  912, 896,
    896,  880,  880,  864,  864, 848,  848,  832,  832,  816,  800,  784,  768,  752,  752,  752, 752,
    768,  784,  832,  912,  992, 1056, 1120, 1168, 1184, 1120, 1088, 1088, 1312, 2048, 2112, 2112};

// Bit allocation pointer by signal over mask (table 6.16).
inline constexpr std::array<std::uint8_t, 64> kPointer = {
    0,  1,  1,  1,  1,  1,  2,  2,  3,  3,  3,  4,  4,  5,  5,  6,  6,  6,  6,  7,  7,  7,
    7,  8,  8,  8,  8,  9,  9,  9,  9,  10, 10, 10, 10, 11, 11, 11, 11, 12, 12, 12, 12, 13,
    13, 13, 13, 14, 14, 14, 14, 14, 14, 14, 14, 15, 15, 15, 15, 15, 15, 15, 15, 15};

// Levels of the symmetric quantizers (pointers 1 to 5; table 6.17) and bits of the others.
inline constexpr std::array<int, 6> kLevels = {0, 3, 5, 7, 11, 15};
inline constexpr std::array<int, 16> kBits = {0, 0, 0, 3, 0, 4, 5, 6, 7, 8, 9, 10, 11, 12, 14, 16};

// Decay, gain, knee and floor codes (tables 6.6 to 6.10).
inline constexpr std::array<int, 4> kSlowDecay = {0x0F, 0x11, 0x13, 0x15};
inline constexpr std::array<int, 4> kFastDecay = {0x3F, 0x53, 0x67, 0x7B};
inline constexpr std::array<int, 4> kSlowGain = {0x540, 0x4D8, 0x478, 0x410};
inline constexpr std::array<int, 4> kKnee = {0x000, 0x700, 0x900, 0xB00};
inline constexpr std::array<int, 8> kFloor = {0x2F0, 0x2B0, 0x270, 0x230, 0x1F0, 0x170, 0x0F0, -0x800};
inline constexpr std::array<int, 8> kFastGain = {0x080, 0x100, 0x180, 0x200, 0x280, 0x300, 0x380, 0x400};

// Nominal bit rates (table 4.13), kbit/s; a frame at 48 kHz has twice as many 16-bit words.
inline constexpr std::array<int, 19> kRates = {32,  40,  48,  56,  64,  80,  96,  112, 128, 160,
                                               192, 224, 256, 320, 384, 448, 512, 576, 640};

}  // namespace wavecrest::codec::ac3
