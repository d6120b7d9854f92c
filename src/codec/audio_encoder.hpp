// Samples to coded audio, by settings that mean the same for every codec: AAC by vo-aacenc, AC-3 and LPCM by our own
// code, Opus, FLAC and MP3 by their own libraries.
#pragma once

#include <memory>
#include <string>

#include "media/flow.hpp"

namespace wavecrest::codec {

struct AudioEncoderSettings {
    Codec codec = Codec::aac;
    int sample_rate = 48000;                      // Hz
    Speakers speakers = media::speaker::kStereo;  // as nearest_layout() gives
    std::int64_t bitrate_bps = 160'000;           // of all channels together; lossless codecs have none
    int bit_depth = 16;                           // of FLAC and LPCM: 16 or 24
    Purpose purpose = Purpose::main;
};

// Can audio be encoded by this codec: aac, ac3, opus, mp3, flac, lpcm?
bool can_encode_audio(Codec codec);
// What a codec takes of a source: the nearest of its sample rates that loses nothing, and the layout that keeps most
// channels: of 7.1 AAC and AC-3 take 5.1, MP3 stereo.
int nearest_rate(Codec codec, int sample_rate);
Speakers nearest_layout(Codec codec, Speakers speakers);

// Fails (kind usage) for a layout, a rate or a bit rate that the codec does not have. Packets are whole frames, and
// begin before the first sample by the codec's delay; audio must come without gaps.
Result<std::unique_ptr<media::AudioEncoder>> make_audio_encoder(const AudioEncoderSettings& settings);

// One adapter each; used by make_audio_encoder. (AAC: codec/aac_encoder.hpp, AC-3: codec/ac3_encoder.hpp.)
Result<std::unique_ptr<media::AudioEncoder>> make_surround_aac_encoder(const AudioEncoderSettings& settings);  // 5.1
Result<std::unique_ptr<media::AudioEncoder>> make_opus_encoder(const AudioEncoderSettings& settings);
Result<std::unique_ptr<media::AudioEncoder>> make_flac_encoder(const AudioEncoderSettings& settings);
Result<std::unique_ptr<media::AudioEncoder>> make_mp3_encoder(const AudioEncoderSettings& settings);
Result<std::unique_ptr<media::AudioEncoder>> make_lpcm_encoder(const AudioEncoderSettings& settings);

}  // namespace wavecrest::codec
