#include "bitstream/xiph.hpp"

#include <vorbis/codec.h>

#include <algorithm>
#include <array>
#include <string_view>
#include <utility>

#include "base/bits.hpp"

namespace wavecrest::bitstream {
namespace {

using base::ByteReader;
using base::ByteWriter;
using namespace std::string_view_literals;

bool begins(ByteSpan bytes, std::string_view text) {
    return bytes.size() >= text.size() &&
           std::equal(text.begin(), text.end(), bytes.begin(),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

bool audio_mapping(const OpusHead& head) {
    return head.channels > 0 &&
           (head.family == 0 ? head.channels <= 2 : head.mapping.size() == 2u + static_cast<unsigned>(head.channels));
}

std::uint8_t flac_crc8(ByteSpan bytes) {
    unsigned crc = 0;
    for (const std::uint8_t byte : bytes) {
        crc ^= byte;
        for (int i = 0; i < 8; ++i) crc = (crc & 0x80) != 0 ? (crc << 1 ^ 0x07) & 0xFF : crc << 1 & 0xFF;
    }
    return static_cast<std::uint8_t>(crc);
}

constexpr std::array<std::uint16_t, 256> make_crc16_table() {
    std::array<std::uint16_t, 256> table{};
    for (unsigned i = 0; i < 256; ++i) {
        unsigned crc = i << 8;
        for (int k = 0; k < 8; ++k) crc = (crc & 0x8000) != 0 ? (crc << 1 ^ 0x8005) & 0xFFFF : crc << 1 & 0xFFFF;
        table[i] = static_cast<std::uint16_t>(crc);
    }
    return table;
}
constexpr auto kCrc16 = make_crc16_table();

}  // namespace

std::optional<OpusHead> parse_opus_head(ByteSpan b) {
    if (!begins(b, "OpusHead"sv) || b.size() < 19 || b[8] >> 4 != 0) return std::nullopt;
    OpusHead head;
    head.channels = b[9];
    head.pre_skip = static_cast<int>(base::little_endian(b, 10, 2));
    head.input_rate = static_cast<int>(base::little_endian(b, 12, 4));
    head.gain = static_cast<std::int16_t>(base::little_endian(b, 16, 2));
    head.family = b[18];
    if (head.family != 0) {
        const std::size_t size = std::min<std::size_t>(b.size() - 19, 2u + static_cast<unsigned>(head.channels));
        head.mapping.assign(b.begin() + 19, b.begin() + 19 + static_cast<std::ptrdiff_t>(size));
    }
    return audio_mapping(head) ? std::optional(head) : std::nullopt;
}

ByteVector make_opus_head(const OpusHead& head) {
    ByteWriter out;
    out.text("OpusHead");
    out.u8(1);
    out.u8(static_cast<unsigned>(head.channels));
    const auto little = [&](std::uint32_t value, int count) {
        for (int i = 0; i < count; ++i) out.u8(value >> (8 * i) & 0xFF);
    };
    little(static_cast<std::uint32_t>(head.pre_skip), 2);
    little(static_cast<std::uint32_t>(head.input_rate), 4);
    little(static_cast<std::uint32_t>(head.gain) & 0xFFFF, 2);
    out.u8(static_cast<unsigned>(head.family));
    out.raw(head.mapping);
    return out.release();
}

std::optional<OpusHead> parse_opus_box(ByteSpan bytes) {
    ByteReader reader(bytes);
    if (reader.u8() != 0) return std::nullopt;
    OpusHead head;
    head.channels = reader.u8();
    head.pre_skip = reader.u16();
    head.input_rate = static_cast<int>(reader.u32());
    head.gain = static_cast<std::int16_t>(reader.u16());
    head.family = reader.u8();
    if (head.family != 0) {
        const ByteSpan mapping = reader.take(2u + static_cast<unsigned>(head.channels));
        head.mapping.assign(mapping.begin(), mapping.end());
    }
    return reader.ok() && audio_mapping(head) ? std::optional(head) : std::nullopt;
}

ByteVector make_opus_box(const OpusHead& head) {
    ByteWriter out;
    out.u8(0);
    out.u8(static_cast<unsigned>(head.channels));
    out.u16(static_cast<unsigned>(head.pre_skip));
    out.u32(static_cast<unsigned>(head.input_rate));
    out.u16(static_cast<std::uint16_t>(head.gain));
    out.u8(static_cast<unsigned>(head.family));
    out.raw(head.mapping);
    return out.release();
}

int opus_packet_samples(ByteSpan packet) {
    if (packet.empty()) return 0;
    // Frame sizes by configuration, in units of 2.5 ms (table 2).
    const int config = packet[0] >> 3;
    int size = 0;
    if (config < 12) {
        constexpr int kSilk[] = {4, 8, 16, 24};
        size = kSilk[config & 3];
    } else if (config < 16) {
        size = 4 << (config & 1);
    } else {
        size = 1 << (config & 3);
    }
    const int code = packet[0] & 3;
    int frames = code == 0 ? 1 : 2;
    if (code == 3) {
        if (packet.size() < 2) return 0;
        frames = packet[1] & 63;
    }
    const int samples = frames * size * 120;
    return samples <= 5760 ? samples : 0;
}

ByteVector join_vorbis_headers(ByteSpan identification, ByteSpan comment, ByteSpan setup) {
    ByteVector out{2};
    for (const ByteSpan header : {identification, comment}) {
        out.insert(out.end(), header.size() / 255, 255);
        out.push_back(static_cast<std::uint8_t>(header.size() % 255));
    }
    for (const ByteSpan header : {identification, comment, setup}) out.insert(out.end(), header.begin(), header.end());
    return out;
}

std::optional<std::vector<ByteSpan>> split_vorbis_headers(ByteSpan joined) {
    ByteReader reader(joined);
    if (reader.u8() != 2) return std::nullopt;
    std::size_t sizes[2] = {};
    for (std::size_t& size : sizes) {
        std::uint8_t part = 255;
        while (part == 255 && reader.ok()) {
            part = reader.u8();
            size += part;
        }
    }
    std::vector<ByteSpan> headers;
    headers.push_back(reader.take(sizes[0]));
    headers.push_back(reader.take(sizes[1]));
    headers.push_back(reader.take(reader.remaining()));
    if (!reader.ok() || headers[2].empty()) return std::nullopt;
    return headers;
}

std::optional<VorbisHead> parse_vorbis_head(ByteSpan b) {
    if (!begins(b, "\x01vorbis"sv) || b.size() < 30) return std::nullopt;
    VorbisHead head;
    head.channels = b[11];
    head.sample_rate = static_cast<int>(base::little_endian(b, 12, 4) & 0x7FFFFFFF);
    head.nominal_bps = static_cast<std::int32_t>(base::little_endian(b, 20, 4));
    if (head.channels == 0 || head.sample_rate == 0) return std::nullopt;
    return head;
}

struct VorbisTimer::State {
    vorbis_info info{};
    vorbis_comment comment{};
    long before = 0;
    State() {
        vorbis_info_init(&info);
        vorbis_comment_init(&comment);
    }
    ~State() {
        vorbis_comment_clear(&comment);
        vorbis_info_clear(&info);
    }
    State(const State&) = delete;
    State& operator=(const State&) = delete;
};

VorbisTimer::VorbisTimer(std::unique_ptr<State> state) : state_(std::move(state)) {}
VorbisTimer::~VorbisTimer() = default;

std::unique_ptr<VorbisTimer> VorbisTimer::create(ByteSpan joined) {
    const auto headers = split_vorbis_headers(joined);
    if (!headers) return nullptr;
    auto state = std::make_unique<State>();
    for (std::size_t i = 0; i < 3; ++i) {
        ByteVector copy((*headers)[i].begin(), (*headers)[i].end());
        ogg_packet packet{};
        packet.packet = copy.data();
        packet.bytes = static_cast<long>(copy.size());
        packet.b_o_s = i == 0;
        packet.packetno = static_cast<ogg_int64_t>(i);
        if (vorbis_synthesis_headerin(&state->info, &state->comment, &packet) != 0) return nullptr;
    }
    return std::unique_ptr<VorbisTimer>(new VorbisTimer(std::move(state)));
}

int VorbisTimer::samples(ByteSpan bytes) {
    if (bytes.empty()) return 0;
    // Only the first bits are looked at; the library wants them writable.
    std::array<unsigned char, 16> copy{};
    std::copy_n(bytes.begin(), std::min(bytes.size(), copy.size()), copy.begin());
    ogg_packet packet{};
    packet.packet = copy.data();
    packet.bytes = static_cast<long>(std::min(bytes.size(), copy.size()));
    const long block = vorbis_packet_blocksize(&state_->info, &packet);
    if (block <= 0) return 0;
    const long before = std::exchange(state_->before, block);
    return before == 0 ? 0 : static_cast<int>(before / 4 + block / 4);
}

void VorbisTimer::restart() {
    state_->before = 0;
}

std::optional<FlacInfo> parse_flac_info(ByteSpan body) {
    if (body.size() < kFlacStreamInfo) return std::nullopt;
    base::BitReader bits(body);
    FlacInfo info;
    info.min_block = static_cast<int>(bits.bits(16));
    info.max_block = static_cast<int>(bits.bits(16));
    bits.skip(48);
    info.sample_rate = static_cast<int>(bits.bits(20));
    info.channels = static_cast<int>(bits.bits(3)) + 1;
    info.bits = static_cast<int>(bits.bits(5)) + 1;
    info.samples = std::uint64_t{bits.bits(4)} << 32;
    info.samples |= bits.bits(32);
    if (info.sample_rate == 0 || info.max_block < 16) return std::nullopt;
    return info;
}

std::optional<FlacFrame> parse_flac_frame(ByteSpan bytes) {
    if (bytes.size() < 6 || bytes[0] != 0xFF || (bytes[1] & 0xFE) != 0xF8) return std::nullopt;
    const int block = bytes[2] >> 4, rate = bytes[2] & 15, assignment = bytes[3] >> 4;
    if (block == 0 || rate == 15 || assignment > 10 || (bytes[3] & 1) != 0) return std::nullopt;
    FlacFrame frame;
    frame.variable = (bytes[1] & 1) != 0;
    // The number is coded like UTF-8, with up to seven bytes.
    std::size_t at = 4;
    const std::uint8_t first = bytes[at++];
    int more = 0;
    if (first < 0x80) {
        frame.number = first;
    } else {
        while (more < 7 && (first & 0x80 >> more) != 0) ++more;
        if (more < 2) return std::nullopt;
        frame.number = more < 7 ? first & (0x7Fu >> more) : 0;
        --more;
    }
    for (; more > 0; --more) {
        if (at >= bytes.size() || (bytes[at] & 0xC0) != 0x80) return std::nullopt;
        frame.number = frame.number << 6 | (bytes[at++] & 0x3Fu);
    }
    const auto take = [&](int count) {
        unsigned value = 0;
        for (int i = 0; i < count && at < bytes.size(); ++i) value = value << 8 | bytes[at++];
        return static_cast<int>(value);
    };
    if (block == 1) {
        frame.samples = 192;
    } else if (block <= 5) {
        frame.samples = 576 << (block - 2);
    } else if (block == 6) {
        frame.samples = take(1) + 1;
    } else if (block == 7) {
        frame.samples = take(2) + 1;
    } else {
        frame.samples = 256 << (block - 8);
    }
    constexpr int kRates[] = {0, 88200, 176400, 192000, 8000, 16000, 22050, 24000, 32000, 44100, 48000, 96000};
    if (rate < 12) frame.sample_rate = kRates[rate];
    if (rate == 12) frame.sample_rate = take(1) * 1000;
    if (rate == 13) frame.sample_rate = take(2);
    if (rate == 14) frame.sample_rate = take(2) * 10;
    if (at >= bytes.size() || flac_crc8(bytes.first(at)) != bytes[at]) return std::nullopt;
    frame.header_bytes = at + 1;
    return frame;
}

std::uint16_t flac_crc16(ByteSpan bytes, std::uint16_t before) {
    unsigned crc = before;
    for (const std::uint8_t byte : bytes) crc = (crc << 8 ^ kCrc16[(crc >> 8 ^ byte) & 0xFF]) & 0xFFFF;
    return static_cast<std::uint16_t>(crc);
}

}  // namespace wavecrest::bitstream
