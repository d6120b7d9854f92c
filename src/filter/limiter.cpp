#include "filter/limiter.hpp"

#include <algorithm>
#include <cmath>

namespace wavecrest::filter {
namespace {

constexpr double kAhead = 0.005, kRelease = 0.15;  // seconds

}  // namespace

Limiter::Limiter(int sample_rate, int channels, float ceiling)
    : sample_rate_(sample_rate),
      channels_(channels),
      ceiling_(ceiling),
      ahead_(std::max<std::int64_t>(1, std::llround(kAhead * sample_rate))),
      release_(static_cast<float>(1 - std::exp(-1 / (kRelease * sample_rate)))) {}

// The gain of a frame is the mean, over as many frames before it, of the lowest that lies ahead: it is reached in time,
// and without a step.
float Limiter::gain_for_next(float lowest) {
    if (lowest >= 1 && gains_.empty()) return 1;
    if (gains_.empty()) {
        // A peak at the very beginning has nothing before it in which the gain could go down.
        back_ = taken_ == ahead_ ? lowest : 1;
        gains_.assign(static_cast<std::size_t>(ahead_), back_);
        gain_sum_ = static_cast<double>(back_) * static_cast<double>(ahead_);
        unity_ = 0;
    }
    back_ = std::min(back_ + (1 - back_) * release_, lowest);
    if (back_ > 0.9999f) back_ = 1;
    gain_sum_ += static_cast<double>(back_) - static_cast<double>(gains_.front());
    gains_.pop_front();
    gains_.push_back(back_);
    unity_ = back_ < 1 ? 0 : unity_ + 1;
    const float gain = std::min(1.0f, static_cast<float>(gain_sum_ / static_cast<double>(ahead_)));
    if (unity_ > ahead_) gains_.clear();
    return gain;
}

void Limiter::push(const AudioFrames& audio, std::vector<AudioFrames>& out) {
    if (audio.samples.empty() || audio.channels != channels_) return;
    if (taken_ == 0) start_ = audio.pts;
    const auto channels = static_cast<std::size_t>(channels_);
    waiting_.insert(waiting_.end(), audio.samples.begin(), audio.samples.end());
    AudioFrames due;
    for (std::size_t n = 0; n < audio.frames(); ++n, ++taken_) {
        float peak = 0;
        for (std::size_t c = 0; c < channels; ++c) peak = std::max(peak, std::abs(audio.samples[n * channels + c]));
        const float gain = peak > ceiling_ ? ceiling_ / peak : 1;
        while (!lowest_.empty() && lowest_.back().second >= gain) lowest_.pop_back();
        if (gain < 1) lowest_.emplace_back(taken_, gain);
        while (!lowest_.empty() && lowest_.front().first < taken_ - ahead_) lowest_.pop_front();
        if (taken_ < ahead_) continue;
        const float given = gain_for_next(lowest_.empty() ? 1 : lowest_.front().second);
        const std::size_t at = due.samples.size();
        for (std::size_t c = 0; c < channels; ++c) due.samples.push_back(waiting_[at + c] * given);
    }
    waiting_.erase(waiting_.begin(), waiting_.begin() + static_cast<std::ptrdiff_t>(due.samples.size()));
    give(due);
    if (!due.samples.empty()) out.push_back(std::move(due));
}

void Limiter::flush(std::vector<AudioFrames>& out) {
    // Silence behind the end lets the last frames out.
    AudioFrames silence;
    silence.channels = channels_;
    silence.samples.assign(static_cast<std::size_t>(ahead_ * channels_), 0.0f);
    const std::int64_t end = taken_;
    if (end == 0) return;
    push(silence, out);
    taken_ = end;
    waiting_.clear();
}

void Limiter::give(AudioFrames& audio) {
    audio.sample_rate = sample_rate_;
    audio.channels = channels_;
    audio.pts = start_ + base::from_ticks(given_, sample_rate_);
    given_ += static_cast<std::int64_t>(audio.frames());
}

}  // namespace wavecrest::filter
