#include "container/mpeg_ts.hpp"

#include "bitstream/stream_type.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <utility>

namespace wavecrest::container::ts {
namespace {

using base::ByteReader;
using base::ByteWriter;

constexpr std::uint8_t kPatTable = 0, kPmtTable = 2, kSdtTable = 0x42;
constexpr std::uint8_t kCaDescriptor = 0x09, kLanguageDescriptor = 0x0A, kDtcpDescriptor = 0x88,
                       kRegistrationDescriptor = 0x05;
constexpr std::uint16_t kDtcpSystem = 0x0FFF;
constexpr std::size_t kLargestSection = 1024;

std::int64_t timestamp(ByteSpan b) {
    return static_cast<std::int64_t>(b[0] >> 1 & 7) << 30 | static_cast<std::int64_t>(b[1]) << 22 |
           static_cast<std::int64_t>(b[2] >> 1) << 15 | static_cast<std::int64_t>(b[3]) << 7 |
           static_cast<std::int64_t>(b[4] >> 1);
}
void put_timestamp(ByteWriter& out, unsigned prefix, std::int64_t value) {
    const auto v = static_cast<std::uint64_t>(value) & 0x1'FFFF'FFFF;
    out.u8(prefix << 4 | (v >> 30) << 1 | 1);
    out.u16((v >> 15 & 0x7FFF) << 1 | 1);
    out.u16((v & 0x7FFF) << 1 | 1);
}

// The body of a section of this table, between its header and the CRC.
ByteSpan section_body(ByteSpan section, std::uint8_t table) {
    if (section.size() < 12 || section[0] != table) return {};
    const std::size_t length = 3u + ((section[1] & 0x0Fu) << 8 | section[2]);
    if (length > section.size() || length < 12 || crc32(section.first(length)) != 0) return {};
    return section.subspan(3, length - 3 - 4);
}

// What descriptors add to a stream of private type (ISO/IEC 13818-1, 2.6; ETSI EN 300 468, 6.2; TS 101 154).
void read_stream_descriptor(std::uint8_t tag, ByteSpan body, ProgramStream& stream) {
    const auto found = [&](Codec codec) {
        if (stream.codec == Codec::unknown) stream.codec = codec;
    };
    switch (tag) {
        case kRegistrationDescriptor: {
            const std::string name(body.begin(),
                                   body.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(4, body.size())));
            if (name == "AC-3") found(Codec::ac3);
            if (name == "EAC3") found(Codec::eac3);
            if (name == "DTS1" || name == "DTS2" || name == "DTS3") found(Codec::dts);
            if (name == "HEVC") found(Codec::h265);
            if (name == "VC-1") found(Codec::vc1);
            if (name == "Opus") stream.what = "Opus in a transport stream";
            break;
        }
        case 0x6A:
            found(Codec::ac3);
            break;
        case 0x7A:
            found(Codec::eac3);
            break;
        case 0x7B:
            found(Codec::dts);
            break;
        case 0x56:
            stream.what = "teletext";
            break;
        case 0x59:
            stream.what = "DVB subtitles";
            if (body.size() >= 3 && stream.language.empty()) stream.language.assign(body.begin(), body.begin() + 3);
            break;
        default:
            break;
    }
}

void read_descriptors(ByteSpan bytes, Program& program, ProgramStream* stream) {
    ByteReader reader(bytes);
    while (reader.remaining() >= 2) {
        const std::uint8_t tag = reader.u8();
        const ByteSpan body = reader.take(reader.u8());
        if (!reader.ok()) return;
        if (tag == kCaDescriptor) program.access_control = true;
        if (tag == kDtcpDescriptor && body.size() >= 3 && (body[0] << 8 | body[1]) == kDtcpSystem)
            program.copy_control = std::max(program.copy_control, body[2] & 3);
        if (stream == nullptr) continue;
        if (tag == kLanguageDescriptor && body.size() >= 4) {
            stream->language.assign(reinterpret_cast<const char*>(body.data()), 3);
            stream->purpose = body[3] == 2 ? Purpose::captions : body[3] == 3 ? Purpose::described : Purpose::main;
        }
        read_stream_descriptor(tag, body, *stream);
    }
}

ByteVector close_section(ByteWriter& out) {
    out.put_u16(1, 0xB000u | (out.size() - 3 + 4));
    out.u32(crc32(out.bytes()));
    return out.release();
}

}  // namespace

