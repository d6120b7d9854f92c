// Audio at another sample rate, by soxr.
#pragma once

#include <memory>
#include <vector>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

// For one interval of continuous audio: its first sample keeps its time.
class Resampler {
  public:
    static Result<std::unique_ptr<Resampler>> create(int from_rate, int to_rate, int channels);
    ~Resampler();
    Resampler(const Resampler&) = delete;
    Resampler& operator=(const Resampler&) = delete;

    int from_rate() const { return from_rate_; }
    int channels() const { return channels_; }
    // Time up to which audio was taken: what follows begins here.
    Time end() const { return start_ + base::from_ticks(taken_, from_rate_); }
    // Appends what is due.
    void push(const AudioFrames& audio, std::vector<AudioFrames>& out);
    void flush(std::vector<AudioFrames>& out);

  private:
    Resampler(int from_rate, int to_rate, int channels)
        : from_rate_(from_rate), to_rate_(to_rate), channels_(channels) {}
    void run(const float* samples, std::size_t frames, std::vector<AudioFrames>& out);

    int from_rate_, to_rate_, channels_;
    void* state_ = nullptr;
    bool begun_ = false;
    Time start_{};
    std::int64_t taken_ = 0, given_ = 0;
    AudioFrames form_;  // what all pieces have in common
};

}  // namespace wavecrest::filter
