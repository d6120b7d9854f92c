#include "net/rate_steps.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <limits>

#include "base/units.hpp"

namespace wavecrest::net {
namespace {

// Calls `with` for each step from `from` on, or part of one between outages: its rate in bytes a second, where it
// begins and ends. Until it gives false.
template <typename With>
void walk(const std::vector<RateStep>& steps, const Outages& outages, Time from, With&& with) {
    Time begin{};
    for (std::size_t i = 0; i < steps.size(); ++i) {
        const bool last = i + 1 == steps.size();
        const Time end = last ? Time::max() : begin + steps[i].length;
        const double rate = static_cast<double>(steps[i].rate_bps) / 8;
        for (Time at = std::max(begin, from); at < end;) {
            const Outages::Gap gap = outages.any() ? outages.next(at) : Outages::Gap{end, end};
            const bool off = gap.from <= at;
            const Time until = std::min(off ? gap.to : gap.from, end);
            if (!with(off && outages.any() ? 0 : rate, at, until)) return;
            at = until;
        }
        begin = end;
    }
}

}  // namespace

std::int64_t RateSteps::rate_at(Time at) const {
    std::int64_t rate = 0;
    walk(steps_, outages_, at, [&](double bytes, Time, Time) {
        rate = static_cast<std::int64_t>(bytes * 8);
        return false;
    });
    return rate;
}

double RateSteps::between(Time from, Time to) const {
    double passed = 0;
    walk(steps_, outages_, from, [&](double rate, Time begin, Time end) {
        passed += rate * std::max(base::to_seconds(std::min(end, to) - begin), 0.0);
        return end < to;
    });
    return passed;
}

Time RateSteps::when(double bytes, Time from) const {
    Time at = from;
    const Time longest = std::chrono::hours(1);
    Time last = from;  // when something passed
    walk(steps_, outages_, from, [&](double rate, Time begin, Time end) {
        if (rate <= 0 && bytes > 0) {
            at = end;
            return end - last < longest;
        }
        last = end;
        const double room =
            end == Time::max() ? std::numeric_limits<double>::infinity() : rate * base::to_seconds(end - begin);
        if (bytes <= room) {
            at = begin + base::from_seconds(bytes / rate);
            return false;
        }
        bytes -= room;
        return true;
    });
    return at;
}

void RateSteps::limit(std::int64_t most_bps) {
    for (RateStep& step : steps_) step.rate_bps = std::min(step.rate_bps, most_bps);
}

Result<std::vector<RateStep>> parse_rate_steps(const std::string& text) {
    constexpr std::size_t kMost = 100;
    const auto refuse = [&](std::string what) {
        return fail(ErrorKind::usage, std::move(what), text,
                    "write for example \"8 Mbit/s 20 s, 1 Mbit/s 20 s, 8 Mbit/s\"");
    };
    std::vector<RateStep> steps;
    std::size_t at = 0;
    while (at <= text.size()) {
        const std::size_t comma = std::min(text.find(',', at), text.size());
        std::string part = text.substr(at, comma - at);
        at = comma + 1;
        part.erase(0, part.find_first_not_of(' '));
        part.erase(part.find_last_not_of(' ') + 1);
        // The rate ends with its unit, behind which there may be a length.
        const std::size_t unit = part.find_first_not_of("0123456789. ");
        const std::size_t end = unit == std::string::npos ? part.size() : std::min(part.find(' ', unit), part.size());
        const auto rate = base::parse_bitrate(part.substr(0, end));
        if (!rate || *rate <= 0) return refuse(fmt::format("\"{}\" doesn't begin with a bit rate", part));
        RateStep step{*rate, {}};
        const std::size_t rest = part.find_first_not_of(' ', end);
        if (rest != std::string::npos) {
            const auto length = base::parse_span(part.substr(rest));
            if (!length || length->count() <= 0)
                return refuse(fmt::format("\"{}\" isn't a length of time", part.substr(rest)));
            step.length = *length;
        } else if (at <= text.size()) {
            return refuse(fmt::format("\"{}\" has no length, and isn't the last", part));
        }
        if (steps.size() == kMost) return refuse(fmt::format("more than {} steps", kMost));
        steps.push_back(step);
    }
    return steps;
}

std::string describe(const std::vector<RateStep>& steps) {
    std::string text;
    for (const RateStep& step : steps)
        text += fmt::format("{}{}{}", text.empty() ? "" : ", ", base::format_bitrate(step.rate_bps),
                            step.length.count() > 0 ? " " + base::format_span(step.length) : "");
    return text;
}

}  // namespace wavecrest::net