std::uint32_t crc32(ByteSpan bytes) {
    std::uint32_t crc = 0xFFFFFFFF;
    for (const std::uint8_t byte : bytes) {
        crc ^= static_cast<std::uint32_t>(byte) << 24;
        for (int i = 0; i < 8; ++i) crc = (crc & 0x80000000) != 0 ? crc << 1 ^ 0x04C11DB7 : crc << 1;
    }
    return crc;
}

std::optional<Layout> find_layout(ByteSpan bytes, std::size_t wanted) {
    constexpr std::size_t kRun = 5;
    std::optional<Layout> best;
    for (const std::size_t size : {kPacket, kTimedPacket, std::size_t{204}}) {
        if (wanted != 0 && size != wanted) continue;
        for (std::size_t at = 0; at < bytes.size(); ++at) {
            if (bytes[at] != kSync) continue;
            std::size_t run = 0;
            bool broken = false;
            for (std::size_t next = at; next < bytes.size() && run < kRun; next += size, ++run) {
                if (bytes[next] == kSync) continue;
                broken = true;
                break;
            }
            const bool to_the_end =
                !broken && run >= 1 && at + run * size >= bytes.size() && bytes.size() - at >= kPacket;
            if (broken || (run < kRun && !(to_the_end && (run >= 3 || wanted != 0)))) continue;
            const std::size_t lead = size == kTimedPacket && at >= 4 ? 4 : 0;
            Layout layout{size, size == kTimedPacket ? 4u : 0u, at - lead};
            if (size == kTimedPacket && at < 4) layout.first = at + size - 4;
            if (!best || layout.first < best->first) best = layout;
            break;
        }
    }
    return best;
}

std::optional<TransportPacket> parse_packet(ByteSpan bytes) {
    if (bytes.size() < kPacket || bytes[0] != kSync) return std::nullopt;
    TransportPacket packet;
    packet.error = (bytes[1] & 0x80) != 0;
    packet.starts = (bytes[1] & 0x40) != 0;
    packet.pid = (bytes[1] & 0x1F) << 8 | bytes[2];
    packet.scrambled = (bytes[3] & 0xC0) != 0;
    packet.continuity = bytes[3] & 0x0F;
    std::size_t at = 4;
    if ((bytes[3] & 0x20) != 0) {
        const std::size_t length = bytes[4];
        if (length > kPacket - 5) return std::nullopt;
        if (length > 0) {
            packet.discontinuity = (bytes[5] & 0x80) != 0;
            packet.random_access = (bytes[5] & 0x40) != 0;
            if ((bytes[5] & 0x10) != 0 && length >= 7) {
                const std::int64_t base = static_cast<std::int64_t>(bytes[6]) << 25 |
                                          static_cast<std::int64_t>(bytes[7]) << 17 |
                                          static_cast<std::int64_t>(bytes[8]) << 9 |
                                          static_cast<std::int64_t>(bytes[9]) << 1 | bytes[10] >> 7;
                packet.pcr_27mhz = base * 300 + ((bytes[10] & 1) << 8 | bytes[11]);
            }
        }
        at += 1 + length;
    }
    if ((bytes[3] & 0x10) != 0) packet.payload = bytes.subspan(at, kPacket - at);
    return packet;
}

std::optional<PesStart> parse_pes(ByteSpan bytes) {
    if (bytes.size() < 9 || bytes[0] != 0 || bytes[1] != 0 || bytes[2] != 1) return std::nullopt;
    PesStart pes;
    pes.stream_id = bytes[3];
    if ((bytes[6] & 0xC0) != 0x80) return std::nullopt;
    pes.scrambled = (bytes[6] & 0x30) != 0;
    const unsigned flags = bytes[7];
    const std::size_t header = 9u + bytes[8];
    if (header > bytes.size()) return std::nullopt;
    std::size_t at = 9;
    if ((flags & 0x80) != 0 && at + 5 <= header) {
        pes.pts = timestamp(bytes.subspan(at, 5));
        at += 5;
        if ((flags & 0x40) != 0 && at + 5 <= header) {
            pes.dts = timestamp(bytes.subspan(at, 5));
            at += 5;
        }
    }
    // ESCR, ES rate, trick mode, copy info and CRC come before the extension.
    at += (flags & 0x20 ? 6u : 0u) + (flags & 0x10 ? 3u : 0u) + (flags & 0x08 ? 1u : 0u) + (flags & 0x04 ? 1u : 0u) +
          (flags & 0x02 ? 2u : 0u);
    if ((flags & 0x01) != 0 && at < header) {
        const unsigned extension = bytes[at++];
        at += (extension & 0x80 ? 16u : 0u);
        if ((extension & 0x40) != 0 && at < header) at += 1u + bytes[at];
        at += (extension & 0x20 ? 2u : 0u) + (extension & 0x10 ? 2u : 0u);
        if ((extension & 0x01) != 0 && at + 1 < header && (bytes[at] & 0x7F) >= 1 && (bytes[at + 1] & 0x80) == 0)
            pes.stream_id_extension = bytes[at + 1] & 0x7F;
    }
    pes.payload = bytes.subspan(header);
    return pes;
}

