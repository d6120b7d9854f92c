// Parses the macroblocks of one slice: their syntax (macroblock.cpp, with the two ways of coding in cabac.cpp and
// cavlc.cpp) and motion that is derived (motion.cpp). What their samples are made of goes into the picture's Work.
#pragma once

#include <array>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include "bitstream/h264.hpp"
#include "codec/h264/cabac.hpp"
#include "codec/h264/picture.hpp"
#include "codec/h264/slice_bits.hpp"
#include "codec/h264/work.hpp"

namespace wavecrest::codec::h264 {

// LevelScale times 2^(qP / 6) (8.5.9), for all qP: of 4x4 blocks by list and raster place, of 8x8 likewise.
struct QuantScales {
    std::array<std::array<std::array<std::int32_t, 16>, 52>, 6> small;
    std::array<std::array<std::array<std::int32_t, 64>, 52>, 2> large;
};
QuantScales make_scales(const bitstream::h264::ScalingLists& lists);

// What a slice's lists and weights mean for the samples; its header, lists and `weighted` are known.
void prepare_samples(Slice& slice, const Frame& frame, bool adaptive);

class SliceParser {
  public:
    // Parses as far as the slice goes, and calls `row_done` when all of a row is there. Gives how many macroblocks;
    // fewer than are in it when it is damaged. The slice is the last of `work`; `bytes` are its unit's, without the
    // first: as they came where it is coded arithmetically, else without emulation prevention bytes.
    int parse(Work& work, const Sps& sps, const Pps& pps, const QuantScales& scales, ByteSpan bytes,
              const std::function<void(int row)>& row_done);

  private:
    struct Parsed;
    // What lies around: place of a macroblock (-1: none that may be used), the row of its 4x4 blocks, and of what is
    // to the left or above, what was parsed of it.
    struct Place {
        int macroblock = -1, row = 0;
        const Parsed* parsed = nullptr;
    };
    // The block at which a neighbouring sample lies.
    struct Candidate {
        int ref = -2;  // -2: not available; -1: not predicted from this list
        Vector mv;
    };
    struct Partition {
        int x, y, width, height;  // in 4x4 blocks
    };

    // slice.cpp
    bool begin_macroblock(int address);
    void find_neighbours();
    Place neighbour(int x, int y) const;
    bool usable(int index) const { return index >= 0 && at(index).slice == number_; }
    const Macroblock& at(int index) const { return macroblocks_[index]; }
    void infer_field();
    void skip_macroblock();
    void finish_macroblock();
    void store_vectors();
    void store_motion(Motion& motion) const;
    Motion::Block8 stored_block(std::size_t list, std::size_t block8) const;
    void find_intra_edges();

    // macroblock.cpp: the syntax of a macroblock that isn't skipped, behind mb_field_decoding_flag. False: damaged.
    bool parse_macroblock();
    bool parse_intra();
    bool parse_inter();
    bool parse_sub_blocks();
    bool parse_residual();
    bool parse_luma(std::int16_t*& next);
    bool parse_intra16_luma(std::int16_t* blocks);
    bool parse_chroma(std::int16_t* blocks);
    void pack(const std::int16_t* from, int first, int end, std::int16_t*& to) const;
    bool parse_pcm();
    void reset_macroblock();
    bool take_intra_type(int type);
    void set_qp(int qp);
    bool next_qp(int delta);
    int read_sub_type();
    int read_ref(int list, const Partition& p);
    bool read_vector(int list, const Partition& p, Vector predicted);
    int active(int list) const { return header_->references[list] << (adaptive_ && mb_->field ? 1 : 0); }
    int run_cabac();
    int run_cavlc();

    // cabac.cpp
    int decide(int context) { return cabac_.decision(contexts_.state[context]); }
    bool cabac_skip();
    bool cabac_field();
    int cabac_type();
    int cabac_intra_type(int base, bool in_i_slice);
    int cabac_sub_type();
    int cabac_ref(int list, int x, int y);
    int cabac_mvd(int list, int component, int x, int y);
    int cabac_mode(int predicted);
    int cabac_chroma_mode();
    int cabac_pattern();
    int cabac_qp_delta();
    bool cabac_transform8();
    bool coded_flag(int category, int plane, int x, int y);
    // A block's coefficients, scaled, into `out`; gives how many there are (-1: damaged). only_first_ tells whether the
    // first is the only one.
    int cabac_block(int category, const std::uint8_t* scan, const std::int32_t* scale, int shift, std::int16_t* out,
                    int count);

