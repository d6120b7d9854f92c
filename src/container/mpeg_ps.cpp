#include "container/mpeg_ps.hpp"

#include "bitstream/mpeg2.hpp"

namespace wavecrest::container::ps {
namespace {

constexpr std::size_t kMpeg1PackHeader = 12;

// Marker bits aside, a 33-bit timestamp in five bytes (2.4.3.7).
std::int64_t timestamp(ByteSpan b) {
    return static_cast<std::int64_t>(b[0] >> 1 & 7) << 30 | static_cast<std::int64_t>(b[1]) << 22 |
           static_cast<std::int64_t>(b[2] >> 1) << 15 | static_cast<std::int64_t>(b[3]) << 7 |
           static_cast<std::int64_t>(b[4] >> 1);
}

void write_timestamp(base::ByteWriter& out, unsigned prefix, std::int64_t value) {
    const auto v = static_cast<std::uint64_t>(value) & 0x1'FFFF'FFFF;
    out.u8(prefix << 4 | (v >> 30) << 1 | 1);
    out.u16((v >> 15 & 0x7FFF) << 1 | 1);
    out.u16((v & 0x7FFF) << 1 | 1);
}

// Streams whose packets carry no PES header extension (2.4.3.6).
bool plain(std::uint8_t id) {
    return id == kStreamMap || id == kPadding || id == kPrivate2 || id == 0xF0 || id == 0xF1 || id == 0xFF;
}

// The header of MPEG-1's packets (ISO/IEC 11172-1, 2.4.3.3): stuffing, buffer size, timestamps.
bool parse_mpeg1_header(ByteSpan body, PesPacket& packet) {
    std::size_t at = 0;
    while (at < body.size() && at < 17 && body[at] == 0xFF) ++at;
    if (at + 2 <= body.size() && (body[at] & 0xC0) == 0x40) at += 2;
    if (at >= body.size()) return false;
    const int marker = body[at] >> 4;
    if (marker == 2 && at + 5 <= body.size()) {
        packet.pts = timestamp(body.subspan(at, 5));
        at += 5;
    } else if (marker == 3 && at + 10 <= body.size()) {
        packet.pts = timestamp(body.subspan(at, 5));
        packet.dts = timestamp(body.subspan(at + 5, 5));
        at += 10;
    } else if (body[at] == 0x0F) {
        ++at;
    } else {
        return false;
    }
    packet.payload = body.subspan(at);
    return true;
}

// The PES header's extension: flags, timestamps, stuffing. False when it does not fit or is not MPEG-2's.
bool parse_extension(ByteSpan body, PesPacket& packet) {
    if (body.size() < 3 || (body[0] & 0xC0) != 0x80) return false;
    packet.scrambled = (body[0] & 0x30) != 0;
    const unsigned flags = body[1] >> 6;
    const std::size_t header = 3u + body[2];
    if (header > body.size()) return false;
    if (flags >= 2 && body[2] >= 5) packet.pts = timestamp(body.subspan(3, 5));
    if (flags == 3 && body[2] >= 10) packet.dts = timestamp(body.subspan(8, 5));
    packet.payload = body.subspan(header);
    return true;
}

}  // namespace

void parse_packs(ByteSpan bytes, PackContents& contents) {
    contents.packets.clear();
    contents.scr_27mhz.reset();
    contents.skipped_bytes = 0;
    std::size_t at = 0;
    const auto resynchronise = [&](std::size_t from) {
        const std::size_t next = bitstream::mpeg2::find_start_code(bytes, from);
        contents.skipped_bytes += next - at;
        at = next;
    };
    while (at + 4 <= bytes.size()) {
        if (bytes[at] != 0 || bytes[at + 1] != 0 || bytes[at + 2] != 1) {
            resynchronise(at);
            continue;
        }
        const std::uint8_t code = bytes[at + 3];
        if (code == kProgramEnd) {
            at += 4;
            continue;
        }
        if (code == kPackHeader) {
            if (at + kMpeg1PackHeader <= bytes.size() && (bytes[at + 4] & 0xF0) == 0x20) {
                at += kMpeg1PackHeader;
                continue;
            }
            if (at + kPackHeaderSize > bytes.size() || (bytes[at + 4] & 0xC0) != 0x40) {
                resynchronise(at + 4);
                continue;
            }
            if (!contents.scr_27mhz) {
                const auto b = bytes.subspan(at + 4, 6);
                const std::int64_t base =
                    static_cast<std::int64_t>(b[0] >> 3 & 7) << 30 | static_cast<std::int64_t>(b[0] & 3) << 28 |
                    static_cast<std::int64_t>(b[1]) << 20 | static_cast<std::int64_t>(b[2] >> 3) << 15 |
                    static_cast<std::int64_t>(b[2] & 3) << 13 | static_cast<std::int64_t>(b[3]) << 5 |
                    static_cast<std::int64_t>(b[4] >> 3);
                const std::int64_t extension = (b[4] & 3) << 7 | b[5] >> 1;
                contents.scr_27mhz = base * 300 + extension;
            }
            at += kPackHeaderSize + (bytes[at + 13] & 7u);
            continue;
        }
        if (code < kSystemHeader || at + 6 > bytes.size()) {
            resynchronise(at + 4);
            continue;
        }
        const std::size_t length = static_cast<std::size_t>(bytes[at + 4]) << 8 | bytes[at + 5];
        PesPacket packet;
        packet.stream_id = code;
        packet.offset = at;
        packet.cut = at + 6 + length > bytes.size();
        const ByteSpan body = bytes.subspan(at + 6, std::min(length, bytes.size() - at - 6));
        at += 6 + body.size();
        if (code == kSystemHeader || code == kPadding) continue;
        if (plain(code)) {
            packet.payload = body;
        } else if (!parse_extension(body, packet) && !parse_mpeg1_header(body, packet)) {
            contents.skipped_bytes += body.size();
            continue;
        }
        contents.packets.push_back(packet);
    }
    contents.skipped_bytes += bytes.size() > at ? bytes.size() - at : 0;
}

void write_pack_header(base::ByteWriter& out, std::int64_t scr_27mhz, std::int64_t mux_rate_bps) {
    const auto base = static_cast<std::uint64_t>(scr_27mhz / 300) & 0x1'FFFF'FFFF;
    const auto extension = static_cast<std::uint64_t>(scr_27mhz % 300);
    out.u32(0x00000100u | kPackHeader);
    out.u8(0x44 | (base >> 30 & 7) << 3 | (base >> 28 & 3));
    out.u8(base >> 20);
    out.u8((base >> 15 & 0x1F) << 3 | 4 | (base >> 13 & 3));
    out.u8(base >> 5);
    out.u8((base & 0x1F) << 3 | 4 | (extension >> 7 & 3));
    out.u8((extension & 0x7F) << 1 | 1);
    out.u24(static_cast<std::uint64_t>(mux_rate_bps / 400) << 2 | 3);
    out.u8(0xF8);
}

std::size_t pes_header_size(const PesHeader& header) {
    return 9 + (header.pts ? 5u : 0u) + (header.dts ? 5u : 0u) + (header.buffer_bound ? 3u : 0u) + header.stuffing;
}

void write_pes_header(base::ByteWriter& out, const PesHeader& header, std::size_t payload) {
    const std::size_t size = pes_header_size(header);
    out.u24(1);
    out.u8(header.stream_id);
    out.u16(size - 6 + payload);
    out.u8(header.scrambled ? 0x91 : 0x81);  // original
    out.u8((header.pts ? 0x80u : 0u) | (header.dts ? 0x40u : 0u) | (header.buffer_bound ? 1u : 0u));
    out.u8(size - 9);
    if (header.pts) write_timestamp(out, header.dts ? 3 : 2, *header.pts);
    if (header.dts) write_timestamp(out, 1, *header.dts);
    if (header.buffer_bound) {
        out.u8(0x1E);  // only the P-STD buffer fields follow
        out.u16(0x4000u | *header.buffer_bound);
    }
    out.fill(header.stuffing, 0xFF);
}

void write_padding(base::ByteWriter& out, std::size_t size) {
    out.u24(1);
    out.u8(kPadding);
    out.u16(size - 6);
    out.fill(size - 6, 0xFF);
}

}  // namespace wavecrest::container::ps
