// The decoder for a subtitle track: images as they are, text drawn for the video it belongs to.
#pragma once

#include "codec/pgs.hpp"
#include "codec/subpicture.hpp"
#include "codec/text_renderer.hpp"

namespace wavecrest::codec {

// Fails only for text, where there is no font.
inline Result<std::unique_ptr<media::SubtitleDecoder>> make_subtitle_decoder(const Track& track, const Track& video) {
    if (track.codec == Codec::text) return make_text_renderer(video.width, video.height, video.pixel_aspect);
    return track.codec == Codec::pgs ? make_pgs_decoder(track) : make_subpicture_decoder(track);
}

}  // namespace wavecrest::codec
