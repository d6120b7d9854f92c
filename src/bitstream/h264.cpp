#include "bitstream/h264.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>

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

// Zig-zag scans of frames (table 8-2, 8-9 in clause 8.5.6 and 8.5.7): raster place by index.
constexpr std::uint8_t kZigzag4[16] = {0, 1, 4, 8, 5, 2, 3, 6, 9, 12, 13, 10, 7, 11, 14, 15};
constexpr std::uint8_t kZigzag8[64] = {0,  1,  8,  16, 9,  2,  3,  10, 17, 24, 32, 25, 18, 11, 4,  5,
                                       12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6,  7,  14, 21, 28,
                                       35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51,
                                       58, 59, 52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63};
// Tables 7-3 and 7-4, in zig-zag order.
constexpr std::uint8_t kDefaultSmall[2][16] = {{6, 13, 13, 20, 20, 20, 28, 28, 28, 28, 32, 32, 32, 37, 37, 42},
                                               {10, 14, 14, 20, 20, 20, 24, 24, 24, 24, 27, 27, 27, 30, 30, 34}};
constexpr std::uint8_t kDefaultLarge[2][64] = {
    {6,  10, 10, 13, 11, 13, 16, 16, 16, 16, 18, 18, 18, 18, 18, 23, 23, 23, 23, 23, 23, 25,
     25, 25, 25, 25, 25, 25, 27, 27, 27, 27, 27, 27, 27, 27, 29, 29, 29, 29, 29, 29, 29, 31,
     31, 31, 31, 31, 31, 33, 33, 33, 33, 33, 36, 36, 36, 36, 38, 38, 38, 40, 40, 42},
    {9,  13, 13, 15, 13, 15, 17, 17, 17, 17, 19, 19, 19, 19, 19, 21, 21, 21, 21, 21, 21, 22,
     22, 22, 22, 22, 22, 22, 24, 24, 24, 24, 24, 24, 24, 24, 25, 25, 25, 25, 25, 25, 25, 27,
     27, 27, 27, 27, 27, 28, 28, 28, 28, 28, 30, 30, 30, 30, 32, 32, 32, 33, 33, 35}};

template <std::size_t Size>
void place(std::array<std::uint8_t, Size>& list, const std::uint8_t* values) {
    for (std::size_t i = 0; i < Size; ++i) list[Size == 16 ? kZigzag4[i] : kZigzag8[i]] = values[i];
}

// 7.3.2.1.1.1. False: the default list is meant.
template <std::size_t Size>
bool parse_list(base::BitReader& bits, std::array<std::uint8_t, Size>& list) {
    int last = 8, next = 8;
    std::uint8_t values[Size];
    for (std::size_t i = 0; i < Size && bits.ok(); ++i) {
        if (next != 0) {
            next = (last + bits.se() + 256) % 256;
            if (i == 0 && next == 0) return false;
        }
        values[i] = static_cast<std::uint8_t>(next == 0 ? last : next);
        last = values[i];
    }
    if (bits.ok()) place(list, values);
    return true;
}

// Between picture order counts. Rubbish may say anything; what is kept can be added up.
int order_difference(base::BitReader& bits) {
    return std::clamp<int>(bits.se(), -(1 << 20), 1 << 20);
}

ScalingLists flat_lists() {
    ScalingLists lists;
    for (auto& list : lists.small) list.fill(16);
    for (auto& list : lists.large) list.fill(16);
    return lists;
}

