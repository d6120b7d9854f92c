#include "convert/loss.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "base/units.hpp"

namespace wavecrest::convert {
namespace {

// A place that is told without a length costs a frame or so.
constexpr Time kLeast = std::chrono::milliseconds(40);
constexpr std::size_t kMostNamed = 5;

std::string clock(Time time) {
    const auto tenths = std::llround(base::to_seconds(std::max(time, Time{})) * 10);
    const auto seconds = tenths / 10;
    return seconds >= 3600
               ? fmt::format("{}:{:02}:{:02}.{}", seconds / 3600, seconds / 60 % 60, seconds % 60, tenths % 10)
               : fmt::format("{}:{:02}.{}", seconds / 60, seconds % 60, tenths % 10);
}

}  // namespace

Loss add_up(const std::vector<Problem>& problems) {
    Loss loss;
    std::vector<Problem> sorted = problems;
    std::stable_sort(sorted.begin(), sorted.end(), [](const Problem& a, const Problem& b) { return a.from < b.from; });
    for (Problem& problem : sorted) {
        problem.to = std::max(problem.to, problem.from + kLeast);
        if (!loss.intervals.empty() && problem.from <= loss.intervals.back().to) {
            loss.intervals.back().to = std::max(loss.intervals.back().to, problem.to);
        } else {
            loss.intervals.push_back(std::move(problem));
        }
    }
    for (const Problem& one : loss.intervals) loss.total += one.to - one.from;
    return loss;
}

Status check_loss(const Loss& loss, Time duration, const std::string& source) {
    const bool much =
        loss.total > kMostLost ||
        (duration.count() > 0 && base::to_seconds(loss.total) > kMostLostPart * base::to_seconds(duration) &&
         loss.total > kLeast * 3);
    if (!much) return {};
    return fail(ErrorKind::input,
                fmt::format("{} of {} are lost: {} ({})", base::format_span(loss.total), base::format_span(duration),
                            loss.intervals.front().what, times_of(loss)),
                source, "clean the disc or copy the file again; --accept-losses writes the rest");
}

std::string times_of(const Loss& loss) {
    std::string text;
    for (std::size_t i = 0; i < std::min(kMostNamed, loss.intervals.size()); ++i)
        text += fmt::format("{}{} to {}", text.empty() ? "" : ", ", clock(loss.intervals[i].from),
                            clock(loss.intervals[i].to));
    if (loss.intervals.size() > kMostNamed) text += fmt::format(" and {} more", loss.intervals.size() - kMostNamed);
    return text;
}

}  // namespace wavecrest::convert
