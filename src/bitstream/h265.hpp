// H.265 headers (Rec. ITU-T H.265 | ISO/IEC 23008-2): sequence parameter sets, and the configuration record of
// ISO/IEC 14496-15, 8.3.3.1.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream::h265 {

enum NalType { kVps = 32, kSps = 33, kPps = 34, kPrefixSei = 39 };

struct Sps {
    int profile_space = 0;
    bool high_tier = false;
    int profile_idc = 0;
    std::uint32_t compatibility = 0;  // flags, the first is the highest bit
    std::uint64_t constraints = 0;    // 48 bits
    int level_idc = 0;                // thirty times the level
    int chroma_format = 1;
    int bit_depth = 8, chroma_bit_depth = 8;
    int width = 0, height = 0;  // cropped
    int max_sub_layers = 1;
    bool nested = false;
    int decoded_picture_buffer = 0;  // pictures
    int reorder_frames = 0;
    bool field_pictures = false;
    Ratio pixel_aspect{1, 1};
    Ratio frame_rate{0, 1};
    ColourDescription colour;

    std::string profile_name() const;  // "Main", "Main 10" ...
    std::string level_name() const;    // "4.1", "5.1 High"
};

// Parses a NAL unit of type 33, its header included (7.3.2.2 and annex E).
std::optional<Sps> parse_sps(ByteSpan nal);

// What the SEI messages of an access unit's prefix units say of its colours (D.2.28, D.2.35).
void read_sei(ByteSpan nal, Track& track);

// From VPS, SPS and PPS units (an SPS and a PPS at least); empty when the SPS can't be parsed.
ByteVector make_config(const std::vector<ByteSpan>& units);
struct ParameterSets {
    std::vector<ByteSpan> units;
    int length_size = 4;
};
std::optional<ParameterSets> parameter_sets(ByteSpan config);

}  // namespace wavecrest::bitstream::h265
