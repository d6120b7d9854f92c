// Coded pictures to pictures: H.264 by our own decoder, MPEG-1/2 by libmpeg2, MPEG-4 part 2 by xvidcore, H.265 by
// libde265, VP8 and VP9 by libvpx, AV1 by dav1d. Pictures are 4:2:0 of 8 bits, and of 10 in H.265, VP9
// and AV1; what has more can be kept (remuxed), not decoded.
#pragma once

#include <memory>
#include <string>

#include "media/flow.hpp"

namespace wavecrest::codec {

bool can_decode_video(const Track& track);
// Why not, for people: "h264 pictures can't be decoded yet"; empty when they can.
std::string why_no_pictures(const Track& track);

// Fails (kind input) for tracks that can't be decoded.
Result<std::unique_ptr<media::VideoDecoder>> make_video_decoder(const Track& track);

// One adapter each; used by make_video_decoder.
std::unique_ptr<media::VideoDecoder> make_mpeg4_decoder(const Track& track);
// Why an H.264 track can't be decoded, by its parameter sets; empty: it can.
std::string why_no_h264(const Track& track);
std::unique_ptr<media::VideoDecoder> make_h264_decoder(const Track& track);  // our own (h264/)
std::unique_ptr<media::VideoDecoder> make_h265_decoder(const Track& track);
std::unique_ptr<media::VideoDecoder> make_vpx_decoder(const Track& track);
std::unique_ptr<media::VideoDecoder> make_av1_decoder(const Track& track);

}  // namespace wavecrest::codec
