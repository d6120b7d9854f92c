#include "codec/video_encoder.hpp"

#include <fmt/format.h>

namespace wavecrest::codec {

bool holds_peak_with_mean(Codec codec) {
    return codec == Codec::h264 || codec == Codec::h265;
}

int first_passes(Codec codec) {
    return codec == Codec::av1 ? 2 : 1;
}

Time keyframe_distance(const VideoEncoderSettings& settings) {
    if (settings.keyframe_distance.count() > 0) return settings.keyframe_distance;
    if (settings.codec == Codec::av1) return base::from_seconds(10);
    const int pictures = settings.codec == Codec::vp9 ? 128 : 250;  // the libraries' own
    return base::frames_to_time(pictures, settings.frame_rate);
}

bool can_encode_video(Codec codec) {
    return codec == Codec::h264 || codec == Codec::h265 || codec == Codec::vp9 || codec == Codec::av1;
}

Result<std::unique_ptr<media::VideoEncoder>> make_video_encoder(const VideoEncoderSettings& settings) {
    // Checked here: what a library says of a size differs, and one leaks a little when it refuses it itself.
    constexpr int kLargest = 16384;
    if (settings.width <= 0 || settings.height <= 0 || settings.width > kLargest || settings.height > kLargest ||
        settings.width % 2 != 0 || settings.height % 2 != 0 || settings.frame_rate.num <= 0 ||
        settings.frame_rate.den <= 0) {
        return fail(ErrorKind::usage,
                    fmt::format("{}x{} at {} fps can't be encoded", settings.width, settings.height,
                                settings.frame_rate.den > 0 ? settings.frame_rate.value() : 0.0),
                    "video settings of the profile", "change the profile (wavecrest profile show NAME prints it)");
    }
    if (settings.mean_bps > 0 && settings.peak_bps > 0 && !holds_peak_with_mean(settings.codec)) {
        return fail(ErrorKind::usage,
                    fmt::format("{} holds a peak only with a quality, not with an average bit rate",
                                media::display_name(settings.codec)),
                    "video settings of the profile", "leave out peak_bitrate, or use visual_quality");
    }
    if (settings.pass != VideoEncoderSettings::Pass::only && !settings.notes) {
        return fail(ErrorKind::usage, "one of two passes needs notes", "video settings", "give it PassNotes");
    }
    switch (settings.codec) {
        case Codec::h264:
            return make_h264_encoder(settings);
        case Codec::h265:
            return make_h265_encoder(settings);
        case Codec::vp9:
            return make_vp9_encoder(settings);
        case Codec::av1:
            return make_av1_encoder(settings);
        default:
            return fail(ErrorKind::usage, fmt::format("{} video can't be encoded", media::display_name(settings.codec)),
                        "video settings of the profile", "use a profile with another codec");
    }
}

}  // namespace wavecrest::codec
