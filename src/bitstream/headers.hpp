// What a track's configuration and its first packet say of it, whichever the codec; and its name for the web.
//
// `Track::codec_config` holds, by codec: h264 the AVCDecoderConfigurationRecord, h265 the HEVC one, av1 and vp9 the
// bodies of their boxes av1C and vpcC, mpeg4 and vc1 their headers as they stand in front of the first picture, mpeg1
// and mpeg2 the sequence header with its extensions, aac the AudioSpecificConfig, flac the STREAMINFO block's body,
// opus "OpusHead" and on, vorbis its three headers (bitstream/xiph.hpp), ac3 and eac3 the bodies of the boxes dac3 and
// dec3, dvd-subpicture the palette (codec/subpicture.hpp). Others need none.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

// Fills in profile, level, size, colours, channels and so on, and the configuration where the container had none but
// the packet tells it. What containers say of pixel aspect and colour stays when it is there.
void describe_headers(Track& track, ByteSpan first_packet);
// Of MPEG-2: film with pulldown, told by the flags of the first pictures; the track's rate is then the film's.
void describe_cadence(Track& track, const std::vector<ByteSpan>& pictures);
// Whether that was enough to write the track down elsewhere; else what is missing, in words.
std::string missing_configuration(const Track& track);

// The codecs parameter of RFC 6381 and the registrations that extend it: "avc1.640028", "mp4a.40.2"; empty when none is
// registered.
std::string codec_string(const Track& track);

// How long an audio packet is, told by the packet itself; 0 when it can't be told (LPCM: from its size). `vorbis`
// packets have times that hang on the one before: see VorbisTimer.
Time audio_duration(const Track& track, ByteSpan packet);

// The box bodies of ETSI TS 102 366, annex F, from a frame; empty when it is none.
ByteVector make_ac3_config(ByteSpan frame);

}  // namespace wavecrest::bitstream
