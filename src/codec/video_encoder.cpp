#include "codec/video_encoder.hpp"

#include <fmt/format.h>

namespace wavecrest::codec {

bool can_encode_video(Codec codec) {
    return codec == Codec::h264;
}

Result<std::unique_ptr<media::VideoEncoder>> make_video_encoder(const VideoEncoderSettings& settings) {
    switch (settings.codec) {
        case Codec::h264:
            return make_h264_encoder(settings);
        default:
            return fail(ErrorKind::usage, fmt::format("{} video can't be encoded", media::display_name(settings.codec)),
                        "video settings of the profile", "use a profile with another codec");
    }
}

}  // namespace wavecrest::codec
