// What an H.264 stream looks like, by the letter of Rec. ITU-T H.264, clause 8: whoever writes the stream says what is
// in each macroblock, and it is made sample by sample. Slow, and it shares nothing with the decoder but the standard's
// tables. Frames and fields; and frames of pairs of macroblocks, as far as their writer goes: motion and raw samples,
// no other intra prediction and no residual.
#pragma once

#include <array>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

#include "bitstream/h264.hpp"
#include "media/types.hpp"

namespace wavecrest::test {

inline constexpr int kTopField = 1, kBottomField = 2, kWhole = 3;
enum { kSliceP = 0, kSliceB = 1, kSliceI = 2 };

// A frame, or two fields that share it.
struct H264Frame {
    // How a 4x4 block was predicted.
    struct Moved {
        bool intra = true;
        std::array<int, 2> ref{-1, -1};
        std::array<std::array<int, 2>, 2> mv{};       // quarters of a sample: across, down
        std::array<std::array<int, 2>, 2> picture{};  // that ref means: id, fields
    };
    int id = 0;
    int width = 0, height = 0;
    std::array<std::vector<std::uint8_t>, 3> planes;
    std::array<int, 2> order{};               // picture order counts of top and bottom field
    bool fields = false;                      // coded as two
    bool adaptive = false;                    // of pairs
    std::vector<bool> field_mb;               // of these, by address
    std::array<std::vector<Moved>, 2> moved;  // of the frame ([0]), or of its fields; by macroblock address
    std::vector<std::string> kinds;           // of each macroblock of the frame, for messages
    int order_of(int structure) const {
        return structure == kTopField ? order[0] : structure == kBottomField ? order[1] : std::min(order[0], order[1]);
    }
};

struct H264Reference {
    std::shared_ptr<H264Frame> frame;
    int structure = kWhole;
    bool long_term = false;
};

struct H264Slice {
    int type = kSliceI;
    bool spatial = true;
    std::vector<H264Reference> lists[2];
    int weighting = 0;                                          // 0 plain, 1 by weights, 2 by distance
    int log2[2] = {0, 0};                                       // of luma's and chroma's weights
    std::vector<std::array<std::array<int, 2>, 3>> weights[2];  // by reference and plane: weight, offset
    int filter = 0;                                             // disable_deblocking_filter_idc
    int alpha = 0, beta = 0;                                    // FilterOffsetA and B
};

// A macroblock as it was written.
struct H264Macroblock {
    enum Kind { intra4, intra8, intra16, samples, inter, skip } kind = skip;
    int qp = 26;
    bool field = false;  // in a pair
    bool transform8 = false;
    std::array<int, 16> modes{};  // of intra 4x4 and 8x8, by raster block
    int mode16 = 0, chroma_mode = 0;
    std::array<std::uint8_t, 384> raw{};
    struct Part {
        int x = 0, y = 0, width = 4, height = 4;  // in blocks of 4x4
        int lists = 0;
        std::array<int, 2> ref{-1, -1};
        std::array<std::array<int, 2>, 2> delta{};
        bool direct = false;
    };
    std::vector<Part> parts;  // in their order; none for one that is skipped
    // Levels, by their place in the scan.
    std::array<int, 16> dc{};
    std::array<std::array<int, 16>, 16> luma{};  // by raster block
    std::array<std::array<int, 64>, 4> luma8{};
    std::array<std::array<int, 4>, 2> chroma_dc{};
    std::array<std::array<std::array<int, 16>, 4>, 2> chroma{};
    std::string name() const;
};

class H264Reconstruction {
  public:
    H264Reconstruction(bitstream::h264::Sps sps, bitstream::h264::Pps pps);
    ~H264Reconstruction();

    void begin_picture(std::shared_ptr<H264Frame> frame, int structure, bool adaptive);
    void begin_slice(H264Slice slice);
    void macroblock(int address, const H264Macroblock& mb);  // of a pair: the upper's even, the lower's behind it
    void end_picture();
    // What is shown of a frame.
    Picture shown(const H264Frame& frame) const;

  private:
    struct Done;
    struct Place {
        Done* mb = nullptr;
        int x = 0, y = 0;
    };
    struct Neighbour {
        bool available = false;
        int ref = -1;
        std::array<int, 2> mv{};
    };
    struct Distance {
        bool same = false;  // or a long-term reference
        int scale = 0;
    };

    std::uint8_t& sample(int plane, int x, int y);
    int row_of(const Done& mb, int plane, int y) const;
    std::uint8_t& own(int plane, int x, int y);
    int own_structure() const;
    H264Reference reference(int list, int ref) const;
    Place neighbour(int x, int y, int size);
    Place neighbour_of_pair(int x, int y);
    bool intra_usable(int x, int y, int size);
    std::uint8_t beside(int plane, int x, int y);
    Neighbour motion_at(int list, int x, int y);
    std::array<int, 2> predict_vector(int list, int x, int y, int width, int height, int ref);
    void derive_motion();
    void skip_motion();
    void direct_motion(int x, int y, int width, int height);
    void spatial(int x, int y, int width, int height);
    void temporal(int x, int y, int width, int height);
    struct Collocated {
        const H264Frame::Moved* moved = nullptr;
        int scale = 0;  // of the vertical component: 0 as it is, 1 halved (frame to field), 2 doubled
    };
    Collocated collocated(int block_x, int block_y) const;
    Distance distance(const H264Reference& first, const H264Reference& second) const;
    void set_motion(int x, int y, int list, int ref, std::array<int, 2> mv);
    void predict_inter();
    void intra_block(int n, int x0, int y0, int mode, const std::vector<int>& around, bool left, bool above);
    std::vector<int> around(int n, int x0, int y0, bool left, bool above, bool corner, bool right);
    void intra4(int block);
    void intra8(int quarter);
    void intra16();
    void intra_chroma();
    void add_luma();
    void add_chroma();
    void deblock(int address);
    void deblock_of_pair(int address);
    int strength(const Done& p, const Done& q, int p_block, int q_block, bool edge, bool vertical) const;
    void filter_edge(int plane, Done& q, int edge, bool vertical);
    template <typename At>
    void filter_line(int plane, int strength, const Done& p, const Done& q, const At& at);

    const bitstream::h264::Sps sps_;
    const bitstream::h264::Pps pps_;
    std::shared_ptr<H264Frame> frame_;
    int structure_ = kWhole;
    bool adaptive_ = false;
    int columns_ = 0, rows_ = 0;
    std::vector<Done> done_;
    std::vector<std::shared_ptr<H264Slice>> slices_;
    const H264Slice* slice_ = nullptr;
    Done* now_ = nullptr;
    const H264Macroblock* mb_ = nullptr;
};

}  // namespace wavecrest::test
