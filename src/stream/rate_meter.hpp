// A total that grows, and how fast it did over the last seconds.
#pragma once

#include <chrono>
#include <deque>
#include <utility>

namespace wavecrest::stream {

class RateMeter {
  public:
    using Steady = std::chrono::steady_clock;

    void add(Steady::time_point at, double total) {
        points_.emplace_back(at, total);
        while (points_.size() > 2 && at - points_.front().first > kLongest) points_.pop_front();
    }
    // A second, over the last so long (at most a minute).
    double rate(std::chrono::seconds over) const {
        if (points_.size() < 2) return 0;
        const auto& last = points_.back();
        auto from = points_.begin();
        while (from + 2 < points_.end() && last.first - from->first > over) ++from;
        const double seconds = std::chrono::duration<double>(last.first - from->first).count();
        return seconds > 0 ? (last.second - from->second) / seconds : 0;
    }

  private:
    static constexpr std::chrono::seconds kLongest{61};
    std::deque<std::pair<Steady::time_point, double>> points_;
};

}  // namespace wavecrest::stream
