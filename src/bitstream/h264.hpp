// H.264 headers (Rec. ITU-T H.264): sequence parameter sets, and the configuration record MP4 keeps them in
// (ISO/IEC 14496-15, 5.3.3.1).
#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream::h264 {

enum NalType { kSlice = 1, kIdrSlice = 5, kSei = 6, kSps = 7, kPps = 8 };

struct Sps {
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
