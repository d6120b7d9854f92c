#include "measure/rate.hpp"

#include <algorithm>
#include <cmath>

namespace wavecrest::measure {

RateCurve::RateCurve(const std::vector<RatePiece>& pieces) {
    // Each piece adds a slope where it begins and takes it away where it ends.
    struct Event {
        Time at;
        double slope;  // bytes per flick
    };
    std::vector<Event> events;
    events.reserve(pieces.size() * 2);
    for (const RatePiece& piece : pieces) {
        const Time from = std::max(piece.from, Time{});
        const Time to = std::max(piece.to, from + Time{1});
        const double slope = static_cast<double>(piece.bytes) / static_cast<double>((to - from).count());
        events.push_back({from, slope});
        events.push_back({to, -slope});
    }
    std::sort(events.begin(), events.end(), [](const Event& a, const Event& b) { return a.at < b.at; });
    double slope = 0, bytes = 0;
    Time last{};
    for (const Event& event : events) {
        bytes += slope * static_cast<double>((event.at - last).count());
        last = event.at;
        slope += event.slope;
        if (points_.empty() || points_.back().at != event.at) points_.push_back({event.at, bytes});
    }
}

double RateCurve::Walk::bytes_before(Time time) {
    while (next_ < points_.size() && points_[next_].at <= time) ++next_;
    if (next_ == 0) return 0;
    const Point& a = points_[next_ - 1];
    if (next_ == points_.size()) return a.bytes;
    const Point& b = points_[next_];
    const double part = static_cast<double>((time - a.at).count()) / static_cast<double>((b.at - a.at).count());
    return a.bytes + part * (b.bytes - a.bytes);
}

std::uint64_t RateCurve::bytes() const {
    return points_.empty() ? 0 : static_cast<std::uint64_t>(std::llround(points_.back().bytes));
}

std::int64_t RateCurve::mean_bps() const {
    const double seconds = base::to_seconds(duration());
    return seconds > 0 ? std::llround(points_.back().bytes * 8 / seconds) : 0;
}

std::int64_t RateCurve::peak_bps(Time window) const {
    if (points_.empty()) return 0;
    window = std::min(window, duration());
    if (window.count() <= 0) return 0;
    // The mean of a piecewise linear curve is highest for a window that begins or ends at one of its corners. Both
    // kinds move on monotonically, so each end of a window walks along the curve once.
    Walk begin(points_), end(points_), begin_before(points_);
    double most = 0;
    for (const Point& point : points_) {
        most = std::max(most, end.bytes_before(point.at + window) - begin.bytes_before(point.at));
        if (point.at >= window) most = std::max(most, point.bytes - begin_before.bytes_before(point.at - window));
    }
    return std::llround(most * 8 / base::to_seconds(window));
}

double RateCurve::buffer_bits(double rate_bps) const {
    double most = 0, before = 0;
    for (std::size_t i = 1; i < points_.size(); ++i) {
        const double bits = (points_[i].bytes - points_[i - 1].bytes) * 8;
        before = std::max(0.0, before + bits - rate_bps * base::to_seconds(points_[i].at - points_[i - 1].at));
        most = std::max(most, before);
    }
    return most;
}

Time RateCurve::time_of(std::uint64_t bytes) const {
    const auto wanted = static_cast<double>(bytes);
    const auto after =
        std::lower_bound(points_.begin(), points_.end(), wanted, [](const Point& p, double b) { return p.bytes < b; });
    if (after == points_.begin()) return {};
    if (after == points_.end()) return duration();
    const Point& a = *(after - 1);
    const double part = (wanted - a.bytes) / (after->bytes - a.bytes);
    return a.at + base::from_seconds(part * base::to_seconds(after->at - a.at));
}

std::vector<double> RateCurve::per_second() const {
    std::vector<double> values;
    const Time second = base::from_seconds(1);
    Walk walk(points_);
    double before = 0;
    for (Time from{}; from < duration(); from += second) {
        const Time to = std::min(from + second, duration());
        const double bytes = walk.bytes_before(to);
        values.push_back((bytes - before) * 8 / base::to_seconds(to - from));
        before = bytes;
    }
    return values;
}

}  // namespace wavecrest::measure
