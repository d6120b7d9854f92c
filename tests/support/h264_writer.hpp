// Writes H.264 of random but legal syntax: what encoders at hand never use, above all field pictures, in every mixture.
// What it looks like is for decoders to say; they have to agree.
#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::test {

struct H264WriterSettings {
    std::uint32_t seed = 1;
    int columns = 5, rows = 6;  // macroblocks of a frame; rows even where there are fields
    int pictures = 12;          // frames or pairs of fields
    bool cabac = false;
    bool frames_only = true;
    int fields = 0;         // of 100 pictures coded as two fields
    bool adaptive = false;  // frames of pairs; without residuals, CAVLC alone
    bool inference = true;  // direct_8x8_inference_flag
    int order_type = 0;
    int references = 4;  // frames
    bool b_slices = false;
    bool temporal = false;  // direct prediction; else spatial
    bool weighted_p = false;
    int weighted_b = 0;
    bool transform8 = false;
    bool constrained_intra = false;
    bool scaling = false;       // lists of weights, sent in part
    bool slices = false;        // several a picture, of mixed types
    bool reordered = false;     // lists changed by commands
    bool long_term = false;     // and other memory management
    bool gaps = false;          // in frame_num
    bool timed = true;          // the sequence tells its rate
    int residual = 40;          // of 100 blocks that might have coefficients
    int intra = 10;             // of 100 macroblocks in P and B slices
    std::array<int, 4> crop{};  // cut off to the left, right, above and below, in the units of the sequence
};

struct H264Written {
    Bytes config;
    std::vector<Packet> packets;  // a frame each, lengths in front of units; 25 a second
};
H264Written write_h264(const H264WriterSettings& settings);

}  // namespace wavecrest::test