std::map<int, int> parse_pat(ByteSpan section) {
    std::map<int, int> programs;
    ByteReader reader(section_body(section, kPatTable));
    reader.skip(5);
    while (reader.remaining() >= 4) {
        const int number = reader.u16();
        const int pid = reader.u16() & kPidMask;
        if (number != 0) programs[number] = pid;
    }
    return programs;
}

std::optional<Program> parse_pmt(ByteSpan section) {
    const ByteSpan body = section_body(section, kPmtTable);
    if (body.size() < 9) return std::nullopt;
    ByteReader reader(body);
    Program program;
    program.number = reader.u16();
    program.version = reader.u8() >> 1 & 31;
    reader.skip(2);
    program.pcr_pid = reader.u16() & kPidMask;
    read_descriptors(reader.take(reader.u16() & 0x0FFFu), program, nullptr);
    while (reader.ok() && reader.remaining() >= 5) {
        ProgramStream stream;
        stream.type = reader.u8();
        stream.pid = reader.u16() & kPidMask;
        stream.codec = bitstream::codec_of_stream_type(stream.type);
        read_descriptors(reader.take(reader.u16() & 0x0FFFu), program, &stream);
        if (stream.codec == Codec::unknown && stream.what.empty())
            stream.what = fmt::format("stream type 0x{:02X}", stream.type);
        if (reader.ok()) program.streams.push_back(std::move(stream));
    }
    return program;
}

std::map<int, std::string> parse_sdt(ByteSpan section) {
    std::map<int, std::string> names;
    ByteReader reader(section_body(section, kSdtTable));
    reader.skip(5 + 3);
    while (reader.ok() && reader.remaining() >= 5) {
        const int number = reader.u16();
        reader.skip(1);
        ByteReader loop(reader.take(reader.u16() & 0x0FFFu));
        while (loop.ok() && loop.remaining() >= 2) {
            const std::uint8_t tag = loop.u8();
            ByteReader body(loop.take(loop.u8()));
            if (tag != 0x48) continue;
            body.skip(1);
            body.skip(body.u8());
            std::string name = body.text(body.u8());
            // A first byte below 0x20 chooses the character table.
            if (!name.empty() && static_cast<unsigned char>(name[0]) < 0x20) name.erase(0, 1);
            std::erase_if(name, [](char c) { return static_cast<unsigned char>(c) < 0x20; });
            if (body.ok() && !name.empty()) names[number] = name;
        }
    }
    return names;
}

std::optional<ByteVector> SectionCollector::push(const TransportPacket& packet) {
    ByteSpan payload = packet.payload;
    if (payload.empty()) return std::nullopt;
    if (packet.starts) {
        const std::size_t pointer = payload[0];
        if (pointer + 1 > payload.size()) return std::nullopt;
        payload = payload.subspan(1 + pointer);
        bytes_.clear();
        begun_ = true;
    }
    if (!begun_) return std::nullopt;
    bytes_.insert(bytes_.end(), payload.begin(), payload.end());
    if (bytes_.size() < 3) return std::nullopt;
    const std::size_t length = 3u + ((bytes_[1] & 0x0Fu) << 8 | bytes_[2]);
    if (bytes_.size() < std::min(length, kLargestSection)) return std::nullopt;
    begun_ = false;
    if (length > bytes_.size()) return std::nullopt;
    bytes_.resize(length);
    return std::exchange(bytes_, {});
}

ByteVector write_pat(int program, int pmt_pid) {
    ByteWriter out;
    out.u8(kPatTable);
    out.u16(0);
    out.u16(0);    // transport stream
    out.u8(0xC1);  // version 0, current
    out.u16(0);    // section 0 of 0
    out.u16(static_cast<unsigned>(program));
    out.u16(0xE000u | static_cast<unsigned>(pmt_pid));
    return close_section(out);
}

