// What decoding keeps: of each macroblock of the picture being decoded, for its neighbours, the samples and the
// deblocking; of each frame, its samples and the motion that later pictures are predicted from.
#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <vector>

#include "bitstream/frame_packing.hpp"
#include "media/types.hpp"

namespace wavecrest::codec::h264 {

// In quarters of a luma sample.
struct Vector {
    std::int16_t x = 0, y = 0;
    bool operator==(const Vector&) const = default;
};

enum class Kind : std::uint8_t { none, intra4, intra8, intra16, pcm, inter };

// How a macroblock of kind inter is parted, and each 8x8 block of one that is parted in four (tables 7-13, 7-14, 7-17,
// 7-18): whole, in two above each other, in two beside each other, in four.
enum class Shape : std::uint8_t { whole, rows, columns, quarters };

// How many vectors a macroblock has for each list, and of which a 4x4 block's is: of the whole, of two halves above
// each other or side by side, of quarters, of 4x4 blocks.
enum class VectorLayout : std::uint8_t { one, rows, columns, quarters, blocks };
inline constexpr int kVectorCount[5] = {1, 2, 2, 4, 16};
inline constexpr std::uint8_t kVectorOfBlock[5][16] = {{0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0},
                                                       {0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 1, 1, 1, 1},
                                                       {0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1, 1},
                                                       {0, 0, 1, 1, 0, 0, 1, 1, 2, 2, 3, 3, 2, 2, 3, 3},
                                                       {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}};
inline constexpr std::uint8_t kBlockOfVector[5][16] = {
    {0}, {0, 8}, {0, 2}, {0, 2, 8, 10}, {0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15}};
inline constexpr Vector kNoVectors[2] = {};

struct Slice;

// What samples are made of, and what macroblocks around need; see SliceParser::Parsed for what only parsing needs.
// Blocks of 4x4 samples are numbered in raster order (row * 4 + column), blocks of 8x8 as row * 2 + column; only
// `nonzero` follows coding order (6.4.3).
struct Macroblock {
    Kind kind = Kind::none;
    bool field = false;  // of a field picture, or a field macroblock of an adaptive frame
    bool transform8 = false;
    std::uint8_t pattern = 0;      // coded_block_pattern: luma in bits 0 to 3, chroma in 4 and 5
    std::uint8_t chroma_mode = 0;  // intra_chroma_pred_mode
    std::uint8_t intra16_mode = 0;
    std::uint8_t qp = 0, chroma_qp[2] = {0, 0};
    std::uint8_t edges = 0;  // samples around that intra prediction may use: bits of Edges
    Shape shape = Shape::whole;
    std::array<Shape, 4> sub_shapes{};
    std::uint16_t filled = 0;        // 4x4 blocks with coefficients, in raster order, as the deblocking wants them
    std::uint32_t slice = 0;         // number of the slice, counted through all pictures from 1 on
    const Slice* of = nullptr;       // that slice
    std::uint32_t nonzero = 0;       // blocks that a residual is added to: Y in bits 0 to 15, Cb from 16, Cr from 20 on
    std::uint32_t only_dc = 0;       // of these the ones with the first coefficient alone
    std::uint32_t coefficients = 0;  // where they begin among those of the row
    std::array<std::array<std::int8_t, 4>, 2> ref{};  // of 8x8 blocks; -1: the list isn't used
    union {
        std::array<std::array<std::int8_t, 4>, 2> ref_picture{};  // inter: the same as Reference::key(), -1: none
        std::array<std::uint8_t, 8> mode_pairs;                   // intra 4x4 and 8x8: see mode()
    };
    VectorLayout layout = VectorLayout::one;
    const Vector* vectors = kNoVectors;  // of list 0, then of list 1, where a list isn't used 0

    struct ListVectors {
        const Vector* at;
        const std::uint8_t* place;
        Vector operator[](std::size_t block) const { return at[place[block]]; }  // of 4x4
    };
    ListVectors mv(std::size_t list) const {
        const auto by = static_cast<std::size_t>(layout);
        return {vectors + list * static_cast<std::size_t>(kVectorCount[by]), kVectorOfBlock[by]};
    }
    std::span<const Vector> all_vectors() const {
        return {vectors, static_cast<std::size_t>(2 * kVectorCount[static_cast<std::size_t>(layout)])};
    }
    // Intra4x4PredMode, or that of an 8x8 block by any of its four.
    int mode(int block) const { return mode_pairs[static_cast<std::size_t>(block >> 1)] >> (block % 2 * 4) & 15; }
    bool intra() const { return kind != Kind::inter && kind != Kind::none; }
};

enum Edges : std::uint8_t { kLeftUpper = 1, kLeftLower = 2, kAbove = 4, kAboveRight = 8, kAboveLeft = 16 };

// Of a picture to refer to: 1 the top field, 2 the bottom field, 3 the frame.
inline constexpr int kTop = 1, kBottom = 2, kFrame = 3;

// The motion of a frame's macroblocks as direct prediction in later pictures needs it (8.4.1.2.1): vectors of list 0
// where that is used, else of list 1. With direct_8x8_inference_flag blocks in the left and right columns do, where all
// pictures are frames only those in the corners. Most macroblocks move as one, and have one entry; of the others there
// are halves, quarters or all parts. One thread writes at a time; what others read doesn't move meanwhile.
class Motion {
  public:
    struct Block8 {
        std::uint8_t slot : 5 = 0;       // Frame::slot of what it refers to
        std::uint8_t structure : 2 = 0;  // and which fields of it; 0: intra
        std::uint8_t flag : 1 = 0;       // the reference index is 0; intra: of a field macroblock

