#include "verify/checks.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/units.hpp"

namespace wavecrest::verify {
namespace {

using device::Check;
using device::Verdict;
using namespace std::chrono_literals;

constexpr double kSlowStart = 5, kTooSlowStart = 15;  // seconds

std::string ms(Time time) {
    return fmt::format("{:.0f} ms", base::to_seconds(time) * 1000);
}

}  // namespace

void add(Verification& v, std::string name, Verdict verdict, std::string measured, std::string limit, std::string why) {
    v.checks.push_back({std::move(name), verdict, std::move(measured), std::move(limit),
                        verdict == Verdict::pass ? "" : std::move(why)});
}

Verification failed(Verification v, Short short_of, const Error& error, std::string check) {
    v.verdict = Verdict::fail;
    v.short_of = short_of;
    v.summary = error.what;
    v.remedy = error.remedy;
    add(v, std::move(check), Verdict::fail, error.what, "", error.remedy);
    return v;
}

void add_playback(Verification& v, const measure::PlaybackModel& player, Short cause) {
    v.started = player.started();
    v.startup = player.startup().value_or(Time{});
    v.stalls = player.stalls();
    // One that only began when receiving ended is none.
    std::erase_if(v.stalls, [](const measure::Stall& stall) { return stall.length < 20ms; });
    v.levels = player.levels();
    const double startup = base::to_seconds(v.startup);
    if (v.started) {
        add(v, "startup",
            startup > kTooSlowStart ? Verdict::fail
            : startup > kSlowStart  ? Verdict::warn
                                    : Verdict::pass,
            base::format_span(v.startup), fmt::format("{:g} s", kSlowStart),
            "people wait too long for the first picture: encode with shorter distances between keyframes");
    } else {
        add(v, "startup", Verdict::fail, "the picture never started", fmt::format("{:g} s", kSlowStart),
            cause == Short::network ? "the link is too slow for this stream"
                                    : "the server, or the network between it and here, sends too little");
    }
    Time stood{};
    for (const measure::Stall& stall : v.stalls) stood += stall.length;
    add(v, "stalls", v.stalls.empty() ? Verdict::pass : Verdict::fail,
        v.stalls.empty() ? "none" : fmt::format("{}, {} in all", v.stalls.size(), base::format_span(stood)), "none",
        cause == Short::network ? "the link did not deliver in time"
                                : "the server, or the network between it and here, did not deliver in time");
    const auto peak = static_cast<double>(v.peak_1s_bps), link = static_cast<double>(v.link.payload_bps);
    const bool carried = v.stalls.empty() && v.started;
    add(v, "link",
        cause != Short::network && peak <= link ? Verdict::pass
        : carried                               ? Verdict::warn
                                                : Verdict::fail,
        fmt::format("{} on average, {} in the highest second", base::format_bitrate(v.mean_bps),
                    base::format_bitrate(v.peak_1s_bps)),
        fmt::format("{} of payload", base::format_bitrate(v.link.payload_bps)),
        carried ? "the link is nearly filled; the player's buffer carried it this time"
                : "the stream needs more than the link carries: wire the device, or encode at a lower rate");
}

void add_transport(Verification& v, const measure::TransportReport& report, const std::string& why_gaps) {
    add(v, "packets", report.discontinuities + report.marked_bad > 0 ? Verdict::fail : Verdict::pass,
        fmt::format("{} gaps", report.discontinuities), "no gaps", why_gaps);
    add(v, "clock references",
        report.clock_interval > 100ms  ? Verdict::fail
        : report.clock_interval > 40ms ? Verdict::warn
                                       : Verdict::pass,
        "at most " + ms(report.clock_interval) + " apart", "40 ms (100 ms at most)",
        "players that follow the sender's clock drift or stutter");
    add(v, "tables", report.table_interval > 500ms ? Verdict::warn : Verdict::pass,
        "at most " + ms(report.table_interval) + " apart", "500 ms", "joining takes so much longer");
    std::uint64_t late = 0;
    for (const auto& stream : report.streams) late += stream.late;
    add(v, "in time", late > 0 ? Verdict::warn : Verdict::pass, fmt::format("{} too late", late), "none",
        "by the stream's own clock its data comes after it is due");
}

void conclude_live(Verification& v, Short cause) {
    v.verdict = Verdict::pass;
    const Check* worst = nullptr;
    for (const Check& check : v.checks) {
        if (worst == nullptr || (check.verdict == Verdict::fail && worst->verdict != Verdict::fail) ||
            (check.verdict == Verdict::warn && worst->verdict == Verdict::pass))
            worst = &check;
        v.verdict = device::worse(v.verdict, check.verdict);
    }
    if (v.verdict == Verdict::pass) {
        v.summary = fmt::format("starts after {}, plays without a stall, {} on average", base::format_span(v.startup),
                                base::format_bitrate(v.mean_bps));
        return;
    }
    v.summary = fmt::format("{}: {} (limit: {})", worst->name, worst->measured, worst->limit);
    v.remedy = worst->why;
    if (v.verdict != Verdict::fail) return;
    const std::string& name = worst->name;
    v.short_of = name == "stalls" || name == "startup" || name == "link" ? cause
                 : name == "datagrams lost" || name == "packets" || name == "arrival"
                     ? (name == "packets" ? cause : Short::network)
                 : name == "clock references" || name == "received" || name == "playlist" || name == "segments"
                     ? Short::server
                     : Short::device;
}

}  // namespace wavecrest::verify