ByteVector write_sdt(int program, const std::string& name) {
    const std::string text = name.substr(0, 200);
    ByteWriter out;
    out.u8(kSdtTable);
    out.u16(0);
    out.u16(0);
    out.u8(0xC1);
    out.u16(0);
    out.u16(1);  // original network
    out.u8(0xFF);
    out.u16(static_cast<unsigned>(program));
    out.u8(0xFC);
    out.u16(0x8000u | (15 + text.size()));  // running, free
    out.u8(0x48);
    out.u8(13 + text.size());
    out.u8(1);
    out.u8(9);
    out.text("Wavecrest");
    out.u8(1 + text.size());
    out.u8(0x15);  // UTF-8
    out.text(text);
    return close_section(out);
}

ByteVector write_pmt(const Program& program, ByteSpan descriptors) {
    ByteWriter out;
    out.u8(kPmtTable);
    out.u16(0);
    out.u16(static_cast<unsigned>(program.number));
    out.u8(0xC1);
    out.u16(0);
    out.u16(0xE000u | static_cast<unsigned>(program.pcr_pid));
    out.u16(0xF000u | descriptors.size());
    out.raw(descriptors);
    for (const ProgramStream& stream : program.streams) {
        out.u8(static_cast<unsigned>(stream.type));
        out.u16(0xE000u | static_cast<unsigned>(stream.pid));
        const bool language = stream.language.size() == 3;
        out.u16(0xF000u | (stream.descriptors.size() + (language ? 6 : 0)));
        if (language) {
            out.u8(kLanguageDescriptor);
            out.u8(4);
            out.text(stream.language);
            out.u8(stream.purpose == Purpose::captions ? 2 : stream.purpose == Purpose::described ? 3 : 0);
        }
        out.raw(stream.descriptors);
    }
    return close_section(out);
}

std::size_t write_packet(PacketBytes& packet, const PacketHeader& header, ByteSpan payload) {
    // The adaptation field: a clock takes 8 bytes with its length and flags; stuffing fills what the payload leaves.
    std::size_t field = header.pcr_27mhz ? 8 : header.random_access ? 2 : 0;
    const std::size_t count = std::min(payload.size(), kPacket - 4 - field);
    const std::size_t left = kPacket - 4 - count;
    field = left;
    std::size_t at = 0;
    const auto put = [&](std::uint64_t value) { packet[at++] = static_cast<std::uint8_t>(value); };
    const unsigned start_and_pid = (header.starts ? 0x4000u : 0u) | static_cast<unsigned>(header.pid);
    put(kSync);
    put(start_and_pid >> 8);
    put(start_and_pid);
    put((field > 0 ? 0x20u : 0u) | (count > 0 ? 0x10u : 0u) | (static_cast<unsigned>(header.continuity) & 15u));
    if (field > 0) {
        put(field - 1);
        if (field > 1) {
            put((header.pcr_27mhz ? 0x10u : 0u) | (header.random_access ? 0x40u : 0u));
            if (header.pcr_27mhz) {
                // 33 bits of 90 kHz, 6 reserved, 9 bits of 27 MHz (2.4.3.5).
                const auto base = static_cast<std::uint64_t>(*header.pcr_27mhz / 300) & 0x1'FFFF'FFFF;
                const std::uint64_t clock = base << 15 | 0x7E00u | static_cast<std::uint64_t>(*header.pcr_27mhz % 300);
                for (int shift = 40; shift >= 0; shift -= 8) put(clock >> shift);
            }
            std::fill(packet.begin() + static_cast<std::ptrdiff_t>(at),
                      packet.begin() + static_cast<std::ptrdiff_t>(4 + field), 0xFF);
        }
    }
    std::copy(payload.begin(), payload.begin() + static_cast<std::ptrdiff_t>(count),
              packet.end() - static_cast<std::ptrdiff_t>(count));
    return count;
}

ByteVector write_pes(std::uint8_t stream_id, std::optional<std::int64_t> pts, std::optional<std::int64_t> dts,
                     std::size_t payload, std::uint8_t extension) {
    ByteWriter out;
    const std::size_t header = (pts ? 5u : 0u) + (dts ? 5u : 0u) + (extension != 0 ? 3u : 0u);
    out.u24(1);
    out.u8(stream_id);
    const std::size_t length = payload == 0 ? 0 : 3 + header + payload;
    out.u16(length > 0xFFFF ? 0 : length);
    out.u8(0x84);  // data alignment
    out.u8((pts ? 0x80u : 0u) | (dts ? 0x40u : 0u) | (extension != 0 ? 1u : 0u));
    out.u8(header);
    if (pts) put_timestamp(out, dts ? 3 : 2, *pts);
    if (dts) put_timestamp(out, 1, *dts);
    if (extension != 0) {
        out.u8(0x0F);  // only the second extension follows
        out.u8(0x81);
        out.u8(extension);
    }
    return out.release();
}

}  // namespace wavecrest::container::ts
