// MPEG transport streams (Rec. ITU-T H.222.0 | ISO/IEC 13818-1, clause 2.4): packets, program tables, PES headers; read
// and written. Blu-ray's packets of 192 bytes have four bytes with an arrival time in front.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::container::ts {

inline constexpr std::size_t kPacket = 188;
inline constexpr std::size_t kTimedPacket = 192;  // Blu-ray
inline constexpr std::uint8_t kSync = 0x47;
inline constexpr int kPatPid = 0, kSdtPid = 0x11, kNullPid = 0x1FFF;
inline constexpr int kPidMask = 0x1FFF;     // a PID has 13 bits (2.4.3.2) ...
inline constexpr std::size_t kPids = 8192;  // ... and tables of other standards 16 for it

// One transport packet (2.4.3.2). `payload` points into the bytes that were parsed.
struct TransportPacket {
    int pid = 0;
    bool starts = false;  // payload_unit_start_indicator
    bool error = false;   // transport_error_indicator
    bool scrambled = false;
    bool discontinuity = false;
    bool random_access = false;
    int continuity = 0;
    std::optional<std::int64_t> pcr_27mhz;
    ByteSpan payload;
};
// Nothing when the sync byte is missing or the adaptation field runs over.
std::optional<TransportPacket> parse_packet(ByteSpan bytes);

// How packets lie in a file: with four bytes in front (Blu-ray) or sixteen behind (Reed-Solomon codes).
struct Layout {
    std::size_t size = kPacket;  // 188, 192 or 204
    std::size_t lead = 0;        // bytes before the sync byte
    std::uint64_t first = 0;     // offset of the first packet
};
// Where packets follow one another in these bytes, at least five of them (fewer when the bytes end before); `size`
// restricts to one length.
std::optional<Layout> find_layout(ByteSpan bytes, std::size_t size = 0);

// What a PES packet begins with (2.4.3.6).
struct PesStart {
    std::uint8_t stream_id = 0;
    std::uint8_t stream_id_extension = 0;  // 0 when there is none
    bool scrambled = false;
    std::optional<std::int64_t> pts, dts;  // 90 kHz, 33 bits
    ByteSpan payload;
};
std::optional<PesStart> parse_pes(ByteSpan bytes);

struct ProgramStream {
    int type = 0;  // stream_type
    int pid = 0;
    std::string language;  // ISO 639-2, from its descriptor
    // What type and descriptors say together; unknown with `what` for those that aren't read.
    Codec codec = Codec::unknown;
    std::string what;  // "teletext", "stream type 0x8A"
    Purpose purpose = Purpose::main;
    ByteVector descriptors;  // to be written
};
struct Program {
    int number = 0;
    int pcr_pid = kNullPid;
    std::vector<ProgramStream> streams;
    // Copy control information of a DTCP descriptor: 0 free, 1 no more copies, 2 one generation, 3 never.
    int copy_control = 0;
    bool access_control = false;  // a CA descriptor is there
    int version = 0;
};
// PMT PIDs by program number; sections whose CRC is wrong give nothing. `section` starts with its table_id.
std::map<int, int> parse_pat(ByteSpan section);
std::optional<Program> parse_pmt(ByteSpan section);
// Names of programs by their numbers.
std::map<int, std::string> parse_sdt(ByteSpan section);

// Collects the sections of one PID.
class SectionCollector {
  public:
    // The section that this packet completes; nothing otherwise.
    std::optional<ByteVector> push(const TransportPacket& packet);

  private:
    ByteVector bytes_;
    bool begun_ = false;
};

// CRC of sections (annex A): 0 over a whole section when it is right.
std::uint32_t crc32(ByteSpan bytes);

// Writing. A packet's payload takes at most 184 bytes; what is left is stuffed.
ByteVector write_pat(int program, int pmt_pid);
// The service description table (ETSI EN 300 468, 5.2.3) with the program's name.
ByteVector write_sdt(int program, const std::string& name);
ByteVector write_pmt(const Program& program, ByteSpan program_descriptors);
struct PacketHeader {
    int pid = 0;
    bool starts = false;
    int continuity = 0;
    std::optional<std::int64_t> pcr_27mhz;
    bool random_access = false;  // decoding can start with what begins here
};
using PacketBytes = std::array<std::uint8_t, kPacket>;
// Makes one packet with as much of `payload` as fits, and gives how many bytes that was.
std::size_t write_packet(PacketBytes& packet, const PacketHeader& header, ByteSpan payload);
// A PES header for `payload` bytes; a size of 0 leaves the length open (video).
ByteVector write_pes(std::uint8_t stream_id, std::optional<std::int64_t> pts, std::optional<std::int64_t> dts,
                     std::size_t payload, std::uint8_t stream_id_extension = 0);

}  // namespace wavecrest::container::ts
