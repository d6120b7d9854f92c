// A picture being decoded: what parsing leaves for the samples to be made of, row by row.
//
// A row is one of macroblocks, of pairs of them in an adaptive frame, or of a field's macroblocks in a field picture.
// Parsing a row needs nothing but parsed rows, also in B pictures; its samples need those of the row above, except for
// two macroblocks at its end, and of earlier pictures; its deblocking needs the row below to be there before it. So few
// rows are kept at a time: their places serve again when the row behind is deblocked.
#pragma once

#include <array>
#include <atomic>
#include <cstring>
#include <deque>
#include <memory>
#include <mutex>
#include <vector>

#include "bitstream/h264.hpp"
#include "codec/h264/kernels.hpp"
#include "codec/h264/picture.hpp"

namespace wavecrest::codec::h264 {

using bitstream::h264::Pps;
using bitstream::h264::SliceHeader;
using bitstream::h264::SliceType;
using bitstream::h264::Sps;

struct Slice {
    SliceHeader header;
    bool constrained_intra = false;
    int weighted = 0;                 // 0: plain means, 1: by the header's weights, 2: by the distances
    std::vector<Reference> lists[2];  // RefPicList0 and 1; frames where macroblocks may be field ones

    // References as macroblocks name them: of frame macroblocks and field pictures; of the upper and of the lower field
    // macroblock in a pair, where each frame stands for two fields, that of the same parity first (8.4.2.1).
    struct Samples {
        const std::uint8_t* planes[3] = {};
        std::ptrdiff_t strides[3] = {};
        int width = 0, height = 0;  // luma
        bool bottom = false;
    };
    static constexpr int kUsual = 0, kUpper = 1, kLower = 2;
    std::vector<Samples> samples[3][2];
    // Of list 1 in weighing by distances (8.4.2.3.1): [kind][ref0 * size of list 1 + ref1]; 32 is the plain mean.
    std::vector<std::int16_t> implicit[3];
};

// Memory in pieces, which serve all rows and pictures under way in turn: few rows have as much as they may.
template <typename T, std::uint32_t Size>
class Pieces {
  public:
    static constexpr std::uint32_t kSize = Size;
    using Piece = std::unique_ptr<T[]>;

    // From any thread.
    Piece take() {
        const std::lock_guard lock(mutex_);
        if (spare_.empty()) return Piece(new T[kSize]);
        Piece piece = std::move(spare_.back());
        spare_.pop_back();
        return piece;
    }
    void give_back(Piece* from, Piece* until) {
        const std::lock_guard lock(mutex_);
        for (; from != until; ++from) spare_.push_back(std::move(*from));
    }

  private:
    std::mutex mutex_;
    std::vector<Piece> spare_;
};
using CoefficientPieces = Pieces<std::int16_t, 4096>;
using VectorPieces = Pieces<Vector, 512>;

// The coefficients of a row's macroblocks, of each of them together.
class RowCoefficients {
  public:
    static constexpr std::uint32_t kMost = 384;  // of a macroblock

    // Room for those of the next macroblock, all 0, and their place.
    std::int16_t* add(CoefficientPieces& from, std::uint32_t& place) {
        if (pieces_.empty() || used_ + kMost > CoefficientPieces::kSize) {
            pieces_.push_back(from.take());
            used_ = 0;
        }
        std::int16_t* const room = pieces_.back().get() + used_;
        std::memset(room, 0, kMost * sizeof *room);
        place = (static_cast<std::uint32_t>(pieces_.size()) - 1) * CoefficientPieces::kSize + used_;
        return room;
    }
    // The latest macroblock has so many.
    void keep(std::size_t count) { used_ += static_cast<std::uint32_t>(count); }
    // Null where no macroblock has any.
    const std::int16_t* at(std::uint32_t place) const {
        constexpr std::uint32_t kSize = CoefficientPieces::kSize;
        return pieces_.empty() ? nullptr : pieces_[place / kSize].get() + place % kSize;
    }
    // Those before this place aren't needed any more.
    void give_back_until(std::uint32_t place, CoefficientPieces& to) {
        const std::uint32_t until = place / CoefficientPieces::kSize;
        if (until <= gone_) return;
        to.give_back(pieces_.data() + gone_, pieces_.data() + until);
        gone_ = until;
    }
    void clear(CoefficientPieces& to) {
        to.give_back(pieces_.data() + gone_, pieces_.data() + pieces_.size());
        pieces_.clear();
        gone_ = 0;
    }
    int pieces() const { return static_cast<int>(pieces_.size()); }

