// The decoder for a subtitle track that is made of images.
#pragma once

#include "codec/pgs.hpp"
#include "codec/subpicture.hpp"

namespace wavecrest::codec {

inline std::unique_ptr<media::SubtitleDecoder> make_subtitle_decoder(const Track& track) {
    return track.codec == Codec::pgs ? make_pgs_decoder(track) : make_subpicture_decoder(track);
}

}  // namespace wavecrest::codec
