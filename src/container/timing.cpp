#include "container/timing.hpp"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <utility>

namespace wavecrest::container {

Time PictureGrid::snap(Time time) {
    if (rate_.num <= 0 || rate_.den <= 0) return time;
    const auto nearest = [&](Time from) {
        const std::int64_t pictures =
            base::rescale((time - from).count(), rate_.num, base::kFlicksPerSecond * rate_.den);
        return from + base::frames_to_time(pictures, rate_);
    };
    if (!anchored_) {
        anchored_ = true;
        const Time on_zero = nearest(Time{});
        anchor_ = std::chrono::abs(on_zero - time) <= tolerance_ ? on_zero : time;
        return anchor_;
    }
    const Time snapped = nearest(anchor_);
    // An anchor that was itself rounded may be off by as much again.
    return std::chrono::abs(snapped - time) <= 2 * tolerance_ ? snapped : time;
}

Time AudioClock::on_timeline(Time stated, Time duration) {
    // A little more than half a tick of 90 kHz and half a sample of 48 kHz: what was rounded says the same.
    constexpr Time kSample{12'000};  // 17 µs
    Time time = next_;
    const Time tolerance = std::exchange(rejoined_, false) ? std::min(kSample, tolerance_) : tolerance_;
    if (!begun_ || std::chrono::abs(stated - next_) > tolerance) {
        time = sample_rate_ > 0 ? base::from_ticks(base::to_ticks(stated, sample_rate_), sample_rate_) : stated;
        if (std::chrono::abs(time - stated) > tolerance_) time = stated;
    }
    begun_ = true;
    next_ = time + duration;
    return time;
}

Time AudioClock::next(Time duration) {
    const Time time = next_;
    next_ += duration;
    return time;
}

Time DecodingTimes::next(Time pts) {
    waiting_.push(pts);
    if (!begun_) {
        begun_ = true;
        last_ = pts - period_ * (static_cast<std::int64_t>(depth_) + leading_ + 1);
    }
    Time dts = last_ + period_;
    if (waiting_.size() > depth_) {
        dts = waiting_.top();
        waiting_.pop();
    } else {
        dts = std::min(dts, pts);
    }
    if (dts > pts) {  // reordered deeper than was said
        ++depth_;
        dts = pts;
    }
    dts = std::max(dts, last_ + Time(1));
    last_ = dts;
    return dts;
}

Ratio rate_of_period(std::int64_t nanoseconds, double tolerance) {
    if (nanoseconds <= 0) return {0, 1};
    constexpr Ratio kRates[] = {{24000, 1001}, {24, 1}, {25, 1},       {30000, 1001}, {30, 1},       {48000, 1001},
                                {48, 1},       {50, 1}, {60000, 1001}, {60, 1},       {100, 1},      {120000, 1001},
                                {120, 1},      {15, 1}, {12, 1},       {10, 1},       {15000, 1001}, {12000, 1001}};
    for (const Ratio rate : kRates) {
        const double period = 1e9 / rate.value();
        if (std::abs(period - static_cast<double>(nanoseconds)) <= period * tolerance) return rate;
    }
    return base::reduced({1'000'000'000, nanoseconds});
}

}  // namespace wavecrest::container
