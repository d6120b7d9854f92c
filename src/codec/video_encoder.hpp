// Pictures to coded video by settings that mean the same for every codec, as far as there is such a thing: H.264 by
// x264 (8 bits), H.265 by x265, VP9 by libvpx, AV1 by SVT-AV1 (8 or 10 bits).
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "codec/pass_notes.hpp"
#include "media/flow.hpp"

namespace wavecrest::codec {

struct VideoEncoderSettings {
    Codec codec = Codec::h264;
    int width = 0;
    int height = 0;
    Ratio pixel_aspect{1, 1};
    Ratio frame_rate{25, 1};
    bool variable_rate = false;  // frames come at times of their own; frame_rate is the highest usual one
    int bit_depth = 8;           // 8 or 10, of the pictures and of what is made of them
    ColourDescription colour;
    // High dynamic range: told in the streams of H.265 and AV1, and in the track for containers.
    std::optional<media::MasteringDisplay> mastering_display;
    std::optional<media::ContentLight> content_light;
    std::string profile;  // the standard's, in lower case: "baseline", "main", "main10"; empty: the usual one
    std::string level;    // "3.1"; empty: as the stream needs
    int effort = 5;       // 1 (fastest) to 9 (smallest); 5 is the medium one
    double quality = 75;  // 0 (worst) to 100 (best); see rate_factor()
    // Instead of by quality: to this average, bit/s; 0: by quality. In one pass, or in two over the same pictures by
    // encoders with otherwise equal settings and the same notes; what the first gives is not to be used.
    std::int64_t mean_bps = 0;
    enum class Pass { only, first, second } pass = Pass::only;
    std::shared_ptr<PassNotes> notes;
    std::int64_t peak_bps = 0;     // highest rate over the buffer; 0: no limit
    Time buffer{};                 // decoder buffer at peak_bps; 0 with no limit
    double buffer_level = 0.9;     // how full it is at the start, 0 to 1
    Time keyframe_distance{};      // longest; 0: the encoder's choice
    bool fixed_keyframes = false;  // exactly that far apart, whatever is in the pictures
    Time lookahead{};              // how far H.264's and H.265's encoders look ahead at most; 0: the encoder's choice
    bool interlaced = false;       // H.264: adaptive frames (MBAFF) of two fields, the upper one first
    int threads = 0;               // 0: as many as processors
};

// Whether an average can go with a peak that is held: not by VP9 and AV1.
bool holds_peak_with_mean(Codec codec);
// How often the first of two passes is to be made until the average is held: by AV1's encoder twice.
int first_passes(Codec codec);
// The longest distance between keyframes, where the settings leave it to the encoder, too.
Time keyframe_distance(const VideoEncoderSettings& settings);
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
