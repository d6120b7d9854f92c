// What FLV's tags hold, which travels over RTMP as well: script data, configuration of codecs, pictures and audio
// (Adobe Flash Video File Format Specification 10.1, E.4).
#pragma once

#include <string_view>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::container::flv {

inline constexpr std::uint8_t kAudio = 8, kPicture = 9, kScript = 18;  // tag types

// The body of the script tag "onMetaData". `duration_at`, when given, gets where in it the duration's eight bytes are:
// 0 so far; without it there is none (a live stream).
ByteVector metadata(const std::vector<Track>& tracks, std::size_t* duration_at = nullptr);
// The body that tells how a track is decoded; empty where its codec needs none (MP3).
ByteVector configuration(const Track& track);
// The body for a packet of H.264, AAC or MP3. `composition_ms` is what a picture is shown later than decoded.
ByteVector body(const Track& track, const Packet& packet, std::int64_t composition_ms);

}  // namespace wavecrest::container::flv
