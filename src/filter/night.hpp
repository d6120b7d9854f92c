// A reduced dynamic range, for listening at low volume: what is quiet becomes louder, what is loud quieter.
#pragma once

#include "media/types.hpp"

namespace wavecrest::filter {

// Above and below a middle level of -27 dBFS a change of 3 dB becomes one of 1 dB, within 12 dB of gain and 15 dB of
// attenuation; what is quieter than -55 dBFS is noise and isn't raised further. Levels are the loudest channel's mean
// power over about 30 ms; the gain falls within 10 ms, and rises within a second. All channels get the same.
class NightRange {
  public:
    explicit NightRange(int sample_rate);
    void apply(AudioFrames& audio);

  private:
    double level_share_, fall_share_, rise_share_;  // of the way there, with each frame
    double power_ = 0, gain_ = 1;
};

}  // namespace wavecrest::filter