// Lists with fall-back rule A (a sequence's: the default lists) or B (a picture's: the sequence's).
ScalingLists parse_scaling(base::BitReader& bits, const ScalingLists* sequence, int chroma_format, bool large) {
    ScalingLists lists = flat_lists();
    for (std::size_t i = 0; i < 6; ++i) {
        if (!bits.flag()) {
            if (i % 3 != 0) {
                lists.small[i] = lists.small[i - 1];
            } else if (sequence != nullptr) {
                lists.small[i] = sequence->small[i];
            } else {
                place(lists.small[i], kDefaultSmall[i / 3]);
            }
        } else if (!parse_list(bits, lists.small[i])) {
            place(lists.small[i], kDefaultSmall[i / 3]);
        }
    }
    for (std::size_t i = 0; i < (!large ? 0u : chroma_format == 3 ? 6u : 2u); ++i) {
        std::array<std::uint8_t, 64> unused{};
        auto& list = i < 2 ? lists.large[i] : unused;
        if (!bits.flag()) {
            if (i < 2 && sequence != nullptr) {
                list = sequence->large[i];
            } else {
                place(list, kDefaultLarge[i % 2]);
            }
        } else if (!parse_list(bits, list)) {
            place(list, kDefaultLarge[i % 2]);
        }
    }
    if (!large && sequence != nullptr) lists.large = sequence->large;
    return lists;
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
    bits.skip(5);
    sps.delay_bits = static_cast<int>(bits.bits(5) + 1);
    sps.delay_bits += static_cast<int>(bits.bits(5) + 1);
    bits.skip(5);
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
    sps.pic_struct_present = bits.flag();
    if (bits.flag()) {
        bits.skip(1);
        for (int i = 0; i < 4; ++i) bits.ue();
        const std::uint32_t reorder = bits.ue(), buffered = bits.ue();
        if (bits.ok() && reorder <= 16) sps.reorder_frames = static_cast<int>(reorder);
        if (bits.ok() && buffered <= 16) sps.buffered_frames = static_cast<int>(buffered);
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
    sps.id = static_cast<int>(std::min(bits.ue(), 32u));
    sps.scaling = flat_lists();
    if (has_chroma_fields(sps.profile_idc)) {
        sps.chroma_format = static_cast<int>(bits.ue());
        if (sps.chroma_format > 3) return std::nullopt;
        if (sps.chroma_format == 3) sps.separate_planes = bits.flag();
        sps.bit_depth = 8 + static_cast<int>(std::min(bits.ue(), 64u));
        bits.ue();
        sps.transform_bypass = bits.flag();
        sps.has_scaling = bits.flag();
        if (sps.has_scaling) sps.scaling = parse_scaling(bits, nullptr, sps.chroma_format, true);
    }
    const std::uint32_t number_bits = std::min(bits.ue(), 64u) + 4;
    if (number_bits > 16) return std::nullopt;
    sps.frame_number_bits = static_cast<int>(number_bits);
    const std::uint32_t order = bits.ue();
    if (order > 2) return std::nullopt;
    sps.order_type = static_cast<int>(order);
    if (order == 0) {
        const std::uint32_t order_bits = std::min(bits.ue(), 64u) + 4;
        if (order_bits > 16) return std::nullopt;
        sps.order_bits = static_cast<int>(order_bits);
    } else if (order == 1) {
        sps.delta_order_always_zero = bits.flag();
        sps.offset_for_non_reference = order_difference(bits);
        sps.offset_top_to_bottom = order_difference(bits);
        const std::uint32_t count = bits.ue();
        if (count > 255) return std::nullopt;
        for (std::uint32_t i = 0; i < count; ++i) sps.offsets_for_reference.push_back(order_difference(bits));
    }
    sps.reference_frames = static_cast<int>(bits.ue());
    sps.gaps_allowed = bits.flag();
    const std::uint32_t columns = bits.ue() + 1, rows = bits.ue() + 1;
    sps.frames_only = bits.flag();
    if (!sps.frames_only) sps.macroblock_adaptive = bits.flag();
    sps.direct_8x8_inference = bits.flag();
    if (!bits.ok() || columns > 1024 || rows > 1024) return std::nullopt;
    sps.columns = static_cast<int>(columns);
    sps.rows = static_cast<int>(rows) * (sps.frames_only ? 1 : 2);
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
        sps.crop_left = static_cast<int>(left * unit_x);
        sps.crop_top = static_cast<int>(top * unit_y);
    }
    if (!bits.ok()) return std::nullopt;
    // Usability information that is cut off takes nothing from what came before it.
    if (bits.flag()) parse_vui(bits, sps);
    return sps;
}

std::optional<std::pair<int, int>> pps_ids(ByteSpan nal) {
    if (nal.size() < 2 || (nal[0] & 0x1F) != kPps) return std::nullopt;
    const ByteVector rbsp = nal::unescape(nal.subspan(1), 16);
    base::BitReader bits(rbsp);
    const std::uint32_t id = bits.ue(), sps = bits.ue();
    if (!bits.ok() || id > 255 || sps > 31) return std::nullopt;
    return std::pair(static_cast<int>(id), static_cast<int>(sps));
}

