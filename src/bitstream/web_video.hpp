// Headers of the web's video codecs. VP8: RFC 6386, 9.1. VP9: the bitstream specification, 6.2, and the configuration
// record of its ISO media binding. AV1: the bitstream specification, 5.5, and the record of its ISO media binding.
#pragma once

#include <optional>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

struct WebVideoHeader {
    int profile = 0;
    int level = 0;  // AV1: seq_level_idx; VP9: ten times the level, from size and rate; VP8: 0
    bool high_tier = false;
    int width = 0, height = 0;
    int bit_depth = 8;
    int subsampling_x = 1, subsampling_y = 1;
    bool monochrome = false;
    int chroma_position = 0;  // AV1
    ColourDescription colour;
    bool key = false;
    bool shown = true;
};

// Of a frame that needs no other (VP8, VP9), or the sequence header in a temporal unit (AV1). Frames that build on
// others give `key` false and no size.
std::optional<WebVideoHeader> parse_vp8(ByteSpan frame);
std::optional<WebVideoHeader> parse_vp9(ByteSpan frame);
std::optional<WebVideoHeader> parse_av1(ByteSpan temporal_unit);

// Whether a temporal unit holds a sequence header, with which decoding can start.
bool av1_starts_sequence(ByteSpan temporal_unit);
// Without temporal delimiters, which containers leave out. Units without sizes are given them.
ByteVector av1_without_delimiters(ByteSpan temporal_unit);

// The bodies of the boxes vpcC (without version and flags) and av1C.
ByteVector make_vp9_config(const WebVideoHeader& header);
ByteVector make_av1_config(const WebVideoHeader& header, ByteSpan temporal_unit);

// The level of VP9 (ten times its number) that takes this size and rate; 0 when none does.
int vp9_level(int width, int height, Ratio frame_rate);
// "4.1" of an index of AV1's levels.
std::string av1_level_name(int index);

}  // namespace wavecrest::bitstream
