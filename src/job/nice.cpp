#include "job/nice.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <chrono>
#include <ctime>
#include <memory>
#include <thread>

#include "base/clock.hpp"
#include "base/units.hpp"
#include "host/machine.hpp"
#include "stream/watched.hpp"

namespace wavecrest::job {
namespace {

constexpr int kDay = 24 * 60;  // minutes
// The processor's share is kept over so long, so that a pause doesn't make up for itself by a rush.
const Time kWindow = base::from_seconds(10);
const Time kAskEvery = base::from_seconds(5);
// What a stream suffers may not be this program's fault: it is tried again, each time after twice as long.
const Time kLongestPatience = base::from_seconds(16 * 60);

std::optional<int> minute_of(std::string_view text) {
    if (const auto time = base::parse_clock(std::string(text) + ":00");
        time && text.find(':') != std::string_view::npos) {
        const auto minute = static_cast<int>(base::to_seconds(*time) / 60);
        if (minute <= kDay) return minute % kDay;
    }
    return std::nullopt;
}

std::string_view trimmed(std::string_view text) {
    while (!text.empty() && text.front() == ' ') text.remove_prefix(1);
    while (!text.empty() && text.back() == ' ') text.remove_suffix(1);
    return text;
}

std::string clock_text(int minute) {
    return fmt::format("{:02}:{:02}", minute / 60, minute % 60);
}

}  // namespace

Result<Nice> parse_nice(const std::string& text) {
    const auto refuse = [&] {
        return fail(ErrorKind::usage,
                    fmt::format("\"{}\" is neither hours of the day nor a share of the processor", text), "--nice",
                    "write for example 22:00-07:00, \"50 %\", or both: \"22:00-07:00, 50 %\"");
    };
    Nice nice;
    bool any = false;
    std::string_view left = text;
    while (true) {
        const std::size_t comma = left.find(',');
        const std::string_view part = trimmed(left.substr(0, comma));
        const std::size_t dash = part.find('-');
        if (dash != std::string_view::npos) {
            const auto from = minute_of(trimmed(part.substr(0, dash))), to = minute_of(trimmed(part.substr(dash + 1)));
            if (!from || !to || *from == *to || nice.hours) return refuse();
            nice.hours = {*from, *to};
        } else if (part.ends_with('%')) {
            const std::string number(trimmed(part.substr(0, part.size() - 1)));
            int percent = 0;
            const auto [end, error] = std::from_chars(number.data(), number.data() + number.size(), percent);
            if (error != std::errc() || end != number.data() + number.size() || percent < 1 || percent > 100 ||
                nice.share != 1)
                return refuse();
            nice.share = percent / 100.0;
        } else {
            return refuse();
        }
        any = true;
        if (comma == std::string_view::npos) break;
        left.remove_prefix(comma + 1);
    }
    if (!any) return refuse();
    return nice;
}

Time Pacer::wait() {
    std::optional<Time> pause = by_hours();
    if (!pause) pause = by_streams();
    if (pause) {
        since_.reset();  // the share counts anew afterwards
        return *pause;
    }
    reason_.clear();
    return by_share();
}

std::optional<Time> Pacer::by_hours() {
    if (!nice_.hours) return std::nullopt;
    const auto [from, to] = *nice_.hours;
    const int minute = world_.minute();
    const bool open = from < to ? minute >= from && minute < to : minute >= from || minute < to;
    if (open) return std::nullopt;
    reason_ = fmt::format("paused until {} (--nice)", clock_text(from));
    // Clocks are set, and summer time comes: asked again every minute.
    return base::from_seconds(60);
}

std::optional<Time> Pacer::by_streams() {
    const Time now = world_.now();
    if (gives_way_) {
        if (now < ask_at_.value_or(now)) return kAskEvery;
        ask_at_ = now + kAskEvery;
        if (world_.watched() && now < give_way_until_) return kAskEvery;
        // Nobody watches any more, or it is tried again.
        gives_way_ = false;
        if (world_.suffers) world_.suffers();  // what was before doesn't count
        return std::nullopt;
    }
    if (ask_at_ && now < *ask_at_) return std::nullopt;
    const bool first = !ask_at_;
    ask_at_ = now + kAskEvery;
    const bool suffers = world_.suffers();
    if (first || !suffers) {
        // (Long without trouble: the next time is like the first.)
        if (!suffers && now > give_way_until_ + patience_) patience_ = base::from_seconds(30);
        return std::nullopt;
    }
    gives_way_ = true;
    give_way_until_ = now + patience_;
    patience_ = std::min(patience_ * 2, kLongestPatience);
    reason_ = "paused: a stream that is being watched needs the machine";
    return kAskEvery;
}

Time Pacer::by_share() {
    if (nice_.share >= 1) return {};
    const Time now = world_.now();
    if (!since_ || now - *since_ > kWindow) {
        since_ = now;
        worked_ = world_.worked();
        return {};
    }
    const double allowed = nice_.share * std::max(world_.processors, 1);
    const double due = (world_.worked() - worked_) / allowed;  // s of the clock that this work may take
    return std::max(base::from_seconds(due) - (now - *since_), Time{});
}

void wait_for(Pacer& pacer, const std::function<void(const std::string&)>& told, const Cancel& cancel) {
    std::string last;
    const base::RealClock clock;
    while (!cancel.requested()) {
        const Time wait = pacer.wait();
        if (pacer.reason() != last) {
            last = pacer.reason();
            if (told && !last.empty()) told(last);
        }
        if (wait.count() <= 0) break;
        const Time until = clock.now() + wait;
        while (!cancel.requested() && clock.now() < until)
            std::this_thread::sleep_for(std::min<std::chrono::nanoseconds>(
                std::chrono::milliseconds(50),
                std::chrono::duration_cast<std::chrono::nanoseconds>(until - clock.now())));
    }
    if (told && !last.empty() && !cancel.requested()) told("continues");
}

World real_world() {
    World world;
    const auto clock = std::make_shared<base::RealClock>();
    world.now = [clock] { return clock->now(); };
    world.minute = [] {
        const std::time_t now = std::time(nullptr);
        std::tm local{};
        ::localtime_r(&now, &local);
        return local.tm_hour * 60 + local.tm_min;
    };
    world.worked = [] { return host::processor_seconds(); };
    world.processors = static_cast<int>(std::max(1u, std::thread::hardware_concurrency()));
    const auto before = std::make_shared<std::int64_t>(0);
    world.suffers = [before] {
        const stream::Watched watched = stream::watched();
        const bool more = watched.troubles > *before;
        *before = watched.troubles;
        constexpr double kLate = 0.1;  // s; players' buffers hide less
        return watched.anybody && (more || watched.late_s > kLate);
    };
    world.watched = [] { return stream::watched().anybody; };
    return world;
}

}  // namespace wavecrest::job
