// Writes H.264 of random but legal syntax: what encoders at hand never use, above all field pictures, in every mixture;
// and says what it looks like.
#pragma once

#include <array>
#include <cstdint>
#include <string>
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
    bool free = false;          // also what the browser's decoder gets wrong
    bool unfiltered = false;    // nothing is deblocked; all else stays
    bool flat = false;          // all levels are 0; all else stays
    std::array<int, 4> crop{};  // cut off to the left, right, above and below, in the units of the sequence
};

struct H264Written {
    Bytes config;
    std::vector<Packet> packets;  // a frame each, lengths in front of units; 25 a second
    // As they are shown, in that order.
    std::vector<Picture> pictures;
    std::vector<std::vector<std::string>> kinds;   // of their macroblocks, for messages
    int columns = 0, crop_left = 0, crop_top = 0;  // in macroblocks; in samples
};
H264Written write_h264(const H264WriterSettings& settings);

}  // namespace wavecrest::test