        bool intra() const { return structure == 0; }
        bool field() const { return intra() ? flag != 0 : structure != kFrame; }
        bool operator==(const Block8&) const = default;
    };
    static_assert(sizeof(Block8) == 1);

    // Of so many macroblocks, all intra.
    Motion(std::size_t macroblocks, bool all_columns, bool all_rows)
        : across_(all_columns ? 4 : 2),
          down_(all_rows ? 4 : 2),
          blocks_(macroblocks),
          vectors_(macroblocks),
          halves_(2, 2, macroblocks),
          quarters_(4, 4, macroblocks),
          parts_(4, static_cast<std::size_t>(across_ * down_), macroblocks) {}

    void set(std::size_t macroblock, Block8 block, Vector mv = {}) {
        blocks_[macroblock] = block;
        vectors_[macroblock] = std::bit_cast<std::uint32_t>(mv);
    }
    // Of its 8x8 blocks, and of all 4x4 blocks.
    void set(std::size_t macroblock, const std::array<Block8, 4>& blocks, const std::array<Vector, 16>& mvs) {
        const std::array<Vector, 4> corners{mvs[0], mvs[3], mvs[12], mvs[15]};
        std::array<Vector, 16> needed;
        bool of_quarters = true;
        for (int y = 0; y < down_; ++y) {
            for (int x = 0; x < across_; ++x) {
                const int column = across_ == 4 ? x : 3 * x, row = down_ == 4 ? y : 3 * y;
                const Vector mv = mvs[static_cast<std::size_t>(row * 4 + column)];
                needed[static_cast<std::size_t>(y * across_ + x)] = mv;
                of_quarters = of_quarters && mv == corners[quarter(column, row)];
            }
        }
        const auto same = [&](std::size_t a, std::size_t b) {
            return blocks[a] == blocks[b] && corners[a] == corners[b];
        };
        const auto add = [&](Block8 kind, Entries& to, const Block8* of, const Vector* vectors) {
            blocks_[macroblock] = kind;
            vectors_[macroblock] = to.add(of, vectors);
        };
        if (!of_quarters) return add(kParts, parts_, blocks.data(), needed.data());
        const bool rows = same(0, 1) && same(2, 3), columns = same(0, 2) && same(1, 3);
        if (rows && columns) return set(macroblock, blocks[0], corners[0]);
        if (!rows && !columns) return add(kQuarters, quarters_, blocks.data(), corners.data());
        const std::size_t second = rows ? 2 : 1;
        const Block8 of[2] = {blocks[0], blocks[second]};
        const Vector vectors[2] = {corners[0], corners[second]};
        add(rows ? kRows : kColumns, halves_, of, vectors);
    }

    Block8 block(std::size_t macroblock, int block8) const {
        const Block8 block = blocks_[macroblock];
        const std::size_t at = vectors_[macroblock];
        if (block == kRows) return halves_.blocks(at)[block8 >> 1];
        if (block == kColumns) return halves_.blocks(at)[block8 & 1];
        if (block == kQuarters) return quarters_.blocks(at)[block8];
        return block == kParts ? parts_.blocks(at)[block8] : block;
    }
    // Of the 4x4 block in a column and row.
    Vector vector(std::size_t macroblock, int x, int y) const {
        const Block8 block = blocks_[macroblock];
        const std::size_t at = vectors_[macroblock];
        if (block == kRows) return halves_.vectors(at)[y >> 1];
        if (block == kColumns) return halves_.vectors(at)[x >> 1];
        if (block == kQuarters) return quarters_.vectors(at)[quarter(x, y)];
        if (block != kParts) return std::bit_cast<Vector>(vectors_[macroblock]);
        return parts_.vectors(at)[(down_ == 4 ? y : y >> 1) * across_ + (across_ == 4 ? x : x >> 1)];
    }

