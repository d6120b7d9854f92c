#include "filter/resample.hpp"

#include <fmt/format.h>
#include <soxr.h>

namespace wavecrest::filter {

Result<std::unique_ptr<Resampler>> Resampler::create(int from_rate, int to_rate, int channels) {
    std::unique_ptr<Resampler> self(new Resampler(from_rate, to_rate, channels));
    soxr_error_t error = nullptr;
    const soxr_quality_spec_t quality = soxr_quality_spec(SOXR_HQ, 0);
    self->state_ = soxr_create(from_rate, to_rate, static_cast<unsigned>(channels), &error, nullptr, &quality, nullptr);
    if (error != nullptr || self->state_ == nullptr) {
        return fail(ErrorKind::input, "the audio can't be resampled", fmt::format("{} Hz to {} Hz", from_rate, to_rate),
                    "choose another audio track");
    }
    return self;
}

Resampler::~Resampler() {
    if (state_ != nullptr) soxr_delete(static_cast<soxr_t>(state_));
}

void Resampler::push(const AudioFrames& audio, std::vector<AudioFrames>& out) {
    if (audio.channels != channels_ || audio.samples.empty()) return;
    if (!begun_) {
        begun_ = true;
        start_ = audio.pts;
        form_ = audio;
        form_.samples.clear();
        form_.sample_rate = to_rate_;
    }
    taken_ += static_cast<std::int64_t>(audio.frames());
    run(audio.samples.data(), audio.frames(), out);
}

void Resampler::flush(std::vector<AudioFrames>& out) {
    if (begun_) run(nullptr, 0, out);
}

void Resampler::run(const float* samples, std::size_t frames, std::vector<AudioFrames>& out) {
    std::size_t taken = 0;
    bool more = true;
    while (more) {
        AudioFrames piece = form_;
        constexpr std::size_t kPiece = 4096;
        piece.samples.resize(kPiece * static_cast<std::size_t>(channels_));
        std::size_t used = 0, made = 0;
        const float* from = samples == nullptr ? nullptr : samples + taken * static_cast<std::size_t>(channels_);
        if (soxr_process(static_cast<soxr_t>(state_), from, frames - taken, &used, piece.samples.data(), kPiece,
                         &made) != nullptr)
            return;
        taken += used;
        more = made == kPiece || (samples != nullptr && taken < frames && used > 0);
        if (made == 0) continue;
        piece.samples.resize(made * static_cast<std::size_t>(channels_));
        piece.pts = start_ + base::from_ticks(given_, to_rate_);
        given_ += static_cast<std::int64_t>(made);
        out.push_back(std::move(piece));
    }
}

}  // namespace wavecrest::filter
