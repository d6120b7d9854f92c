// A frame as decoding needs it: samples, and what is kept of each macroblock for neighbours, later pictures and the
// deblocking.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::codec::h264 {

// In quarters of a luma sample.
struct Vector {
    std::int16_t x = 0, y = 0;
    bool operator==(const Vector&) const = default;
};

enum class Kind : std::uint8_t { none, intra4, intra8, intra16, pcm, inter };

// Blocks of 4x4 samples are numbered in raster order (row * 4 + column), blocks of 8x8 as row * 2 + column.
struct Macroblock {
    static constexpr std::uint16_t kNoSlice = 0xFFFF;

    Kind kind = Kind::none;
    bool field = false;  // of a field picture, or a field macroblock of an adaptive frame
    bool skipped = false;
    bool transform8 = false;
    bool whole_direct = false;     // B_Skip or B_Direct_16x16
    std::uint8_t pattern = 0;      // coded_block_pattern: luma in bits 0 to 3, chroma in 4 and 5
    std::uint8_t chroma_mode = 0;  // intra_chroma_pred_mode
    std::uint8_t direct = 0;       // 8x8 blocks that are predicted directly
    std::uint8_t dc_coded = 0;     // bit 0: Y of intra 16x16; 1, 2: Cb, Cr
    std::uint8_t qp = 0, chroma_qp[2] = {0, 0};
    std::uint16_t slice = kNoSlice;        // number in the frame
    std::array<std::uint8_t, 24> coded{};  // total_coeff of Y, Cb (from 16 on), Cr (from 20 on)
    std::array<std::int8_t, 16> modes{};   // Intra4x4PredMode, or that of 8x8 four times; 2 where there is none
    std::array<std::array<std::int8_t, 4>, 2> ref{};           // of 8x8 blocks; -1: the list isn't used
    std::array<std::array<std::int32_t, 4>, 2> ref_picture{};  // the same as reference_id(), -1: none
    std::array<std::array<Vector, 16>, 2> mv{};

    bool intra() const { return kind != Kind::inter && kind != Kind::none; }
};

// Of a picture to refer to: 1 the top field, 2 the bottom field, 3 the frame.
inline constexpr int kTop = 1, kBottom = 2, kFrame = 3;

struct SliceRules {  // for the deblocking
    int deblocking = 0, alpha_offset = 0, beta_offset = 0;
    bool b_slice = false;
};

struct Frame {
    std::uint32_t id = 0;  // never the same for two
    Picture picture;       // whole macroblocks, without cropping
    int columns = 0, rows = 0;
    // In raster order of the frame. The macroblocks of a field picture, and pairs of field macroblocks, lie in two
    // rows: the top field's above.
    std::vector<Macroblock> macroblocks;
    std::vector<SliceRules> slices;

    int decoded = 0;          // fields: bits kTop, kBottom
    bool field_pair = false;  // coded as two fields
    bool adaptive = false;    // coded with pairs
    int order[2] = {0, 0};    // picture order counts of its fields
    int frame_num = 0, frame_num_wrap = 0;
    int long_index = 0;      // LongTermFrameIdx
    int short_term = 0;      // fields that are used for short-term reference
    int long_term = 0;       // likewise
    bool missing = false;    // made up, because frame_num has a gap
    bool reference = false;  // nal_ref_idc was not 0

    // Output
    bool wanted = false;      // waits for its turn
    bool flushes = false;     // IDR, or memory management operation 5: all before it comes out first
    std::int64_t number = 0;  // of the packet
    int pic_struct = -1;      // of a picture timing message (table D-1); -1: there was none
    bool damaged = false;

    int order_count() const {
        return decoded == kTop ? order[0] : decoded == kBottom ? order[1] : std::min(order[0], order[1]);
    }
    // Of a field or the frame.
    int order_count(int structure) const {
        return structure == kTop ? order[0] : structure == kBottom ? order[1] : std::min(order[0], order[1]);
    }
    bool is_reference() const { return (short_term | long_term) != 0; }
};

struct Reference {
    Frame* frame = nullptr;
    int structure = kFrame;

    bool long_term() const { return (frame->long_term & structure) != 0; }
    int order_count() const { return frame->order_count(structure); }
    std::int32_t id() const {
        return static_cast<std::int32_t>(frame->id << 2 | static_cast<std::uint32_t>(structure));
    }
};

}  // namespace wavecrest::codec::h264
