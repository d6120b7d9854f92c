// Pictures to coded video by settings that mean the same for every codec, as far as there is such a thing: H.264 by
// x264, H.265 by x265, VP9 by libvpx, AV1 by SVT-AV1; 8 bits.
#pragma once

#include <memory>
#include <string>

#include "media/flow.hpp"

namespace wavecrest::codec {

struct VideoEncoderSettings {
    Codec codec = Codec::h264;
    int width = 0;
    int height = 0;
    Ratio pixel_aspect{1, 1};
    Ratio frame_rate{25, 1};
    bool variable_rate = false;  // frames come at times of their own; frame_rate is the highest usual one
    ColourDescription colour;
    std::string profile;        // the standard's, in lower case: "baseline", "main", "high"; empty: the usual one
    std::string level;          // "3.1"; empty: as the stream needs
    int effort = 5;             // 1 (fastest) to 9 (smallest); 5 is the medium one
    double quality = 75;        // 0 (worst) to 100 (best); see rate_factor()
    std::int64_t peak_bps = 0;  // highest rate over the buffer; 0: no limit
    Time buffer{};              // decoder buffer at peak_bps; 0 with no limit
    Time keyframe_distance{};   // longest; 0: the encoder's choice
    bool interlaced = false;    // H.264: adaptive frames (MBAFF) of two fields, the upper one first
    int threads = 0;            // 0: as many as processors
};

// Can pictures be encoded by this codec?
bool can_encode_video(Codec codec);
// Fails (kind usage) for settings the encoder refuses. Packets of H.264 and H.265 have four-byte NAL lengths, those of
// AV1 no temporal delimiters; track().codec_config is what containers carry (bitstream/headers.hpp). Pictures keep
// their own times; in H.264 their frame packing is told at keyframes and where it changes. Decoding can start at every
// keyframe.
Result<std::unique_ptr<media::VideoEncoder>> make_video_encoder(const VideoEncoderSettings& settings);

// The scale of quality is H.264's rate factor (x264's, 0 best to 51 worst) turned into one that people expect: 100 is
// factor 11, which nobody can tell from the source, and each point less is 0.4 more. 80 (factor 19) is visually
// lossless for most; 67.5 (24) is fine on a small screen.
constexpr double rate_factor(double quality) {
    return 51 - 0.4 * quality;
}
constexpr double quality_of_rate_factor(double factor) {
    return (51 - factor) / 0.4;
}

// One adapter each; used by make_video_encoder.
Result<std::unique_ptr<media::VideoEncoder>> make_h264_encoder(const VideoEncoderSettings& settings);
Result<std::unique_ptr<media::VideoEncoder>> make_h265_encoder(const VideoEncoderSettings& settings);
Result<std::unique_ptr<media::VideoEncoder>> make_vp9_encoder(const VideoEncoderSettings& settings);
Result<std::unique_ptr<media::VideoEncoder>> make_av1_encoder(const VideoEncoderSettings& settings);

}  // namespace wavecrest::codec
