#include "codec/video_decoder.hpp"

#include <fmt/format.h>

#include "codec/mpeg2_decoder.hpp"

namespace wavecrest::codec {

std::string why_no_pictures(const Track& track) {
    switch (track.codec) {
        case Codec::mpeg1:
        case Codec::mpeg2:
        case Codec::vp8:
            return "";
        case Codec::mpeg4:
            return track.width > 0 && track.height > 0 ? "" : "MPEG-4 video without a size";
        case Codec::h264:
            return why_no_h264(track);
        case Codec::h265:
        case Codec::vp9:
        case Codec::av1:
            if (track.bit_depth > 10)
                return fmt::format("{} with {} bits can be remuxed but not decoded", media::display_name(track.codec),
                                   track.bit_depth);
            return "";
        case Codec::unknown:
            return fmt::format("video codec {} is not supported",
                               track.profile.empty() ? "of an unknown kind" : track.profile);
        default:
            return fmt::format("{} can't be decoded yet", media::display_name(track.codec));
    }
}

bool can_decode_video(const Track& track) {
    return why_no_pictures(track).empty();
}

Result<std::unique_ptr<media::VideoDecoder>> make_video_decoder(const Track& track) {
    if (std::string why = why_no_pictures(track); !why.empty())
        return fail(ErrorKind::input, std::move(why), fmt::format("video track {}", track.id),
                    "remux them: convert --remux");
    switch (track.codec) {
        case Codec::mpeg4:
            return make_mpeg4_decoder(track);
        case Codec::h264:
            return make_h264_decoder(track);
        case Codec::h265:
            return make_h265_decoder(track);
        case Codec::vp8:
        case Codec::vp9:
            return make_vpx_decoder(track);
        case Codec::av1:
            return make_av1_decoder(track);
        default:
            return make_mpeg2_decoder(track);
    }
}

}  // namespace wavecrest::codec
