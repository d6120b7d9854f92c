// The one time type. A `Time` counts flicks (1/705 600 000 s), which hold film and video frame durations
// (24000/1001, 25, 30000/1001 ...), 90 kHz, milliseconds and 44.1/48 kHz sample periods without rounding.
// Wire clocks exist only inside the reader or writer that needs them and are converted here.
#pragma once

#include <chrono>
#include <cstdint>
#include <string>

namespace wavecrest {
namespace base {

inline constexpr std::int64_t kFlicksPerSecond = 705'600'000;

using Time = std::chrono::duration<std::int64_t, std::ratio<1, kFlicksPerSecond>>;

// A ratio of whole numbers: frame rates (frames per second), aspects (width to height).
struct Ratio {
    std::int64_t num = 0;
    std::int64_t den = 1;

    double value() const { return den == 0 ? 0.0 : static_cast<double>(num) / static_cast<double>(den); }
    bool operator==(const Ratio& other) const = default;
};

// The same ratio in lowest terms; 0/1 for a zero denominator.
Ratio reduced(Ratio ratio);

// value * num / den rounded to nearest (halves away from zero), computed in 128 bits; den > 0.
std::int64_t rescale(std::int64_t value, std::int64_t num, std::int64_t den);

// Ticks of a clock of `rate` ticks per second (> 0), to and from Time; rounded to nearest.
inline Time from_ticks(std::int64_t ticks, std::int64_t rate) {
    return Time(rescale(ticks, kFlicksPerSecond, rate));
}
inline std::int64_t to_ticks(Time time, std::int64_t rate) {
    return rescale(time.count(), rate, kFlicksPerSecond);
}

// The time of `frames` frames at `rate` frames per second; exact for all rates in use.
inline Time frames_to_time(std::int64_t frames, Ratio rate) {
    return Time(rescale(frames, kFlicksPerSecond * rate.den, rate.num));
}

inline double to_seconds(Time time) {
    return static_cast<double>(time.count()) / kFlicksPerSecond;
}
Time from_seconds(double seconds);

}  // namespace base

using base::Ratio;
using base::Time;

}  // namespace wavecrest
