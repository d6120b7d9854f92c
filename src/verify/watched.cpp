#include "verify/watched.hpp"

#include <fmt/format.h>

#include "base/units.hpp"
#include "verify/checks.hpp"

namespace wavecrest::verify {

using device::Verdict;
using measure::Viewing;

namespace {

constexpr double kLongEnough = 60;  // s of playing, for a verdict on a film that wasn't seen to its end

void add_how_far(Verification& v, const Viewing& viewing) {
    const Viewing::End end = viewing.end();
    const std::string where =
        fmt::format("{} of {}", base::format_clock(viewing.position), base::format_clock(viewing.duration));
    if (end == Viewing::End::left_at_once) {
        add(v, "plays", Verdict::fail, "left after the first bytes", "playing",
            "the player gave up at once: most likely it doesn't play this format (device test tells which it plays)");
        return;
    }
    if (viewing.live) {
        const Time watched = viewing.last - viewing.began;
        add(v, "watched", base::to_seconds(watched) >= kLongEnough ? Verdict::pass : Verdict::warn,
            base::format_clock(watched), fmt::format("{:g} s", kLongEnough),
            "too short for a verdict: watch it for longer");
        return;
    }
    const bool whole = end == Viewing::End::complete || viewing.position + base::from_seconds(2) >= viewing.duration;
    const bool enough = whole || base::to_seconds(viewing.position) >= kLongEnough;
    add(v, "watched", enough ? Verdict::pass : Verdict::warn, whole ? "to the end" : where,
        fmt::format("to the end, or {:g} s", kLongEnough), "too short for a verdict: watch it for longer");
    // What comes all at once is played from the player's own memory.
    if (viewing.held_back || viewing.most_buffered < viewing.duration - base::from_seconds(5)) return;
    add(v, "certainty", Verdict::warn, fmt::format("{} buffered at once", base::format_span(viewing.most_buffered)),
        "reading at the pace of playing",
        "it fetched all of the film ahead of playing: what happened on the screen can't be seen from here");
}

// A live stream's viewers are a moment behind what is sent.
const Time kMostBehind = base::from_seconds(1);

}  // namespace

Verification judge_watched(const Viewing& viewing, const std::string& device, const device::Link& link,
                           const std::string& address) {
    Verification v;
    v.grounds = "watched";
    v.stream = viewing.stream + (viewing.live ? " (live)" : viewing.hls ? " (hls)" : "");
    v.address = address;
    v.device = device;
    v.link = link;
    v.duration = viewing.duration;
    v.stalls = viewing.stalls;
    v.started = viewing.startup.has_value();
    v.startup = viewing.startup.value_or(Time{});
    add_how_far(v, viewing);
    if (viewing.end() != Viewing::End::left_at_once) {
        add_seen_playback(v);
        if (viewing.live) {
            add(v, "skipped ahead", viewing.skips == 0 ? Verdict::pass : Verdict::fail,
                base::format_count(viewing.skips, "time"), "never",
                "it took less than the stream has, and was moved on to what is sent now");
            add(v, "behind", viewing.most_lag > kMostBehind ? Verdict::warn : Verdict::pass,
                fmt::format("up to {}", base::format_span(viewing.most_lag)), base::format_span(kMostBehind),
                "for a while it took less than the stream has: its link is short, or varies");
        } else if (viewing.most_buffered.count() > 0)
            add(v, "buffer", Verdict::pass, fmt::format("up to {}", base::format_span(viewing.most_buffered)), "any");
    }
    // Who had all there was of a live stream waited for its source.
    const bool source = viewing.live && viewing.skips == 0 && viewing.most_lag < kMostBehind;
    conclude_film(v, source ? Cause::server : Cause::network);
    if (source && v.cause == Cause::server) {
        v.summary =
            fmt::format("nothing came for {}: the stream itself stood still", base::format_span(viewing.stalled()));
        v.remedy = "see wavecrest stream status: its source, or this machine, is too slow";
    } else if (viewing.skips > 0) {
        v.cause = Cause::network;
        v.summary = fmt::format("the network is too slow: it was moved on {}, {} behind at most",
                                viewing.skips == 1 ? "once" : fmt::format("{} times", viewing.skips),
                                base::format_span(viewing.most_lag));
        v.remedy = "connect the device by Ethernet or a better link, or use a smaller profile";
    } else if (!v.stalls.empty() && v.verdict == Verdict::fail && v.cause == Cause::network) {
        v.summary = fmt::format("it ran dry {}, {} in all",
                                v.stalls.size() == 1 ? "once" : fmt::format("{} times", v.stalls.size()),
                                base::format_span(viewing.stalled()));
        v.remedy = "connect the device by Ethernet or a better link, or use a smaller profile";
    }
    return v;
}

}  // namespace wavecrest::verify
