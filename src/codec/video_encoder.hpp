// Pictures to H.264, by x264.
#pragma once

#include <memory>
#include <string>

#include "media/flow.hpp"

namespace wavecrest::codec {

struct H264Settings {
    int width = 0;
    int height = 0;
    Ratio pixel_aspect{1, 1};
    Ratio frame_rate{25, 1};
    bool variable_rate = false;  // frames come at times of their own; frame_rate is the highest usual one
    ColourDescription colour;
    std::string profile = "high";  // baseline, main or high
    std::string level;             // "3.1"; empty: as the stream needs
    int effort = 5;                // 1 (fastest) to 9 (smallest); 5 is the medium one
    double quality = 21;           // constant rate factor, 0 to 51; lower is better and larger
    std::int64_t peak_bps = 0;     // highest rate over the buffer; 0: no limit
    Time buffer{};                 // decoder buffer at peak_bps; 0 with no limit
    Time keyframe_distance{};      // longest; 0: the encoder's choice
    bool interlaced = false;       // adaptive frames (MBAFF) of two fields, the upper one first
    int threads = 0;               // 0: as many as processors
};

// Fails (kind usage) for settings the encoder refuses. Packets have four-byte NAL lengths; track().codec_config is the
// avcC record. Pictures keep their own times; their frame packing is told at keyframes and where it changes.
Result<std::unique_ptr<media::VideoEncoder>> make_h264_encoder(const H264Settings& settings);

}  // namespace wavecrest::codec