  private:
    std::vector<CoefficientPieces::Piece> pieces_;
    std::uint32_t used_ = 0;  // of the last
    std::uint32_t gone_ = 0;  // pieces
};

// The vectors of a row's macroblocks, where Macroblock::vectors points.
class RowVectors {
  public:
    // Room for a macroblock's.
    Vector* add(VectorPieces& from, std::size_t count) {
        if (pieces_.empty() || used_ + count > VectorPieces::kSize) {
            pieces_.push_back(from.take());
            used_ = 0;
        }
        Vector* const room = pieces_.back().get() + used_;
        used_ += count;
        return room;
    }
    void clear(VectorPieces& to) {
        to.give_back(pieces_.data(), pieces_.data() + pieces_.size());
        pieces_.clear();
    }

  private:
    std::vector<VectorPieces::Piece> pieces_;
    std::size_t used_ = 0;  // of the last
};

struct Work {
    Frame* frame = nullptr;
    int structure = kFrame;
    bool adaptive = false;
    int columns = 0;
    int rows = 0;  // as above

    // Rows that are kept, an even number: four are enough where one thread makes each as it is parsed.
    static constexpr int kRows = 6, kRowsAlone = 4;
    int kept = kRows;
    std::vector<Macroblock> macroblocks;  // of these rows, in turn
    std::uint32_t first_slice = 1;        // number of slices[0]
    std::deque<Slice> slices;             // rows that are parsed find theirs by Macroblock::of: this grows meanwhile
    std::array<RowCoefficients, kRows> coefficients;  // likewise in turn; until a row is reconstructed
    std::array<RowVectors, kRows> vectors;            // until their macroblocks' places serve again
    CoefficientPieces* pieces = nullptr;
    VectorPieces* vector_pieces = nullptr;

    // Found while parsing; of a field picture, the frame gets to know when it is done.
    bool field_macroblocks = false;  // of an adaptive frame
    bool misses_references = false;  // predicted from what isn't there
    int lost = 0;                    // macroblocks of which nothing came

    // Rows of macroblocks in the frame's raster that make up a row: the first, and how many.
    int raster_row(int row) const {
        if (adaptive) return 2 * row;
        return structure == kFrame ? row : 2 * row + (structure == kBottom ? 1 : 0);
    }
    int rows_in_raster() const { return adaptive ? 2 : 1; }
    // The row that one of the frame's raster belongs to.
    int row_of(int raster_row) const { return adaptive || structure != kFrame ? raster_row >> 1 : raster_row; }
    int turn(int row) const { return kept == kRowsAlone ? row & (kRowsAlone - 1) : row % kRows; }
    // Where the macroblocks of a row of the raster begin.
    std::size_t place_of(int raster_row) const {
        const int place = adaptive ? 2 * turn(raster_row >> 1) + (raster_row & 1)
                                   : turn(structure == kFrame ? raster_row : raster_row >> 1);
        return static_cast<std::size_t>(place) * static_cast<std::size_t>(columns);
    }
    std::size_t places() const { return static_cast<std::size_t>(columns * kept * rows_in_raster()); }
    Macroblock& at(int raster_row, int x) { return macroblocks[place_of(raster_row) + static_cast<std::size_t>(x)]; }
    const Macroblock& at(int raster_row, int x) const {
        return macroblocks[place_of(raster_row) + static_cast<std::size_t>(x)];
    }
    RowCoefficients& coefficients_of(int row) { return coefficients[static_cast<std::size_t>(turn(row))]; }
    const RowCoefficients& coefficients_of(int row) const { return coefficients[static_cast<std::size_t>(turn(row))]; }
    RowVectors& vectors_of(int row) { return vectors[static_cast<std::size_t>(turn(row))]; }
    // Whether something of this picture came for it.
    bool has(const Macroblock& mb) const { return mb.slice >= first_slice; }
    static const Slice& slice_of(const Macroblock& mb) { return *mb.of; }
};

// For threads that try again at once.
inline void pause() {
#if defined(__x86_64__)
    __builtin_ia32_pause();
#endif
}

// How many macroblocks of a row have their samples.
using RowProgress = std::atomic<int>;

// Makes the samples of a row before deblocking. Waits where those of the row above (null: they are there) aren't far
// enough, and tells in `done` how far it is. The row's coefficients are given back.
void reconstruct_row(Work& work, const Kernels& kernels, int row, const RowProgress* above, RowProgress& done);

// Deblocks a row (8.7) when the one below has its samples.
void deblock_row(const Work& work, const Kernels& kernels, int row);

}  // namespace wavecrest::codec::h264
