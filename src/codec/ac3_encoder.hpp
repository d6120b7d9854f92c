// AudioFrames to AC-3 (ETSI TS 102 366), 48 kHz: mono to 5.1. Own code: for sample discs, and for receivers on an
// optical link.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::codec {

// Samples by which decoded audio is late against what was put in: the transform's overlap.
inline constexpr int kAc3Delay = 256;
inline constexpr int kAc3FrameSamples = 1536;

struct Ac3Settings {
    Speakers speakers = media::speaker::kStereo;  // centre; stereo; 3.0, 2.1 surround ... to 5.1 (with or without LFE)
    std::int64_t bitrate_bps = 192'000;           // one of table 4.13: 32, 40, 48, 56, 64, 80, 96 ... 640 kbit/s
    Purpose purpose = Purpose::main;
    int dialogue_level = 27;  // dB below full scale, 1 to 31
};

// Fails (kind usage) for channels or a rate the format does not list, or a rate too low for the channels. Packets are
// whole frames; the first begins kAc3Delay samples before the first audio.
Result<std::unique_ptr<media::AudioEncoder>> make_ac3_encoder(const Ac3Settings& settings);

}  // namespace wavecrest::codec
