#include "bitstream/h265.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/bits.hpp"
#include "bitstream/frame_packing.hpp"
#include "bitstream/nal.hpp"

namespace wavecrest::bitstream::h265 {
namespace {

using base::BitReader;

int unit_type(ByteSpan unit) {
    return nal::type(Codec::h265, unit);
}

// 7.3.3
void parse_profile_tier_level(BitReader& bits, Sps& sps) {
    sps.profile_space = static_cast<int>(bits.bits(2));
    sps.high_tier = bits.flag();
    sps.profile_idc = static_cast<int>(bits.bits(5));
    sps.compatibility = bits.bits(32);
    sps.constraints = std::uint64_t{bits.bits(16)} << 32;
    sps.constraints |= bits.bits(32);
    sps.level_idc = static_cast<int>(bits.bits(8));
    bool profile[8] = {}, level[8] = {};
    const int layers = sps.max_sub_layers - 1;
    for (int i = 0; i < layers; ++i) {
        profile[i] = bits.flag();
        level[i] = bits.flag();
    }
    if (layers > 0) bits.skip(static_cast<std::size_t>(2 * (8 - layers)));
    for (int i = 0; i < layers; ++i) bits.skip((profile[i] ? 88u : 0u) + (level[i] ? 8u : 0u));
}

// 7.3.4
void skip_scaling_lists(BitReader& bits) {
    for (int size = 0; size < 4; ++size) {
        for (int matrix = 0; matrix < 6; matrix += size == 3 ? 3 : 1) {
            if (!bits.flag()) {
                bits.ue();
                continue;
            }
            const int count = std::min(64, 1 << (4 + (size << 1)));
            if (size > 1) bits.se();
            for (int i = 0; i < count && bits.ok(); ++i) bits.se();
        }
    }
}

// 7.3.7; gives the number of pictures of the set, -1 when it is malformed.
int parse_reference_set(BitReader& bits, int index, const std::vector<int>& before) {
    const bool predicted = index != 0 && bits.flag();
    if (predicted) {
        bits.skip(1);
        bits.ue();
        int count = 0;
        for (int i = 0; i <= before.back() && bits.ok(); ++i) {
            const bool used = bits.flag();
            const bool kept = used || bits.flag();
            count += kept ? 1 : 0;
        }
        return count;
    }
    const std::uint32_t negative = bits.ue(), positive = bits.ue();
    if (negative > 16 || positive > 16) return -1;
    for (std::uint32_t i = 0; i < negative + positive; ++i) {
        bits.ue();
        bits.skip(1);
    }
    return static_cast<int>(negative + positive);
}

// E.2.1
void parse_vui(BitReader& bits, Sps& sps) {
    nal::parse_usability(bits, sps.pixel_aspect, sps.colour);
    bits.skip(1);
    sps.field_pictures = bits.flag();
    bits.skip(1);
    if (bits.flag()) {
        for (int i = 0; i < 4; ++i) bits.ue();
    }
    if (bits.flag()) {
        const std::uint32_t units = bits.bits(32), scale = bits.bits(32);
        if (bits.ok() && units != 0) sps.frame_rate = base::reduced({scale, units});
    }
}

}  // namespace

std::string Sps::profile_name() const {
    switch (profile_idc) {
        case 1:
            return "Main";
        case 2:
            return "Main 10";
        case 3:
            return "Main Still Picture";
        case 4:
            return "Format Range Extensions";
        case 5:
            return "High Throughput";
        default:
            return fmt::format("profile {}", profile_idc);
    }
}

std::string Sps::level_name() const {
    const int tenths = level_idc / 3;
    return fmt::format("{}{}{}", tenths / 10, tenths % 10 == 0 ? "" : fmt::format(".{}", tenths % 10),
                       high_tier ? " High" : "");
}

std::optional<Sps> parse_sps(ByteSpan unit) {
    if (unit.size() < 16 || unit_type(unit) != kSps) return std::nullopt;
    const ByteVector rbsp = nal::unescape(unit.subspan(2));
    BitReader bits(rbsp);
    Sps sps;
    bits.skip(4);
    sps.max_sub_layers = static_cast<int>(bits.bits(3)) + 1;
    sps.nested = bits.flag();
    if (sps.max_sub_layers > 7) return std::nullopt;
    parse_profile_tier_level(bits, sps);
    bits.ue();
    sps.chroma_format = static_cast<int>(bits.ue());
    if (sps.chroma_format > 3) return std::nullopt;
    if (sps.chroma_format == 3) bits.skip(1);
    const std::uint32_t width = bits.ue(), height = bits.ue();
    if (!bits.ok() || width == 0 || height == 0 || width > 16384 || height > 16384) return std::nullopt;
    sps.width = static_cast<int>(width);
    sps.height = static_cast<int>(height);
    if (bits.flag()) {
        const int unit_x = sps.chroma_format == 1 || sps.chroma_format == 2 ? 2 : 1;
        const int unit_y = sps.chroma_format == 1 ? 2 : 1;
        const std::int64_t left = bits.ue(), right = bits.ue(), top = bits.ue(), bottom = bits.ue();
        const std::int64_t w = sps.width - (left + right) * unit_x, h = sps.height - (top + bottom) * unit_y;
        if (!bits.ok() || w <= 0 || h <= 0) return std::nullopt;
        sps.width = static_cast<int>(w);
        sps.height = static_cast<int>(h);
    }
    sps.bit_depth = 8 + static_cast<int>(std::min(bits.ue(), 64u));
    sps.chroma_bit_depth = 8 + static_cast<int>(std::min(bits.ue(), 64u));
    const std::uint32_t order_bits = std::min(bits.ue(), 64u) + 4;
    if (!bits.ok() || sps.bit_depth > 16 || sps.chroma_bit_depth > 16 || order_bits > 16) return std::nullopt;
    const bool each_layer = bits.flag();
    for (int i = each_layer ? 0 : sps.max_sub_layers - 1; i < sps.max_sub_layers; ++i) {
        sps.decoded_picture_buffer = static_cast<int>(std::min(bits.ue(), 63u)) + 1;
        sps.reorder_frames = static_cast<int>(std::min(bits.ue(), 63u));
        bits.ue();
    }
    for (int i = 0; i < 6; ++i) bits.ue();
    if (bits.flag() && bits.flag()) skip_scaling_lists(bits);
    bits.skip(2);
    if (bits.flag()) {
        bits.skip(8);
        bits.ue();
        bits.ue();
        bits.skip(1);
    }
    const std::uint32_t sets = bits.ue();
    if (!bits.ok() || sets > 64) return std::nullopt;
    std::vector<int> counts;
    for (std::uint32_t i = 0; i < sets; ++i) {
        counts.push_back(parse_reference_set(bits, static_cast<int>(i), counts));
        if (counts.back() < 0 || !bits.ok()) return std::nullopt;
    }
    if (bits.flag()) {
        const std::uint32_t count = bits.ue();
        if (count > 32) return std::nullopt;
        bits.skip(count * (order_bits + 1));
    }
    bits.skip(2);
    if (!bits.ok()) return std::nullopt;
    if (bits.flag()) parse_vui(bits, sps);
    return sps;
}

void read_sei(ByteSpan unit, Track& track) {
    for (nal::Messages messages(Codec::h265, unit); const auto message = messages.next();) {
        base::ByteReader body(message->payload);
        if (message->type == 137 && message->payload.size() >= 24) {
            media::MasteringDisplay display;
            // The message names green, blue, red in this order.
            for (const int i : {1, 2, 0}) {
                display.primaries_x[i] = body.u16();
                display.primaries_y[i] = body.u16();
            }
            display.white_x = body.u16();
            display.white_y = body.u16();
            display.max_luminance = body.u32();
            display.min_luminance = body.u32();
            track.mastering_display = display;
        } else if (message->type == 144 && message->payload.size() >= 4) {
            const int brightest = body.u16();
            track.content_light = media::ContentLight{brightest, body.u16()};
        } else if (message->type == kFramePackingMessage) {
            take_frame_packing(parse_frame_packing(Codec::h265, message->payload), track);
        }
    }
}

ByteVector make_config(const std::vector<ByteSpan>& units) {
    const auto found = std::find_if(units.begin(), units.end(), [](ByteSpan u) { return unit_type(u) == kSps; });
    const auto sps = found != units.end() ? parse_sps(*found) : std::nullopt;
    if (!sps) return {};
    base::ByteWriter out;
    out.u8(1);
    out.u8(static_cast<unsigned>(sps->profile_space) << 6 | (sps->high_tier ? 0x20u : 0u) |
           static_cast<unsigned>(sps->profile_idc));
    out.u32(sps->compatibility);
    out.u16(sps->constraints >> 32);
    out.u32(sps->constraints);
    out.u8(static_cast<unsigned>(sps->level_idc));
    out.u16(0xF000);
    out.u8(0xFC);
    out.u8(0xFC | static_cast<unsigned>(sps->chroma_format));
    out.u8(0xF8 | static_cast<unsigned>(sps->bit_depth - 8));
    out.u8(0xF8 | static_cast<unsigned>(sps->chroma_bit_depth - 8));
    out.u16(0);
    out.u8(static_cast<unsigned>(sps->max_sub_layers) << 3 | (sps->nested ? 4u : 0u) | 3u);
    std::vector<int> types;
    for (const int type : {kVps, kSps, kPps}) {
        if (std::any_of(units.begin(), units.end(), [&](ByteSpan u) { return unit_type(u) == type; }))
            types.push_back(type);
    }
    out.u8(types.size());
    for (const int type : types) {
        out.u8(0x80u | static_cast<unsigned>(type));  // all of this type are here
        out.u16(static_cast<std::uint64_t>(
            std::count_if(units.begin(), units.end(), [&](ByteSpan u) { return unit_type(u) == type; })));
        for (const ByteSpan unit : units) {
            if (unit_type(unit) != type) continue;
            out.u16(unit.size());
            out.raw(unit);
        }
    }
    return out.release();
}

std::optional<ParameterSets> parameter_sets(ByteSpan config) {
    base::ByteReader reader(config);
    reader.skip(21);
    ParameterSets sets;
    sets.length_size = (reader.u8() & 3) + 1;
    for (int arrays = reader.u8(); arrays > 0 && reader.ok(); --arrays) {
        reader.skip(1);
        for (int count = reader.u16(); count > 0 && reader.ok(); --count) {
            const ByteSpan unit = reader.take(reader.u16());
            if (!unit.empty()) sets.units.push_back(unit);
        }
    }
    if (!reader.ok()) return std::nullopt;
    return sets;
}

}  // namespace wavecrest::bitstream::h265
