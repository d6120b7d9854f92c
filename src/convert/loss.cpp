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
        if (!loss.stretches.empty() && problem.from <= loss.stretches.back().to) {
            loss.stretches.back().to = std::max(loss.stretches.back().to, problem.to);
        } else {
            loss.stretches.push_back(std::move(problem));
        }
    }
    for (const Problem& one : loss.stretches) loss.total += one.to - one.from;
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
                            loss.stretches.front().what, times_of(loss)),
                source, "clean the disc or copy the file again; --accept-losses writes what there is");
}

std::string times_of(const Loss& loss) {
    std::string text;
    for (std::size_t i = 0; i < std::min(kMostNamed, loss.stretches.size()); ++i)
        text += fmt::format("{}{} to {}", text.empty() ? "" : ", ", clock(loss.stretches[i].from),
                            clock(loss.stretches[i].to));
    if (loss.stretches.size() > kMostNamed) text += fmt::format(" and {} more", loss.stretches.size() - kMostNamed);
    return text;
}

}  // namespace wavecrest::convert