std::optional<Pps> parse_pps(ByteSpan nal, const Sps& sps) {
    if (nal.size() < 2 || (nal[0] & 0x1F) != kPps) return std::nullopt;
    const ByteVector rbsp = nal::unescape(nal.subspan(1));
    base::BitReader bits(rbsp);
    Pps pps;
    const std::uint32_t id = bits.ue(), sps_id = bits.ue();
    if (id > 255 || sps_id > 31) return std::nullopt;
    pps.id = static_cast<int>(id);
    pps.sps_id = static_cast<int>(sps_id);
    pps.cabac = bits.flag();
    pps.bottom_field_order = bits.flag();
    pps.slice_groups = static_cast<int>(std::min(bits.ue(), 64u)) + 1;
    if (pps.slice_groups > 1) return bits.ok() ? std::optional(pps) : std::nullopt;  // refused; the rest is not needed
    for (int& count : pps.references) {
        const std::uint32_t active = bits.ue() + 1;
        if (active > 32) return std::nullopt;
        count = static_cast<int>(active);
    }
    pps.weighted_p = bits.flag();
    pps.weighted_b = static_cast<int>(bits.bits(2));
    pps.qp = 26 + bits.se();
    bits.se();  // of switching slices
    pps.chroma_qp_offset[0] = pps.chroma_qp_offset[1] = bits.se();
    pps.deblocking_control = bits.flag();
    pps.constrained_intra = bits.flag();
    pps.redundant_pictures = bits.flag();
    if (!bits.ok() || pps.weighted_b > 2 || std::abs(pps.chroma_qp_offset[0]) > 12) return std::nullopt;
    pps.scaling = sps.scaling;
    // more_rbsp_data (7.2): something before the last 1.
    std::size_t last = rbsp.size();
    while (last > 0 && rbsp[last - 1] == 0) --last;
    if (last == 0) return std::nullopt;
    std::size_t stop = last * 8 - 1;
    for (int byte = rbsp[last - 1]; (byte & 1) == 0; byte >>= 1) --stop;
    if (bits.bit_position() < stop) {
        pps.transform_8x8 = bits.flag();
        pps.has_scaling = bits.flag();
        if (pps.has_scaling)
            pps.scaling =
                parse_scaling(bits, sps.has_scaling ? &sps.scaling : nullptr, sps.chroma_format, pps.transform_8x8);
        pps.chroma_qp_offset[1] = bits.se();
    }
    if (!bits.ok() || std::abs(pps.chroma_qp_offset[1]) > 12) return std::nullopt;
    return pps;
}

media::Layers layer_of(ByteSpan nal) {
    if (nal.size() < 2) return media::Layers::none;
    const int type = nal[0] & 0x1F;
    if (type == kSubsetSps) {
        // Scalable Baseline and Scalable High; the others are of several views.
        return nal[1] == 83 || nal[1] == 86 ? media::Layers::scalable : media::Layers::second_view;
    }
    // svc_extension_flag
    if (type == kExtensionSlice) return (nal[1] & 0x80) != 0 ? media::Layers::scalable : media::Layers::second_view;
    return media::Layers::none;
}

std::optional<int> picture_structure(ByteSpan payload, const Sps& sps) {
    if (!sps.pic_struct_present) return std::nullopt;
    base::BitReader bits(payload);
    bits.skip(static_cast<std::size_t>(sps.delay_bits));
    const auto structure = static_cast<int>(bits.bits(4));
    return bits.ok() && structure <= 8 ? std::optional(structure) : std::nullopt;
}

std::optional<std::pair<int, int>> slice_pps_id(ByteSpan rbsp) {
    base::BitReader bits(rbsp);
    const std::uint32_t first = bits.ue();
    bits.ue();
    const std::uint32_t id = bits.ue();
    if (!bits.ok() || first > (1u << 20) || id > 255) return std::nullopt;
    return std::pair(static_cast<int>(first), static_cast<int>(id));
}

namespace {

// 7.3.3.2
bool parse_weights(base::BitReader& bits, const Sps& sps, SliceHeader& slice) {
    const std::uint32_t luma = bits.ue(), chroma = sps.chroma_format != 0 ? bits.ue() : 0;
    if (luma > 7 || chroma > 7) return false;
    slice.luma_denominator = static_cast<int>(luma);
    slice.chroma_denominator = static_cast<int>(chroma);
    for (int list = 0; list < (slice.type == SliceType::b ? 2 : 1); ++list) {
        for (int i = 0; i < slice.references[list] && bits.ok(); ++i) {
            SliceHeader::Weight weight;
            weight.weight[0] = 1 << luma;
            weight.weight[1] = weight.weight[2] = 1 << chroma;
            if (bits.flag()) {
                weight.weight[0] = bits.se();
                weight.offset[0] = bits.se();
            }
            if (sps.chroma_format != 0 && bits.flag()) {
                for (int c = 1; c < 3; ++c) {
                    weight.weight[c] = bits.se();
                    weight.offset[c] = bits.se();
                }
            }
            for (int c = 0; c < 3; ++c) {
                if (std::abs(weight.weight[c]) > 128 || std::abs(weight.offset[c]) > 128) return false;
            }
            slice.weights[list].push_back(weight);
        }
    }
    return true;
}

// 7.3.3.3
bool parse_marking(base::BitReader& bits, SliceHeader& slice) {
    if (slice.nal_type == kIdrSlice) {
        slice.no_output_of_prior = bits.flag();
        slice.long_term = bits.flag();
        return true;
    }
    slice.adaptive_marking = bits.flag();
    while (slice.adaptive_marking && bits.ok()) {
        SliceHeader::Marking marking;
        const std::uint32_t operation = bits.ue();
        if (operation == 0) break;
        if (operation > 6 || slice.markings.size() > 66) return false;
        marking.operation = static_cast<int>(operation);
        if (operation != 5) marking.a = bits.ue();
        if (operation == 3) marking.b = bits.ue();
        slice.markings.push_back(marking);
    }
    return true;
}

}  // namespace