  private:
    // Entries of macroblocks that don't move as one, of so many blocks and vectors each.
    class Entries {
      public:
        Entries(std::size_t blocks, std::size_t vectors, std::size_t most)
            : of_blocks_(blocks), of_vectors_(vectors), pieces_(most / kCount + 1) {}
        std::uint32_t add(const Block8* blocks, const Vector* vectors) {
            // Once more than there are macroblocks, in a damaged picture: the last one serves.
            if (used_ == pieces_.size() * kCount) --used_;
            Piece& piece = pieces_[used_ / kCount];
            if (!piece.blocks) {
                piece.blocks = std::make_unique<Block8[]>(kCount * of_blocks_);
                piece.vectors = std::make_unique<Vector[]>(kCount * of_vectors_);
            }
            std::copy_n(blocks, of_blocks_, &piece.blocks[used_ % kCount * of_blocks_]);
            std::copy_n(vectors, of_vectors_, &piece.vectors[used_ % kCount * of_vectors_]);
            return static_cast<std::uint32_t>(used_++);
        }
        const Block8* blocks(std::size_t at) const { return &pieces_[at / kCount].blocks[at % kCount * of_blocks_]; }
        const Vector* vectors(std::size_t at) const { return &pieces_[at / kCount].vectors[at % kCount * of_vectors_]; }

      private:
        static constexpr std::size_t kCount = 128;  // macroblocks of a piece
        struct Piece {
            std::unique_ptr<Block8[]> blocks;
            std::unique_ptr<Vector[]> vectors;
        };
        std::size_t of_blocks_, of_vectors_;
        std::vector<Piece> pieces_;
        std::size_t used_ = 0;
    };
    // In place of one block: where the others are.
    static constexpr Block8 kRows{.slot = 1, .structure = 0, .flag = 0};  // two halves above each other
    static constexpr Block8 kColumns{.slot = 2, .structure = 0, .flag = 0};
    static constexpr Block8 kQuarters{.slot = 3, .structure = 0, .flag = 0};
    static constexpr Block8 kParts{.slot = 4, .structure = 0, .flag = 0};

    static std::size_t quarter(int x, int y) { return static_cast<std::size_t>((y >> 1) * 2 + (x >> 1)); }

    int across_, down_;  // vectors that are needed
    std::vector<Block8> blocks_;
    std::vector<std::uint32_t> vectors_;  // or the number among the entries
    Entries halves_, quarters_, parts_;
};

struct Frame {
    std::uint32_t id = 0;   // never the same for two
    std::uint8_t slot = 0;  // not the same for two that are kept to refer to; up to 31
    Picture picture;        // whole macroblocks, without cropping
    struct Window {         // that is shown
        int left = 0, top = 0, width = 0, height = 0;
    } window;
    int columns = 0, rows = 0;
    // In raster order of the frame. The macroblocks of a field picture, and pairs of field macroblocks, lie in two
    // rows: the top field's above. Nothing: not kept.
    std::optional<Motion> motion;

    int decoded = 0;                 // fields: bits kTop, kBottom
    bool field_pair = false;         // coded as two fields
    bool adaptive = false;           // coded with pairs
    bool field_macroblocks = false;  // and some of them are of fields
    int order[2] = {0, 0};           // picture order counts of its fields
    int frame_num = 0, frame_num_wrap = 0;
    int long_index = 0;       // LongTermFrameIdx
    int short_term = 0;       // fields that are used for short-term reference
    int long_term = 0;        // likewise
    bool missing = false;     // made up, because frame_num has a gap
    bool lost_whole = false;  // and it shouldn't have one
    bool reference = false;   // nal_ref_idc was not 0

    // Output
    bool wanted = false;             // waits for its turn
    bool flushes = false;            // IDR, or memory management operation 5: all before it comes out first
    bool instantaneous = false;      // IDR
    std::int64_t number = 0;         // of the packet
    std::optional<Time> shown;       // when, by the packet; of what was made up nobody knows
    int pic_struct = -1;             // of a picture timing message (table D-1); -1: there was none
    int lost = 0;                    // macroblocks of which nothing came
    bool misses_references = false;  // predicted from what isn't there
    bool dangling = false;           // shown before the first picture of all that were decoded
    std::optional<bitstream::FramePackingMessage> packing;

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
    bool stands_in = false;  // for one that isn't there
    bool long_term = false;  // as it is marked now; marks change while pictures are under way

    int order_count() const { return frame->order_count(structure); }
    // Another one for each field or frame that a picture may refer to.
    std::int8_t key() const { return static_cast<std::int8_t>(frame->slot << 2 | structure); }
    std::int32_t id() const {
        return static_cast<std::int32_t>(frame->id << 2 | static_cast<std::uint32_t>(structure));
    }
};

}  // namespace wavecrest::codec::h264
