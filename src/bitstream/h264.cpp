#include "bitstream/h264.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/bits.hpp"
#include "bitstream/nal.hpp"

namespace wavecrest::bitstream::h264 {
namespace {

bool has_chroma_fields(int profile) {
    switch (profile) {
        case 100:
        case 110:
        case 122:
        case 244:
        case 44:
        case 83:
        case 86:
        case 118:
        case 128:
        case 138:
        case 139:
        case 134:
        case 135:
            return true;
        default:
            return false;
    }
}

void skip_scaling_list(base::BitReader& bits, int size) {
    int last = 8, next = 8;
    for (int i = 0; i < size && bits.ok(); ++i) {
        if (next != 0) next = (last + bits.se() + 256) % 256;
        last = next == 0 ? last : next;
    }
}

// E.1.2; the first schedule counts.
void parse_hrd(base::BitReader& bits, Sps& sps) {
    const std::uint32_t schedules = bits.ue() + 1;
    const std::uint32_t rate_scale = bits.bits(4), size_scale = bits.bits(4);
    for (std::uint32_t i = 0; i < schedules && i < 32 && bits.ok(); ++i) {
        const std::int64_t rate = (std::int64_t{bits.ue()} + 1) << (6 + rate_scale);
        const std::int64_t size = (std::int64_t{bits.ue()} + 1) << (4 + size_scale);
        bits.skip(1);
        if (i == 0 && bits.ok()) {
            sps.bitrate_bps = rate;
            sps.buffer_bits = size;
        }
    }
    bits.skip(20);
}

void parse_vui(base::BitReader& bits, Sps& sps) {
    nal::parse_usability(bits, sps.pixel_aspect, sps.colour);
    if (bits.flag()) {
        const std::uint32_t units = bits.bits(32), scale = bits.bits(32);
        if (bits.ok() && units != 0) sps.frame_rate = base::reduced({scale, 2LL * units});
        sps.fixed_frame_rate = bits.flag();
    }
    const bool nal_buffer = bits.flag();
    if (nal_buffer) parse_hrd(bits, sps);
    const bool vcl_buffer = bits.flag();
    if (vcl_buffer) parse_hrd(bits, sps);
    if (nal_buffer || vcl_buffer) bits.skip(1);
    bits.skip(1);
    if (bits.flag()) {
        bits.skip(1);
        for (int i = 0; i < 4; ++i) bits.ue();
        const std::uint32_t reorder = bits.ue();
        if (bits.ok() && reorder <= 16) sps.reorder_frames = static_cast<int>(reorder);
    }
}

}  // namespace

std::string Sps::profile_name() const {
    switch (profile_idc) {
        case 66:
            return (constraint_flags & 0x40) != 0 ? "Constrained Baseline" : "Baseline";
        case 77:
            return "Main";
        case 88:
            return "Extended";
        case 100:
            return "High";
        case 110:
            return "High 10";
        case 122:
            return "High 4:2:2";
        case 244:
            return "High 4:4:4 Predictive";
        default:
            return fmt::format("profile {}", profile_idc);
    }
}

std::string Sps::level_name() const {
    if (level_idc == 9 || (level_idc == 11 && profile_idc < 100 && (constraint_flags & 0x10) != 0)) return "1b";
    return level_idc % 10 == 0 ? fmt::format("{}", level_idc / 10)
                               : fmt::format("{}.{}", level_idc / 10, level_idc % 10);
}

std::optional<Sps> parse_sps(ByteSpan nal) {
    if (nal.size() < 4 || (nal[0] & 0x1F) != kSps) return std::nullopt;
    const ByteVector rbsp = nal::unescape(nal.subspan(1));
    base::BitReader bits(rbsp);
    Sps sps;
    sps.profile_idc = static_cast<int>(bits.bits(8));
    sps.constraint_flags = static_cast<int>(bits.bits(8));
    sps.level_idc = static_cast<int>(bits.bits(8));
    bits.ue();  // identifier
    if (has_chroma_fields(sps.profile_idc)) {
        sps.chroma_format = static_cast<int>(bits.ue());
        if (sps.chroma_format > 3) return std::nullopt;
        if (sps.chroma_format == 3) sps.separate_planes = bits.flag();
        sps.bit_depth = 8 + static_cast<int>(std::min(bits.ue(), 64u));
        bits.ue();
        bits.skip(1);
        if (bits.flag()) {
            for (int i = 0; i < (sps.chroma_format == 3 ? 12 : 8); ++i) {
                if (bits.flag()) skip_scaling_list(bits, i < 6 ? 16 : 64);
            }
        }
    }
    const std::uint32_t number_bits = std::min(bits.ue(), 64u) + 4;
    if (number_bits > 16) return std::nullopt;
    sps.frame_number_bits = static_cast<int>(number_bits);
    const std::uint32_t order = bits.ue();
    if (order == 0) {
        bits.ue();
    } else if (order == 1) {
        bits.skip(1);
        bits.se();
        bits.se();
        const std::uint32_t count = bits.ue();
        if (count > 255) return std::nullopt;
        for (std::uint32_t i = 0; i < count; ++i) bits.se();
    }
    sps.reference_frames = static_cast<int>(bits.ue());
    bits.skip(1);
    const std::uint32_t columns = bits.ue() + 1, rows = bits.ue() + 1;
    sps.frames_only = bits.flag();
    if (!sps.frames_only) bits.skip(1);
    bits.skip(1);
    if (!bits.ok() || columns > 1024 || rows > 1024) return std::nullopt;
    sps.width = static_cast<int>(columns) * 16;
    sps.height = static_cast<int>(rows) * 16 * (sps.frames_only ? 1 : 2);
    if (bits.flag()) {
        const int unit_x = sps.chroma_format == 1 || sps.chroma_format == 2 ? 2 : 1;
        const int unit_y = (sps.chroma_format == 1 ? 2 : 1) * (sps.frames_only ? 1 : 2);
        const std::int64_t left = bits.ue(), right = bits.ue(), top = bits.ue(), bottom = bits.ue();
        const std::int64_t width = sps.width - (left + right) * unit_x, height = sps.height - (top + bottom) * unit_y;
        if (!bits.ok() || width <= 0 || height <= 0) return std::nullopt;
        sps.width = static_cast<int>(width);
        sps.height = static_cast<int>(height);
    }
    if (!bits.ok()) return std::nullopt;
    // Usability information that is cut off takes nothing from what came before it.
    if (bits.flag()) parse_vui(bits, sps);
    return sps;
}

ByteVector make_config(const std::vector<ByteSpan>& sps, const std::vector<ByteSpan>& pps) {
    base::ByteWriter out;
    out.u8(1);
    out.raw(sps.front().subspan(1, 3));
    out.u8(0xFC | 3);
    const std::size_t sequences = std::min<std::size_t>(sps.size(), 31),
                      pictures = std::min<std::size_t>(pps.size(), 255);
    out.u8(0xE0 | sequences);
    for (std::size_t i = 0; i < sequences; ++i) {
        out.u16(sps[i].size());
        out.raw(sps[i]);
    }
    out.u8(pictures);
    for (std::size_t i = 0; i < pictures; ++i) {
        out.u16(pps[i].size());
        out.raw(pps[i]);
    }
    if (has_chroma_fields(sps.front()[1])) {
        const auto parsed = parse_sps(sps.front());
        const auto depth = static_cast<unsigned>(parsed ? parsed->bit_depth - 8 : 0);
        out.u8(0xFC | static_cast<unsigned>(parsed ? parsed->chroma_format : 1));
        out.u8(0xF8 | depth);
        out.u8(0xF8 | depth);
        out.u8(0);
    }
    return out.release();
}

ByteVector make_config(ByteSpan sps, ByteSpan pps) {
    return make_config(std::vector<ByteSpan>{sps}, std::vector<ByteSpan>{pps});
}

std::optional<ParameterSets> parameter_sets(ByteSpan config) {
    base::ByteReader reader(config);
    if (reader.u8() != 1) return std::nullopt;
    reader.skip(3);
    ParameterSets sets;
    sets.length_size = (reader.u8() & 3) + 1;
    for (int count = reader.u8() & 0x1F; count > 0; --count) sets.units.push_back(reader.take(reader.u16()));
    for (int count = reader.u8(); count > 0; --count) sets.units.push_back(reader.take(reader.u16()));
    std::erase_if(sets.units, [](ByteSpan unit) { return unit.empty(); });
    if (!reader.ok() || sets.units.empty()) return std::nullopt;
    return sets;
}

std::optional<Sps> parse_config(ByteSpan config) {
    base::ByteReader reader(config);
    if (reader.u8() != 1) return std::nullopt;
    reader.skip(4);
    if ((reader.u8() & 0x1F) == 0) return std::nullopt;
    const ByteSpan sps = reader.take(reader.u16());
    return reader.ok() ? parse_sps(sps) : std::nullopt;
}

int level_idc_from_name(const std::string& name) {
    if (name == "1b") return 9;
    if (name.empty() || name.size() > 3 || name[0] < '1' || name[0] > '6') return 0;
    const int major = (name[0] - '0') * 10;
    if (name.size() == 1) return major;
    if (name.size() != 3 || name[1] != '.' || name[2] < '0' || name[2] > '3') return 0;
    return major + (name[2] - '0');
}

std::span<const Level> levels() {
    static constexpr Level kLevels[] = {{10, 1485, 99, 396, 64, 175},
                                        {11, 3000, 396, 900, 192, 500},
                                        {12, 6000, 396, 2376, 384, 1000},
                                        {13, 11880, 396, 2376, 768, 2000},
                                        {20, 11880, 396, 2376, 2000, 2000},
                                        {21, 19800, 792, 4752, 4000, 4000},
                                        {22, 20250, 1620, 8100, 4000, 4000},
                                        {30, 40500, 1620, 8100, 10000, 10000},
                                        {31, 108000, 3600, 18000, 14000, 14000},
                                        {32, 216000, 5120, 20480, 20000, 20000},
                                        {40, 245760, 8192, 32768, 20000, 25000},
                                        {41, 245760, 8192, 32768, 50000, 62500},
                                        {42, 522240, 8704, 34816, 50000, 62500},
                                        {50, 589824, 22080, 110400, 135000, 135000},
                                        {51, 983040, 36864, 184320, 240000, 240000},
                                        {52, 2073600, 36864, 184320, 240000, 240000},
                                        {60, 4177920, 139264, 696320, 240000, 240000},
                                        {61, 8355840, 139264, 696320, 480000, 480000},
                                        {62, 16711680, 139264, 696320, 800000, 800000}};
    return kLevels;
}

double rate_factor(int profile) {
    return profile == 100 ? 1.25 : profile == 110 ? 3.0 : profile >= 122 ? 4.0 : 1.0;
}

}  // namespace wavecrest::bitstream::h264
