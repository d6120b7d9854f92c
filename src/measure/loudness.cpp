#include "measure/loudness.hpp"

#include <ebur128.h>

#include <algorithm>
#include <cmath>

namespace wavecrest::measure {

struct ProgrammeLoudness::State {
    ebur128_state* meter = nullptr;
    std::int64_t since = 0;
    std::vector<std::pair<Time, float>> short_term;

    ~State() {
        if (meter != nullptr) ebur128_destroy(&meter);
    }

    // The meter weighs surround channels, and leaves the low-frequency one out.
    void begin(const AudioFrames& audio) {
        meter = ebur128_init(static_cast<unsigned>(audio.channels), static_cast<unsigned long>(audio.sample_rate),
                             EBUR128_MODE_I | EBUR128_MODE_S | EBUR128_MODE_LRA | EBUR128_MODE_TRUE_PEAK);
        if (meter == nullptr) return;
        const Speakers speakers = audio.speakers != 0 ? audio.speakers : media::usual_speakers(audio.channels);
        unsigned index = 0;
        for (unsigned bit = 0; bit < 16 && index < meter->channels; ++bit) {
            const Speakers place = 1u << bit;
            if ((speakers & place) == 0) continue;
            using namespace media::speaker;
            const int kind = place == kLeft           ? EBUR128_LEFT
                             : place == kRight        ? EBUR128_RIGHT
                             : place == kCentre       ? (audio.channels == 1 ? EBUR128_DUAL_MONO : EBUR128_CENTER)
                             : place == kLowFrequency ? EBUR128_UNUSED
                             : place == kLeftSurround || place == kLeftBack ? EBUR128_LEFT_SURROUND
                                                                            : EBUR128_RIGHT_SURROUND;
            ebur128_set_channel(meter, index++, kind);
        }
    }
};

ProgrammeLoudness::ProgrammeLoudness() : state_(std::make_unique<State>()) {}
ProgrammeLoudness::~ProgrammeLoudness() = default;
ProgrammeLoudness::ProgrammeLoudness(ProgrammeLoudness&&) noexcept = default;

void ProgrammeLoudness::push(const AudioFrames& audio) {
    State& s = *state_;
    if (audio.channels <= 0 || audio.samples.empty()) return;
    if (s.meter == nullptr) s.begin(audio);
    if (s.meter == nullptr || static_cast<int>(s.meter->channels) != audio.channels) return;
    ebur128_add_frames_float(s.meter, audio.samples.data(), audio.frames());
    s.since += static_cast<std::int64_t>(audio.frames());
    while (s.since >= audio.sample_rate) {
        s.since -= audio.sample_rate;
        double value = 0;
        const bool known = ebur128_loudness_shortterm(s.meter, &value) == EBUR128_SUCCESS;
        const Time at = audio.pts + base::from_ticks(static_cast<std::int64_t>(audio.frames()), audio.sample_rate);
        s.short_term.emplace_back(at, known ? static_cast<float>(std::max(value, -90.0)) : -90.0f);
    }
}

std::optional<Loudness> ProgrammeLoudness::result() const {
    const State& s = *state_;
    Loudness loudness;
    double value = 0;
    if (s.meter == nullptr || ebur128_loudness_global(s.meter, &value) != EBUR128_SUCCESS) return std::nullopt;
    loudness.integrated = value;
    if (ebur128_loudness_range(s.meter, &value) == EBUR128_SUCCESS) loudness.range = value;
    double peak = 0;
    for (unsigned c = 0; c < s.meter->channels; ++c) {
        if (ebur128_true_peak(s.meter, c, &value) == EBUR128_SUCCESS) peak = std::max(peak, value);
    }
    loudness.true_peak = peak > 0 ? 20 * std::log10(peak) : -HUGE_VAL;
    loudness.short_term = s.short_term;
    return loudness;
}

}  // namespace wavecrest::measure
