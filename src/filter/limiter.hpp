// Keeps samples within full scale, or a ceiling below it: the gain goes down shortly before a peak and comes back after
// it. What has no such peaks comes out as it went in, to the bit.
#pragma once

#include <cstdint>
#include <deque>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::filter {

class Limiter {
  public:
    Limiter(int sample_rate, int channels, float ceiling = 0.999f);

    // Takes continuous audio; appends what is due, which lags by 5 ms. Its time stays right.
    void push(const AudioFrames& audio, std::vector<AudioFrames>& out);
    void flush(std::vector<AudioFrames>& out);

  private:
    // The next frame is due, with the lowest gain of those up to 5 ms behind it; gives the gain it gets.
    float gain_for_next(float lowest);
    void give(AudioFrames& audio);

    int sample_rate_, channels_;
    float ceiling_;
    std::int64_t ahead_;                                 // frames looked ahead
    float release_;                                      // share of the way back to unity that is gone with each frame
    std::vector<float> waiting_;                         // samples that are not out yet
    Time start_{};                                       // of the first frame of all
    std::int64_t taken_ = 0, given_ = 0;                 // frames
    std::deque<std::pair<std::int64_t, float>> lowest_;  // of the last `ahead_` frames taken: where, gain; rising
    std::deque<float> gains_;                            // of the last `ahead_` frames; empty where all are 1
    double gain_sum_ = 0;
    float back_ = 1;  // where the way back has come to
    int unity_ = 0;   // frames in a row that needed nothing
};

}  // namespace wavecrest::filter
