// Coded audio to samples: LPCM by our own code, AC-3 by liba52, DTS by libdca, MPEG audio by mpg123, AAC by faad2,
// FLAC, Opus and Vorbis by their own libraries.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

// Whether tracks of this codec can be decoded, wholly or by the core they carry: AC-3, E-AC-3 and TrueHD with an AC-3
// core, DTS and its extensions by the DTS core, MPEG layers I to III, AAC, FLAC, Opus, Vorbis, LPCM.
bool can_decode_audio(const Track& track);

// Packets hold one frame each (LPCM: plain samples as bitstream/lpcm.hpp tells). A damaged frame gives silence of its
// length, so that audio stays in step. Fails (kind input) for other codecs, and for E-AC-3 without a core at its first
// packet.
Result<std::unique_ptr<media::AudioDecoder>> make_audio_decoder(const Track& track);

// One adapter each; used by make_audio_decoder.
std::unique_ptr<media::AudioDecoder> make_ac3_decoder(const Track& track);
std::unique_ptr<media::AudioDecoder> make_dts_decoder(const Track& track);
std::unique_ptr<media::AudioDecoder> make_mpeg_audio_decoder(const Track& track);
std::unique_ptr<media::AudioDecoder> make_aac_decoder(const Track& track);
std::unique_ptr<media::AudioDecoder> make_flac_decoder(const Track& track);
std::unique_ptr<media::AudioDecoder> make_opus_decoder(const Track& track);
std::unique_ptr<media::AudioDecoder> make_vorbis_decoder(const Track& track);

}  // namespace wavecrest::codec