std::optional<SliceHeader> parse_slice_header(int nal_header, ByteSpan rbsp, const Sps& sps, const Pps& pps) {
    base::BitReader bits(rbsp);
    SliceHeader slice;
    slice.nal_type = nal_header & 0x1F;
    slice.nal_ref_idc = nal_header >> 5 & 3;
    const std::uint32_t first = bits.ue(), type = bits.ue();
    slice.pps_id = static_cast<int>(bits.ue());
    if (type > 9) return std::nullopt;
    slice.type = static_cast<SliceType>(type % 5);
    slice.frame_num = static_cast<int>(bits.bits(sps.frame_number_bits));
    if (!sps.frames_only) {
        slice.field = bits.flag();
        if (slice.field) slice.bottom = bits.flag();
    }
    if (slice.nal_type == kIdrSlice) slice.idr_id = static_cast<int>(bits.ue());
    if (sps.order_type == 0) {
        slice.order_lsb = static_cast<int>(bits.bits(sps.order_bits));
        if (pps.bottom_field_order && !slice.field) slice.delta_order_bottom = order_difference(bits);
    } else if (sps.order_type == 1 && !sps.delta_order_always_zero) {
        slice.delta_order[0] = order_difference(bits);
        if (pps.bottom_field_order && !slice.field) slice.delta_order[1] = order_difference(bits);
    }
    if (pps.redundant_pictures) slice.redundant = static_cast<int>(std::min(bits.ue(), 128u));
    if (slice.type == SliceType::b) slice.direct_spatial = bits.flag();
    const int lists = slice.type == SliceType::b                                  ? 2
                      : slice.type == SliceType::p || slice.type == SliceType::sp ? 1
                                                                                  : 0;
    if (lists > 0) {
        for (int i = 0; i < lists; ++i) slice.references[i] = pps.references[i];
        if (bits.flag()) {
            for (int i = 0; i < lists; ++i) slice.references[i] = static_cast<int>(std::min(bits.ue(), 64u)) + 1;
        }
        for (int i = 0; i < lists; ++i) {
            if (slice.references[i] > (slice.field ? 32 : 16)) return std::nullopt;
        }
    }
    for (int i = 0; i < lists; ++i) {
        if (!bits.flag()) continue;
        while (bits.ok()) {
            SliceHeader::Modification one;
            one.operation = static_cast<int>(std::min(bits.ue(), 9u));
            if (one.operation == 3) break;
            if (one.operation > 2 || slice.modifications[i].size() > 66) return std::nullopt;
            one.value = bits.ue();
            slice.modifications[i].push_back(one);
        }
    }
    if ((pps.weighted_p && lists == 1) || (pps.weighted_b == 1 && lists == 2)) {
        if (!parse_weights(bits, sps, slice)) return std::nullopt;
    }
    if (slice.nal_ref_idc != 0 && !parse_marking(bits, slice)) return std::nullopt;
    if (pps.cabac && lists > 0) slice.cabac_init = static_cast<int>(std::min(bits.ue(), 3u));
    slice.qp = pps.qp + bits.se();
    if (slice.type == SliceType::sp || slice.type == SliceType::si) {
        if (slice.type == SliceType::sp) bits.skip(1);
        bits.se();
    }
    if (pps.deblocking_control) {
        slice.deblocking = static_cast<int>(std::min(bits.ue(), 3u));
        if (slice.deblocking != 1) {
            slice.alpha_offset = bits.se() * 2;
            slice.beta_offset = bits.se() * 2;
        }
    }
    const int macroblocks = sps.columns * sps.rows;
    if (!bits.ok() || slice.cabac_init > 2 || slice.deblocking > 2 || slice.qp < 0 || slice.qp > 51 ||
        std::abs(slice.alpha_offset) > 12 || std::abs(slice.beta_offset) > 12 ||
        first >= static_cast<std::uint32_t>(macroblocks))
        return std::nullopt;
    slice.first_mb = static_cast<int>(first);
    slice.bits = bits.bit_position();
    return slice;
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
