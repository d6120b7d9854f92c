// H.264 headers (Rec. ITU-T H.264): parameter sets and slice headers, and the configuration record MP4 keeps the former
// in (ISO/IEC 14496-15, 5.3.3.1).
#pragma once

#include <array>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/bits.hpp"
#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream::h264 {

enum NalType { kSlice = 1, kIdrSlice = 5, kSei = 6, kSps = 7, kPps = 8, kSubsetSps = 15, kExtensionSlice = 20 };

// What a unit adds to the pictures of its stream (annexes G and H): a subset sequence parameter set or a slice of
// another layer, or of another view.
media::Layers layer_of(ByteSpan nal);

// Weights of the inverse quantization (7.4.2.1.1.1): lists of 4x4 blocks (intra Y, Cb, Cr, inter Y, Cb, Cr) and of 8x8
// blocks (intra Y, inter Y), by frequency in raster order. Lists that aren't there are flat (16) or fall back by the
// rules of table 7-2.
struct ScalingLists {
    std::array<std::array<std::uint8_t, 16>, 6> small;
    std::array<std::array<std::uint8_t, 64>, 2> large;
};

struct Sps {
    int id = 0;
    int profile_idc = 0;
    int constraint_flags = 0;  // constraint_set0_flag is the highest of the 8 bits
    int level_idc = 0;         // ten times the level; 9 is 1b
    int width = 0;             // cropped
    int height = 0;
    int bit_depth = 8;
    int chroma_format = 1;
    int reference_frames = 0;
    int reorder_frames = -1;  // from the bitstream restrictions; -1 when absent
    int frame_number_bits = 4;
    bool separate_planes = false;
    bool frames_only = true;
    bool macroblock_adaptive = false;  // frames may hold pairs of field macroblocks
    bool direct_8x8_inference = false;
    bool gaps_allowed = false;  // in frame_num
    int columns = 0, rows = 0;  // in macroblocks, of a frame
    int crop_left = 0, crop_top = 0;
    int order_type = 0;                    // pic_order_cnt_type
    int order_bits = 4;                    // type 0
    bool delta_order_always_zero = false;  // type 1, as what follows
    int offset_for_non_reference = 0, offset_top_to_bottom = 0;
    std::vector<int> offsets_for_reference;
    int buffered_frames = -1;         // max_dec_frame_buffering; -1 when absent
    bool pic_struct_present = false;  // in picture timing messages, behind so many bits of delays
    int delay_bits = 0;
    bool transform_bypass = false;
    bool has_scaling = false;
    ScalingLists scaling{};
    std::int64_t bitrate_bps = 0;  // of the hypothetical reference decoder; 0 when absent
    std::int64_t buffer_bits = 0;  // likewise
    bool fixed_frame_rate = false;
    Ratio pixel_aspect{1, 1};
    Ratio frame_rate{0, 1};  // from timing information; 0 when absent
    ColourDescription colour;

    std::string profile_name() const;  // "High", "Main", "Constrained Baseline" ...
    std::string level_name() const;    // "3.1"
};

// Parses a NAL unit of type 7, its header byte included (7.3.2.1.1 and annex E).
std::optional<Sps> parse_sps(ByteSpan nal);

struct Pps {
    int id = 0, sps_id = 0;
    bool cabac = false;
    bool bottom_field_order = false;  // bottom_field_pic_order_in_frame_present_flag
    int slice_groups = 1;
    int references[2] = {1, 1};  // default active ones of both lists
    bool weighted_p = false;
    int weighted_b = 0;
    int qp = 26;  // of the picture, before slices' own
    int chroma_qp_offset[2] = {0, 0};
    bool deblocking_control = false;
    bool constrained_intra = false;
    bool redundant_pictures = false;
    bool transform_8x8 = false;
    bool has_scaling = false;
    ScalingLists scaling{};
};
// A NAL unit of type 8, its header byte included (7.3.2.2). Which lists fall back to which depends on its SPS.
std::optional<Pps> parse_pps(ByteSpan nal, const Sps& sps);
// Only the identifiers, to find that SPS: of the PPS and of its SPS.
std::optional<std::pair<int, int>> pps_ids(ByteSpan nal);

enum class SliceType { p, b, i, sp, si };

struct SliceHeader {
    int nal_type = 0, nal_ref_idc = 0;
    int first_mb = 0;
    SliceType type = SliceType::i;
    int pps_id = 0;
    int frame_num = 0;
    bool field = false, bottom = false;
    int idr_id = 0;
    int order_lsb = 0, delta_order_bottom = 0, delta_order[2] = {0, 0};
    int redundant = 0;
    bool direct_spatial = false;
    int references[2] = {0, 0};  // active ones; 0 where a list isn't used
    struct Modification {        // 7.4.3.1
        int operation = 3;       // modification_of_pic_nums_idc
        std::uint32_t value = 0;
    };
    std::vector<Modification> modifications[2];
    struct Weight {  // 7.4.3.2: of luma, Cb, Cr
        int weight[3] = {1, 1, 1}, offset[3] = {0, 0, 0};
    };
    int luma_denominator = 0, chroma_denominator = 0;
    std::vector<Weight> weights[2];  // explicit ones; empty: none
    // Marking (7.4.3.3)
    bool no_output_of_prior = false, long_term = false, adaptive_marking = false;
    struct Marking {
        int operation = 0;  // memory_management_control_operation
        std::uint32_t a = 0, b = 0;
    };
    std::vector<Marking> markings;
    int cabac_init = 0;                     // cabac_init_idc
    int qp = 26;                            // SliceQPY
    int deblocking = 0;                     // disable_deblocking_filter_idc
    int alpha_offset = 0, beta_offset = 0;  // FilterOffsetA and B
    std::size_t bits = 0;                   // of the unescaped unit behind its header byte, before the slice data
};
// pic_struct (table D-1) of a picture timing message (D.1.3); nothing where the sequence's messages don't tell it.
inline constexpr std::uint32_t kPictureTimingMessage = 1;
std::optional<int> picture_structure(ByteSpan payload, const Sps& sps);

// `rbsp`: unescaped, without the header byte (7.3.3). Which parameter sets it takes depends on slice_pps_id().
std::optional<SliceHeader> parse_slice_header(int nal_header, ByteSpan rbsp, const Sps& sps, const Pps& pps);
// first_mb_in_slice and the PPS it names; nothing for what is no slice.
std::optional<std::pair<int, int>> slice_pps_id(ByteSpan rbsp);

// Makes an AVCDecoderConfigurationRecord from SPS and PPS NAL units (at least one each); four-byte lengths.
ByteVector make_config(const std::vector<ByteSpan>& sps, const std::vector<ByteSpan>& pps);
ByteVector make_config(ByteSpan sps, ByteSpan pps);
// The first SPS of a configuration record; nothing when it is malformed.
std::optional<Sps> parse_config(ByteSpan config);
// All parameter sets of a configuration record, and how many bytes its lengths have.
struct ParameterSets {
    std::vector<ByteSpan> units;
    int length_size = 4;
};
std::optional<ParameterSets> parameter_sets(ByteSpan config);

// Table A-1: macroblocks a second, a frame and in the picture buffer, rate and buffer in 1000 bits for Baseline and
// Main.
struct Level {
    int idc;
    std::int64_t rate, frame, pictures, kbps, buffer;
};
std::span<const Level> levels();
// By what a profile's rate and buffer are larger (A.3.3).
double rate_factor(int profile_idc);

// Names a level number of device descriptions ("3.1", "4") as level_idc, 0 when it is none.
int level_idc_from_name(const std::string& name);

}  // namespace wavecrest::bitstream::h264
