// Layouts of the DVD-Video navigation structures: byte offsets and codes, shared by the reader and the writer.
// The specification is not public; the layouts are those of its published descriptions. All numbers are big-endian.
#pragma once

#include <cstddef>
#include <cstdint>

#include "base/time.hpp"

namespace wavecrest::disc::dvd {

inline constexpr std::size_t kSector = 2048;
inline constexpr std::uint64_t kMaxVobFile = 1ull << 30;  // a VOB file holds at most 1 GiB

// VMGI_MAT, the table at the start of VIDEO_TS.IFO, and VTSI_MAT, at the start of VTS_nn_0.IFO.
namespace mat {
inline constexpr char kVmgId[] = "DVDVIDEO-VMG";
inline constexpr char kVtsId[] = "DVDVIDEO-VTS";
inline constexpr std::size_t kLastSectorOfSet = 0x0C;
inline constexpr std::size_t kLastSectorOfIfo = 0x1C;
inline constexpr std::size_t kVersion = 0x20;
inline constexpr std::size_t kCategory = 0x22;
inline constexpr std::size_t kVolumeCount = 0x26;
inline constexpr std::size_t kVolumeNumber = 0x28;
inline constexpr std::size_t kDiscSide = 0x2A;
inline constexpr std::size_t kTitleSetCount = 0x3E;
inline constexpr std::size_t kProvider = 0x40;       // 32 characters
inline constexpr std::size_t kMatEnd = 0x80;         // last byte of this table
inline constexpr std::size_t kFirstPlayPgc = 0x84;   // VMG: byte offset
inline constexpr std::size_t kMenuVobs = 0xC0;       // start sectors from here on
inline constexpr std::size_t kVmgTitleTable = 0xC4;  // TT_SRPT
inline constexpr std::size_t kVmgAttributes = 0xD0;  // VMG_VTS_ATRT
inline constexpr std::size_t kVtsTitleVobs = 0xC4;
inline constexpr std::size_t kVtsChapters = 0xC8;  // VTS_PTT_SRPT
inline constexpr std::size_t kVtsPgcs = 0xCC;      // VTS_PGCI
inline constexpr std::size_t kVtsTimeMap = 0xD4;   // VTS_TMAPTI
inline constexpr std::size_t kVtsCells = 0xE0;     // VTS_C_ADT
inline constexpr std::size_t kVtsVobuMap = 0xE4;   // VTS_VOBU_ADMAP
inline constexpr std::size_t kMenuAttributes = 0x100;
inline constexpr std::size_t kVideoAttributes = 0x200;
inline constexpr std::size_t kAudioCount = 0x202;
inline constexpr std::size_t kAudioAttributes = 0x204;  // 8 of 8 bytes
inline constexpr std::size_t kSubpictureCount = 0x254;
inline constexpr std::size_t kSubpictureAttributes = 0x256;  // 32 of 6 bytes
inline constexpr std::size_t kAttributesEnd = 0x400;
inline constexpr std::size_t kVmgSize = 0x200;
inline constexpr std::size_t kVtsSize = 0x3D8;
}  // namespace mat

// Title entry of TT_SRPT.
inline constexpr std::size_t kTitleEntrySize = 12;

// PGC: a program chain.
namespace pgc {
inline constexpr std::size_t kPrograms = 0x02;
inline constexpr std::size_t kCells = 0x03;
inline constexpr std::size_t kTime = 0x04;
inline constexpr std::size_t kAudioControl = 0x0C;       // 8 of 2 bytes; bit 15: the stream is there
inline constexpr std::size_t kSubpictureControl = 0x1C;  // 32 of 4 bytes; bit 31
inline constexpr std::size_t kNextChain = 0x9C;
inline constexpr std::size_t kPalette = 0xA4;   // 16 of 4 bytes: 0, Y, Cr, Cb
inline constexpr std::size_t kCommands = 0xE4;  // offsets within the PGC from here on
inline constexpr std::size_t kProgramMap = 0xE6;
inline constexpr std::size_t kCellPlayback = 0xE8;
inline constexpr std::size_t kCellPosition = 0xEA;
inline constexpr std::size_t kSize = 0xEC;
inline constexpr std::size_t kCellPlaybackSize = 24;
inline constexpr std::size_t kCellPositionSize = 4;
}  // namespace pgc

// The navigation pack: pack header, system header, PCI packet, DSI packet.
namespace nav {
inline constexpr std::size_t kSystemHeaderSize = 24;
inline constexpr std::uint8_t kPciSubstream = 0;
inline constexpr std::uint8_t kDsiSubstream = 1;
inline constexpr std::size_t kPciSize = 979;  // after the substream number
inline constexpr std::size_t kDsiSize = 1017;
inline constexpr std::size_t kPciAt = 14 + kSystemHeaderSize + 7;
inline constexpr std::size_t kDsiAt = kPciAt + kPciSize + 7;
static_assert(kDsiAt + kDsiSize == kSector);

// In PCI.
inline constexpr std::size_t kPciSector = 0x00;
inline constexpr std::size_t kPciStart = 0x0C;  // first picture's presentation time, 90 kHz
inline constexpr std::size_t kPciEnd = 0x10;
inline constexpr std::size_t kPciElapsed = 0x18;  // in the cell, BCD
// In DSI.
inline constexpr std::size_t kDsiClock = 0x00;  // system clock base
inline constexpr std::size_t kDsiSector = 0x04;
inline constexpr std::size_t kDsiVobuEnd = 0x08;        // in sectors from the navigation pack
inline constexpr std::size_t kDsiReferenceEnds = 0x0C;  // 3: ends of the first reference pictures
inline constexpr std::size_t kDsiVob = 0x18;
inline constexpr std::size_t kDsiCell = 0x1B;
inline constexpr std::size_t kDsiElapsed = 0x1C;
inline constexpr std::size_t kDsiUnit = 0x20;      // category of interleaving
inline constexpr std::size_t kDsiUnitEnd = 0x22;   // last sector of the interleaved unit, from here
inline constexpr std::size_t kDsiNextUnit = 0x26;  // the next one of this angle, from here
inline constexpr std::size_t kDsiNextUnitSize = 0x2A;
inline constexpr std::uint16_t kInterleavedUnit = 0x4000, kUnitStart = 0x2000, kUnitEnd = 0x1000;
inline constexpr std::uint32_t kNoUnit = 0xFFFFFFFF;
inline constexpr std::size_t kDsiAngles = 0xB4;  // 9 of 6 bytes: where each angle's next unit begins
inline constexpr std::size_t kDsiVobStart = 0x2C;
inline constexpr std::size_t kDsiVobEnd = 0x30;
inline constexpr std::size_t kDsiSearch = 0xEA;  // VOBU_SRI: 42 of 4 bytes
inline constexpr std::size_t kDsiSync = 0x192;   // SYNCI: 8 of 2 bytes audio, 32 of 4 bytes subpicture
inline constexpr std::uint32_t kNoVobu = 0x3FFFFFFF;
inline constexpr std::uint32_t kVobuHasVideo = 0x80000000;
}  // namespace nav

// Audio coding modes of the audio attributes.
enum class AudioMode { ac3 = 0, mpeg1 = 2, mpeg2 = 3, lpcm = 4, dts = 6 };

// Substreams of private stream 1: the byte before their data, and the streams' numbers within it.
inline constexpr int kSubpictureStream = 0x20;                                  // 32 of them
inline constexpr int kAc3Stream = 0x80, kDtsStream = 0x88, kLpcmStream = 0xA0;  // 8 each
inline constexpr std::size_t kAudioSubstreamHeader = 4;  // AC-3 and DTS: number, frame count, 16-bit pointer

// Purpose codes of audio (attribute byte 5) and subpictures (byte 5).
inline constexpr int kForVisuallyImpaired = 2, kCommentary = 3, kOtherCommentary = 4;
inline constexpr int kCaptions = 5, kLargeCaptions = 6, kForcedSubtitles = 9, kCommentarySubtitles = 13;

// LPCM in private stream 1 (substreams 0xA0-0xA7): a frame is 1/600 s.
inline constexpr int kLpcmFramesPerSecond = 600;
inline constexpr std::size_t kLpcmHeader = 7;  // substream number, frame count, pointer, three bytes of format

// Playback times: BCD hours, minutes, seconds and frames; the two top bits of the frames give the rate (3: 30, 1: 25).
// At 30 the frames are those of 30000/1001, and so are all seconds, minutes and hours counted from them.
Time decode_bcd_time(std::uint32_t bcd);
// `time` is rounded to whole frames: of 1001/30000 s, or of 1/25 s for PAL.
std::uint32_t encode_bcd_time(Time time, bool pal = false);

}  // namespace wavecrest::disc::dvd
