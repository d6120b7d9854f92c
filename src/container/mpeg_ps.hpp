// MPEG program streams (Rec. ITU-T H.222.0 | ISO/IEC 13818-1, clause 2.5): packs and PES packets, read and written.
#pragma once

#include <optional>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"

namespace wavecrest::container::ps {

// Start codes (last byte), table 2-18 and clause 2.5.3.
inline constexpr std::uint8_t kProgramEnd = 0xB9;
inline constexpr std::uint8_t kPackHeader = 0xBA;
inline constexpr std::uint8_t kSystemHeader = 0xBB;
inline constexpr std::uint8_t kStreamMap = 0xBC;
inline constexpr std::uint8_t kPrivate1 = 0xBD;
inline constexpr std::uint8_t kPadding = 0xBE;
inline constexpr std::uint8_t kPrivate2 = 0xBF;
inline constexpr std::uint8_t kFirstAudio = 0xC0;
inline constexpr std::uint8_t kFirstVideo = 0xE0;

inline constexpr std::size_t kPackHeaderSize = 14;

// One PES packet. `payload` points into the bytes that were parsed.
struct PesPacket {
    std::uint8_t stream_id = 0;
    bool scrambled = false;           // PES_scrambling_control is not 00
    std::optional<std::int64_t> pts;  // 90 kHz, 33 bits
    std::optional<std::int64_t> dts;
    ByteSpan payload;
    std::size_t offset = 0;  // of its start code in the parsed bytes
    bool cut = false;        // the bytes end inside it
};

// What one run of bytes holds.
struct PackContents {
    std::vector<PesPacket> packets;         // padding left out
    std::optional<std::int64_t> scr_27mhz;  // of the first pack header
    std::size_t skipped_bytes = 0;          // bytes that are no pack or packet
};

// Parses packs that lie in `bytes` from its beginning (a DVD sector, or a run of them). Never fails: what can't be
// parsed is counted in skipped_bytes and passed over to the next start code. Clears `contents` first.
void parse_packs(ByteSpan bytes, PackContents& contents);

// Appends a pack header (2.5.3.3): the system clock in 27 MHz ticks, the mux rate in bits per second (multiple of 400).
void write_pack_header(base::ByteWriter& out, std::int64_t scr_27mhz, std::int64_t mux_rate_bps);

struct PesHeader {
    std::uint8_t stream_id = 0;
    std::optional<std::int64_t> pts;
    std::optional<std::int64_t> dts;
    std::optional<std::uint16_t> buffer_bound;  // P-STD_buffer_scale bit (0x2000) and size, 2.4.3.7
    std::size_t stuffing = 0;                   // 0 to 32 bytes
    bool scrambled = false;                     // marked so; the payload is the caller's business
};
std::size_t pes_header_size(const PesHeader& header);
// Appends a PES header for `payload` bytes that the caller appends next.
void write_pes_header(base::ByteWriter& out, const PesHeader& header, std::size_t payload);
// Appends a padding packet that takes exactly `size` bytes in all (at least 6).
void write_padding(base::ByteWriter& out, std::size_t size);

}  // namespace wavecrest::container::ps
