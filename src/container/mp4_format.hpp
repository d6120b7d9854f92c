// Box types and shared details of the ISO base media file format (ISO/IEC 14496-12), its H.264 and AAC carriage
// (14496-15, 14496-14), timed text (3GPP TS 26.245) and the chapter track reference of the QuickTime file format.
#pragma once

#include <cstdint>

namespace wavecrest::container::mp4 {

constexpr std::uint32_t fourcc(const char (&name)[5]) {
    return static_cast<std::uint32_t>(static_cast<unsigned char>(name[0])) << 24 |
           static_cast<std::uint32_t>(static_cast<unsigned char>(name[1])) << 16 |
           static_cast<std::uint32_t>(static_cast<unsigned char>(name[2])) << 8 |
           static_cast<std::uint32_t>(static_cast<unsigned char>(name[3]));
}

// Descriptor tags and object types of ISO/IEC 14496-1, 7.2.2.1 and 7.2.6.6.
inline constexpr std::uint8_t kEsDescriptor = 3;
inline constexpr std::uint8_t kDecoderConfig = 4;
inline constexpr std::uint8_t kDecoderSpecific = 5;
inline constexpr std::uint8_t kSlConfig = 6;
inline constexpr std::uint8_t kObjectAac = 0x40, kObjectMpeg4Video = 0x20, kObjectMpeg2Main = 0x61, kObjectMpeg1 = 0x6A,
                              kObjectMpeg1Audio = 0x6B, kObjectMpeg2Audio = 0x69;
inline constexpr int kVisualStream = 4, kAudioStream = 5;

inline constexpr std::uint32_t kTrackEnabled = 1;
inline constexpr std::uint32_t kTrackInMovie = 2;

inline constexpr std::uint32_t kAllForced = 0x80000000, kSomeForced = 0x40000000;  // display flags of timed text

}  // namespace wavecrest::container::mp4
