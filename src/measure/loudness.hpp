// How loud a programme is, by EBU R 128 and ITU-R BS.1770 (libebur128).
#pragma once

#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::measure {

struct Loudness {
    double integrated = 0;  // LUFS (EBU R 128)
    double range = 0;       // LU
    double true_peak = 0;   // dBTP
    // LUFS of three-second windows, by their ends; one a second.
    std::vector<std::pair<Time, float>> short_term;
    double share = 1;  // of the audio that was decoded for it
};

// Audio as it is heard, in order. What has another number of channels than the first is left out.
class ProgrammeLoudness {
  public:
    ProgrammeLoudness();
    ~ProgrammeLoudness();
    ProgrammeLoudness(ProgrammeLoudness&&) noexcept;

    void push(const AudioFrames& audio);
    // So far; nothing where there was no audio.
    std::optional<Loudness> result() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::measure
