// What decoding keeps: of each macroblock of the picture being decoded, for its neighbours, the samples and the
// deblocking; of each frame, its samples and the motion that later pictures are predicted from.
#pragma once

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

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

struct Slice;

// Blocks of 4x4 samples are numbered in raster order (row * 4 + column), blocks of 8x8 as row * 2 + column; only
// `nonzero` follows coding order (6.4.3).
struct Macroblock {
    Kind kind = Kind::none;
    bool field = false;  // of a field picture, or a field macroblock of an adaptive frame
    bool skipped = false;
    bool transform8 = false;
    bool whole_direct = false;     // B_Skip or B_Direct_16x16
    std::uint8_t pattern = 0;      // coded_block_pattern: luma in bits 0 to 3, chroma in 4 and 5
    std::uint8_t chroma_mode = 0;  // intra_chroma_pred_mode
    std::uint8_t intra16_mode = 0;
    std::uint8_t direct = 0;    // 8x8 blocks that are predicted directly
    std::uint8_t dc_coded = 0;  // bit 0: Y of intra 16x16; 1, 2: Cb, Cr
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
    std::array<std::uint8_t, 24> coded{};  // total_coeff of Y, Cb (from 16 on), Cr (from 20 on)
    std::array<std::int8_t, 16> modes{};   // Intra4x4PredMode, or that of 8x8 four times; 2 where there is none
    std::array<std::array<std::int8_t, 4>, 2> ref{};          // of 8x8 blocks; -1: the list isn't used
    std::array<std::array<std::int8_t, 4>, 2> ref_picture{};  // the same as Reference::key(), -1: none
    std::array<std::array<Vector, 16>, 2> mv{};

    bool intra() const { return kind != Kind::inter && kind != Kind::none; }
};

enum Edges : std::uint8_t { kLeftUpper = 1, kLeftLower = 2, kAbove = 4, kAboveRight = 8, kAboveLeft = 16 };

// Of a picture to refer to: 1 the top field, 2 the bottom field, 3 the frame.
inline constexpr int kTop = 1, kBottom = 2, kFrame = 3;

// The motion of a frame's macroblocks as direct prediction in later pictures needs it (8.4.1.2.1): vectors of list 0
// where that is used, else of list 1. With direct_8x8_inference_flag blocks in the left and right columns do, where all
// pictures are frames only those in the corners. Most macroblocks move as one, and have one entry; of the others there
// are quarters or all parts. One thread writes at a time; what others read doesn't move meanwhile.
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
          quarters_(4, macroblocks),
          parts_(static_cast<std::size_t>(across_ * down_), macroblocks) {}

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
        const bool one = of_quarters && std::count(blocks.begin(), blocks.end(), blocks[0]) == 4 &&
                         std::count(corners.begin(), corners.end(), corners[0]) == 4;
        if (one) return set(macroblock, blocks[0], corners[0]);
        blocks_[macroblock] = of_quarters ? kQuarters : kParts;
        vectors_[macroblock] = of_quarters ? quarters_.add(blocks, corners.data()) : parts_.add(blocks, needed.data());
    }

    Block8 block(std::size_t macroblock, int block8) const {
        const Block8 block = blocks_[macroblock];
        if (block != kQuarters && block != kParts) return block;
        return (block == kParts ? parts_ : quarters_).blocks(vectors_[macroblock])[static_cast<std::size_t>(block8)];
    }
    // Of the 4x4 block in a column and row.
    Vector vector(std::size_t macroblock, int x, int y) const {
        const Block8 block = blocks_[macroblock];
        if (block == kQuarters) return quarters_.vectors(vectors_[macroblock])[quarter(x, y)];
        if (block != kParts) return std::bit_cast<Vector>(vectors_[macroblock]);
        const int place = (down_ == 4 ? y : y >> 1) * across_ + (across_ == 4 ? x : x >> 1);
        return parts_.vectors(vectors_[macroblock])[place];
    }

  private:
    // Entries of macroblocks that don't move as one, with so many vectors each.
    class Entries {
      public:
        Entries(std::size_t each, std::size_t most) : each_(each), pieces_(most / Piece::kCount + 1) {}
        std::uint32_t add(const std::array<Block8, 4>& blocks, const Vector* mvs) {
            // Once more than there are macroblocks, in a damaged picture: the last one serves.
            if (used_ == pieces_.size() * Piece::kCount) --used_;
            auto& piece = pieces_[used_ / Piece::kCount];
            if (!piece) piece = std::make_unique<Piece>(each_);
            piece->blocks[used_ % Piece::kCount] = blocks;
            std::copy_n(mvs, each_, &piece->vectors[used_ % Piece::kCount * each_]);
            return static_cast<std::uint32_t>(used_++);
        }
        const std::array<Block8, 4>& blocks(std::size_t at) const {
            return pieces_[at / Piece::kCount]->blocks[at % Piece::kCount];
        }
        const Vector* vectors(std::size_t at) const {
            return &pieces_[at / Piece::kCount]->vectors[at % Piece::kCount * each_];
        }

      private:
        struct Piece {
            static constexpr std::size_t kCount = 128;  // macroblocks
            explicit Piece(std::size_t each) : vectors(std::make_unique<Vector[]>(kCount * each)) {}
            std::array<std::array<Block8, 4>, kCount> blocks;
            std::unique_ptr<Vector[]> vectors;
        };
        std::size_t each_;
        std::vector<std::unique_ptr<Piece>> pieces_;
        std::size_t used_ = 0;
    };
    // In place of one block: where the others are.
    static constexpr Block8 kQuarters{.slot = 1, .structure = 0, .flag = 0};
    static constexpr Block8 kParts{.slot = 2, .structure = 0, .flag = 0};

    static std::size_t quarter(int x, int y) { return static_cast<std::size_t>((y >> 1) * 2 + (x >> 1)); }

    int across_, down_;  // vectors that are needed
    std::vector<Block8> blocks_;
    std::vector<std::uint32_t> vectors_;  // or the number among the entries
    Entries quarters_, parts_;
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
    std::int64_t number = 0;         // of the packet
    int pic_struct = -1;             // of a picture timing message (table D-1); -1: there was none
    int lost = 0;                    // macroblocks of which nothing came
    bool misses_references = false;  // predicted from what isn't there
    bool dangling = false;           // shown before the first picture of all that were decoded

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