    // cavlc.cpp
    int coefficient_context(int plane, int x, int y) const;
    int cavlc_block(int context, const std::uint8_t* scan, const std::int32_t* scale, int shift, std::int16_t* out,
                    int count);

    int predicted_mode(int block) const;
    void set_mode(int block, int size, int mode);
    void fill_cache();
    void fill_difference_cache(int list);
    void set_ref(int list, const Partition& p, int ref);
    void set_motion(int list, const Partition& p, Vector mv);
    void store_ref_pictures();

    // motion.cpp
    Candidate candidate(int list, int x, int y) const;
    Candidate scaled(int list, const Place& place, int column) const;
    Vector predict(int list, const Partition& p, int ref) const;
    Vector predict_directional(int list, const Partition& p, int ref) const;
    void predict_skip();
    void predict_direct(int blocks);
    void direct_spatial(int blocks);
    void direct_temporal(int blocks);
    void merge_direct();
    struct Colocated {
        bool intra = true, first = false;  // first: its reference index is 0
        int slot = 0, structure = 0;
        Vector mv;
        bool field = false;
    };
    Colocated colocated(int block) const;
    Reference reference(int list, int ref) const;
    int current_order() const;

    // The slice
    Work* work_ = nullptr;
    Slice* slice_ = nullptr;
    const Sps* sps_ = nullptr;
    const Pps* pps_ = nullptr;
    const QuantScales* scales_ = nullptr;
    const SliceHeader* header_ = nullptr;
    Frame* frame_ = nullptr;
    Macroblock* macroblocks_ = nullptr;
    std::uint32_t number_ = 0;
    bool adaptive_ = false, b_slice_ = false;
    Cabac cabac_;
    Contexts contexts_;
    SliceBits bits_;
    int last_delta_ = 0;  // mb_qp_delta of the macroblock before
    const std::function<void(int)>* row_done_ = nullptr;

    // The macroblock
    int address_ = 0, x_ = 0, row_ = 0, index_ = 0;  // its place among the work's macroblocks
    int up_ = 0;                                     // from there, or from its pair's upper one, to the row above
    Macroblock* mb_ = nullptr;
    bool pair_field_ = false;
    int left_ = -1, top_ = -1;  // 6.4.9: A and B, by their upper left and first samples
    Place left_rows_[4];
    Place above_, above_right_, above_left_;
    int qp_ = 0;
    int type_ = 0;  // B and P: mb_type; for parsing
    std::uint8_t sub_types_[4] = {};
    std::array<std::array<Vector, 16>, 2> mv_{};  // of its 4x4 blocks, by lists
    bool only_first_ = false;

    // Motion around: row * 8 + column + 12, rows and columns from -1 on.
    static constexpr int cell(int x, int y) { return 12 + x + y * 8; }
    std::int8_t ref_cache_[2][48];
    Vector mv_cache_[2][48];
    std::uint8_t mvd_cache_[2][48][2];
    bool ref_large_[2][48];  // for the context of ref_idx: larger than 0, and not direct
    // What nothing but parsing the macroblocks around needs, kept of the latest two rows.
    struct Parsed {
        bool skipped = false;
        bool whole_direct = false;             // B_Skip or B_Direct_16x16
        std::uint8_t direct = 0;               // 8x8 blocks that are predicted directly
        std::uint8_t dc_coded = 0;             // bit 0: Y of intra 16x16; 1, 2: Cb, Cr
        std::array<std::uint8_t, 24> coded{};  // total_coeff of Y, Cb (from 16 on), Cr (from 20 on)
        std::array<std::int8_t, 16> modes = kNoModes;
        std::array<std::array<std::array<std::uint8_t, 2>, 16>, 2> differences{};  // of vectors: [list][4x4 block]

        static constexpr std::array<std::int8_t, 16> kNoModes{2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2, 2};
    };
    std::vector<Parsed> parsed_;
    // Rows that are kept are an even number of them, and few.
    std::size_t parsed_place(int macroblock) const {
        auto at = static_cast<std::size_t>(macroblock);
        while (at >= parsed_.size()) at -= parsed_.size();
        return at;
    }
    const Parsed* parsed_of(int macroblock) const { return &parsed_[parsed_place(macroblock)]; }
    Parsed* own_ = nullptr;
};

}  // namespace wavecrest::codec::h264
