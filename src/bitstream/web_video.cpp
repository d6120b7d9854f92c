#include "bitstream/web_video.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/bits.hpp"

namespace wavecrest::bitstream {
namespace {

using base::BitReader;

// VP9's colour spaces (7.2.2) as matrix coefficients of H.273.
constexpr int kVp9Matrices[] = {2, 6, 1, 6, 7, 9, 2, 0};

void parse_vp9_colour(BitReader& bits, WebVideoHeader& header) {
    if (header.profile >= 2) header.bit_depth = bits.flag() ? 12 : 10;
    const std::uint32_t space = bits.bits(3);
    header.colour.matrix = kVp9Matrices[space];
    if (header.colour.matrix == 1) header.colour.primaries = header.colour.transfer = 1;
    if (space != 7) {
        header.colour.full_range = bits.flag();
        if (header.profile == 1 || header.profile == 3) {
            header.subsampling_x = bits.flag() ? 1 : 0;
            header.subsampling_y = bits.flag() ? 1 : 0;
            bits.skip(1);
        }
    } else {
        header.colour.full_range = true;
        header.subsampling_x = header.subsampling_y = 0;
        if (header.profile == 1 || header.profile == 3) bits.skip(1);
    }
}

struct Obu {
    int type = 0;
    ByteSpan whole, body;
    bool sized = false;
    std::uint8_t header[2] = {};
    std::size_t header_size = 1;
};
constexpr int kSequenceHeader = 1, kTemporalDelimiter = 2;

std::vector<Obu> split_obus(ByteSpan bytes) {
    std::vector<Obu> units;
    std::size_t at = 0;
    while (at < bytes.size()) {
        const std::size_t begin = at;
        Obu obu;
        obu.header[0] = bytes[at++];
        if ((obu.header[0] & 0x80) != 0) break;
        obu.type = obu.header[0] >> 3 & 15;
        if ((obu.header[0] & 4) != 0) {
            if (at >= bytes.size()) break;
            obu.header[1] = bytes[at++];
            obu.header_size = 2;
        }
        std::size_t size = bytes.size() - at;
        obu.sized = (obu.header[0] & 2) != 0;
        if (obu.sized) {
            std::uint64_t value = 0;
            bool more = true;
            for (int i = 0; i < 8 && more && at < bytes.size(); ++i) {
                value |= std::uint64_t{bytes[at] & 0x7Fu} << (7 * i);
                more = (bytes[at++] & 0x80) != 0;
            }
            if (more || value > bytes.size() - at) break;
            size = static_cast<std::size_t>(value);
        }
        obu.body = bytes.subspan(at, size);
        at += size;
        obu.whole = bytes.subspan(begin, at - begin);
        units.push_back(obu);
    }
    return units;
}

std::uint32_t uvlc(BitReader& bits) {
    int zeros = 0;
    while (bits.ok() && !bits.flag()) ++zeros;
    if (zeros >= 32) return 0xFFFFFFFF;
    return bits.bits(zeros) + (1u << zeros) - 1;
}

// 5.5.1
std::optional<WebVideoHeader> parse_av1_sequence(ByteSpan body) {
    BitReader bits(body);
    WebVideoHeader header;
    header.key = true;
    header.profile = static_cast<int>(bits.bits(3));
    bits.skip(1);
    const bool reduced = bits.flag();
    if (reduced) {
        header.level = static_cast<int>(bits.bits(5));
    } else {
        bool model = false;
        std::uint32_t delay_bits = 0;
        if (bits.flag()) {
            bits.skip(64);
            if (bits.flag()) uvlc(bits);
            model = bits.flag();
            if (model) {
                delay_bits = bits.bits(5) + 1;
                bits.skip(32 + 5 + 5);
            }
        }
        const bool initial_delay = bits.flag();
        const std::uint32_t points = bits.bits(5) + 1;
        for (std::uint32_t i = 0; i < points && bits.ok(); ++i) {
            bits.skip(12);
            const int level = static_cast<int>(bits.bits(5));
            const bool tier = level > 7 && bits.flag();
            if (i == 0) {
                header.level = level;
                header.high_tier = tier;
            }
            if (model && bits.flag()) bits.skip(2 * delay_bits + 1);
            if (initial_delay && bits.flag()) bits.skip(4);
        }
    }
    const int width_bits = static_cast<int>(bits.bits(4)) + 1, height_bits = static_cast<int>(bits.bits(4)) + 1;
    header.width = static_cast<int>(bits.bits(width_bits)) + 1;
    header.height = static_cast<int>(bits.bits(height_bits)) + 1;
    if (!reduced && bits.flag()) bits.skip(7);
    bits.skip(3);
    if (!reduced) {
        bits.skip(4);
        const bool order_hint = bits.flag();
        if (order_hint) bits.skip(2);
        const bool force_choice = bits.flag();
        const std::uint32_t force = force_choice ? 2 : bits.bits(1);
        if (force > 0 && !bits.flag()) bits.skip(1);
        if (order_hint) bits.skip(3);
    }
    bits.skip(3);
    // color_config, 5.5.2
    const bool high = bits.flag();
    header.bit_depth = high ? 10 : 8;
    if (header.profile == 2 && high) header.bit_depth = bits.flag() ? 12 : 10;
    header.monochrome = header.profile != 1 && bits.flag();
    if (bits.flag()) {
        header.colour.primaries = static_cast<int>(bits.bits(8));
        header.colour.transfer = static_cast<int>(bits.bits(8));
        header.colour.matrix = static_cast<int>(bits.bits(8));
    }
    if (header.monochrome) {
        header.colour.full_range = bits.flag();
    } else if (header.colour.primaries == 1 && header.colour.transfer == 13 && header.colour.matrix == 0) {
        header.colour.full_range = true;
        header.subsampling_x = header.subsampling_y = 0;
    } else {
        header.colour.full_range = bits.flag();
        if (header.profile == 1) {
            header.subsampling_x = header.subsampling_y = 0;
        } else if (header.profile == 2) {
            header.subsampling_x = header.bit_depth == 12 ? static_cast<int>(bits.bits(1)) : 1;
            header.subsampling_y =
                header.bit_depth == 12 && header.subsampling_x == 1 ? static_cast<int>(bits.bits(1)) : 0;
        }
        if (header.subsampling_x == 1 && header.subsampling_y == 1)
            header.chroma_position = static_cast<int>(bits.bits(2));
    }
    if (!bits.ok()) return std::nullopt;
    return header;
}

}  // namespace

std::optional<WebVideoHeader> parse_vp8(ByteSpan frame) {
    if (frame.size() < 3) return std::nullopt;
    WebVideoHeader header;
    header.key = (frame[0] & 1) == 0;
    header.profile = frame[0] >> 1 & 7;
    header.shown = (frame[0] & 0x10) != 0;
    if (header.profile > 3) return std::nullopt;
    if (!header.key) return header;
    if (frame.size() < 10 || frame[3] != 0x9D || frame[4] != 0x01 || frame[5] != 0x2A) return std::nullopt;
    header.width = (frame[6] | frame[7] << 8) & 0x3FFF;
    header.height = (frame[8] | frame[9] << 8) & 0x3FFF;
    header.colour = {6, 6, 6, false};
    return header;
}

std::optional<WebVideoHeader> parse_vp9(ByteSpan frame) {
    BitReader bits(frame);
    if (bits.bits(2) != 2) return std::nullopt;
    WebVideoHeader header;
    header.profile = static_cast<int>(bits.bits(1));
    header.profile |= static_cast<int>(bits.bits(1)) << 1;
    if (header.profile == 3) bits.skip(1);
    if (bits.flag()) return header;  // shows a frame again
    header.key = !bits.flag();
    header.shown = bits.flag();
    bits.skip(1);
    if (!header.key) return bits.ok() ? std::optional(header) : std::nullopt;
    if (bits.bits(24) != 0x498342) return std::nullopt;
    parse_vp9_colour(bits, header);
    header.width = static_cast<int>(bits.bits(16)) + 1;
    header.height = static_cast<int>(bits.bits(16)) + 1;
    if (!bits.ok()) return std::nullopt;
    return header;
}

std::optional<WebVideoHeader> parse_av1(ByteSpan temporal_unit) {
    for (const Obu& obu : split_obus(temporal_unit)) {
        if (obu.type == kSequenceHeader) return parse_av1_sequence(obu.body);
    }
    return std::nullopt;
}

bool av1_starts_sequence(ByteSpan temporal_unit) {
    const auto units = split_obus(temporal_unit);
    return std::any_of(units.begin(), units.end(), [](const Obu& obu) { return obu.type == kSequenceHeader; });
}

ByteVector av1_without_delimiters(ByteSpan temporal_unit) {
    ByteVector out;
    out.reserve(temporal_unit.size());
    for (const Obu& obu : split_obus(temporal_unit)) {
        if (obu.type == kTemporalDelimiter) continue;
        if (obu.sized) {
            out.insert(out.end(), obu.whole.begin(), obu.whole.end());
            continue;
        }
        out.push_back(obu.header[0] | 2);
        if (obu.header_size == 2) out.push_back(obu.header[1]);
        std::size_t size = obu.body.size();
        do {
            out.push_back(static_cast<std::uint8_t>((size & 0x7F) | (size > 0x7F ? 0x80 : 0)));
            size >>= 7;
        } while (size > 0);
        out.insert(out.end(), obu.body.begin(), obu.body.end());
    }
    return out;
}

ByteVector make_vp9_config(const WebVideoHeader& header) {
    base::ByteWriter out;
    out.u8(static_cast<unsigned>(header.profile));
    out.u8(static_cast<unsigned>(header.level));
    const unsigned chroma = header.subsampling_x == 0 ? 3 : header.subsampling_y == 0 ? 2 : 1;
    out.u8(static_cast<unsigned>(header.bit_depth) << 4 | chroma << 1 | (header.colour.full_range ? 1u : 0u));
    out.u8(static_cast<unsigned>(header.colour.primaries));
    out.u8(static_cast<unsigned>(header.colour.transfer));
    out.u8(static_cast<unsigned>(header.colour.matrix));
    out.u16(0);
    return out.release();
}

ByteVector make_av1_config(const WebVideoHeader& header, ByteSpan temporal_unit) {
    base::ByteWriter out;
    out.u8(0x81);
    out.u8(static_cast<unsigned>(header.profile) << 5 | static_cast<unsigned>(header.level));
    out.u8((header.high_tier ? 0x80u : 0u) | (header.bit_depth > 8 ? 0x40u : 0u) |
           (header.bit_depth == 12 ? 0x20u : 0u) | (header.monochrome ? 0x10u : 0u) |
           (header.subsampling_x != 0 ? 8u : 0u) | (header.subsampling_y != 0 ? 4u : 0u) |
           static_cast<unsigned>(header.chroma_position));
    out.u8(0);
    for (const Obu& obu : split_obus(temporal_unit)) {
        if (obu.type != kSequenceHeader) continue;
        out.raw(av1_without_delimiters(obu.whole));
        break;
    }
    return out.release();
}

int vp9_level(int width, int height, Ratio frame_rate) {
    // The specification's annex A: luma samples a second, luma samples of a picture.
    struct Level {
        int number;
        std::int64_t rate, size;
    };
    constexpr Level kLevels[] = {{10, 829440, 36864},        {11, 2764800, 73728},      {20, 4608000, 122880},
                                 {21, 9216000, 245760},      {30, 20736000, 552960},    {31, 36864000, 983040},
                                 {40, 83558400, 2228224},    {41, 160432128, 2228224},  {50, 311951360, 8912896},
                                 {51, 588251136, 8912896},   {52, 1176502272, 8912896}, {60, 1176502272, 35651584},
                                 {61, 2353004544, 35651584}, {62, 4706009088, 35651584}};
    const std::int64_t size = std::int64_t{width} * height;
    const double rate = static_cast<double>(size) * frame_rate.value();
    for (const Level& level : kLevels) {
        if (size <= level.size && rate <= static_cast<double>(level.rate)) return level.number;
    }
    return 0;
}

std::string av1_level_name(int index) {
    return index > 23 ? fmt::format("level index {}", index) : fmt::format("{}.{}", 2 + index / 4, index % 4);
}

}  // namespace wavecrest::bitstream
