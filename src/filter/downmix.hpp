// Surround audio folded down to two channels.
#pragma once

#include "media/types.hpp"

namespace wavecrest::filter {

// Rec. ITU-R BS.775-3, table 2: left + 0.7071 centre + 0.7071 surround (the same for the right), low frequency left
// out; the programme's own shares and gain where it says them. What is loud on all channels goes beyond full scale: a
// limiter (limiter.hpp) belongs behind it. Mono and stereo pass unchanged.
void fold_to_stereo(AudioFrames& audio);

// Mono doubled to stereo, or stereo's mean as mono: for audio that changes inside a track. Other counts are left alone.
void match_channels(AudioFrames& audio, int channels);

}  // namespace wavecrest::filter
