#include "verify/checks.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <optional>
#include <vector>

#include "base/address.hpp"
#include "base/units.hpp"
#include "profile/profile.hpp"
#include "verify/pictures.hpp"

namespace wavecrest::verify {
namespace {

using device::Check;
using device::Verdict;
using namespace std::chrono_literals;

constexpr double kSlowStart = 5, kTooSlowStart = 15;  // seconds
constexpr double kSlowSkip = 3;
constexpr double kHeadroom = 0.8;  // of a link that may be filled by a film's busiest second
// A link so many times as fast as the slowest that does is fine; of a film that needs it to the full nobody can be
// sure.
constexpr double kEnoughRoom = 1.25;

std::string ms(Time time) {
    return fmt::format("{:.0f} ms", base::to_seconds(time) * 1000);
}

void add_startup(Verification& v, std::string why) {
    const double startup = base::to_seconds(v.startup);
    add(v, "startup",
        startup > kTooSlowStart ? Verdict::fail
        : startup > kSlowStart  ? Verdict::warn
                                : Verdict::pass,
        base::format_span(v.startup), fmt::format("{:g} s", kSlowStart), std::move(why));
}

void add_stalls(Verification& v, std::string why) {
    Time stood{};
    for (const measure::Stall& stall : v.stalls) stood += stall.length;
    add(v, "stalls", v.stalls.empty() ? Verdict::pass : Verdict::fail,
        v.stalls.empty() ? "none" : fmt::format("{}, {} total", v.stalls.size(), base::format_span(stood)), "none",
        std::move(why));
}

// A built-in profile whose rate leaves headroom on the link, of the codecs that nearly every device has.
std::string fitting_profile(const device::Link& link) {
    const profile::Profile* best = nullptr;
    for (const profile::Profile& p : profile::built_in()) {
        const std::int64_t rate = p.peak_bps();
        const bool common = p.video.what == profile::VideoSettings::What::encode && p.video.codec == Codec::h264 &&
                            p.audio.size() == 1 && p.audio.front().codec == Codec::aac;
        if (!common || rate == 0 || static_cast<double>(rate) > kHeadroom * static_cast<double>(link.payload_bps))
            continue;
        if (best == nullptr || p.video.peak_bps > best->video.peak_bps) best = &p;
    }
    return best != nullptr ? fmt::format("convert the film for it with the profile {} (at most {})", best->name,
                                         base::format_bitrate(best->peak_bps()))
                           : fmt::format("convert the film with a profile of at most {}",
                                         base::format_bitrate(static_cast<std::int64_t>(
                                             kHeadroom * static_cast<double>(link.payload_bps))));
}

// The link of what was played to its end, by the slowest one that would do.
void add_link(Verification& v, double room, bool carried) {
    const bool enough = room >= kEnoughRoom;
    add(v, "link",
        enough                 ? Verdict::pass
        : carried || room >= 1 ? Verdict::warn
                               : Verdict::fail,
        fmt::format("average {}, peak {} (1 s); plays down to {}", base::format_bitrate(v.mean_bps),
                    base::format_bitrate(v.peak_1s_bps), base::format_bitrate(*v.slowest_link_bps)),
        fmt::format("{} usable", base::format_bitrate(v.link.payload_bps)),
        room >= 1 ? fmt::format("little headroom: the link carries {:.2f} times what playback needs", room)
                  : "the link is too slow for this bit rate: connect the device by Ethernet, or convert at a lower bit "
                    "rate");
}

}  // namespace

measure::PlayerSettings player_of(const device::Device& device, Time duration, bool hls, std::int64_t bps) {
    const device::Playing& playing = device.playing;
    measure::PlayerSettings settings;
    settings.start_buffer = playing.start_buffer;
    settings.start_delay = playing.start_delay;
    settings.buffer = hls ? playing.hls_buffer : playing.buffer_of(bps);
    settings.refill = hls ? playing.hls_refill : playing.refill_of(bps);
    settings.duration = duration;
    settings.resume_buffer = playing.resume_buffer;
    settings.resume_growth = playing.resume_growth;
    settings.most_resume_buffer = playing.max_resume_buffer;
    return settings;
}

std::int64_t most_asked_of_a_link(const Verification& v) {
    constexpr std::int64_t kLeast = 1'000'000;
    return std::max(3 * v.peak_1s_bps, kLeast);
}

std::optional<double> headroom(const Verification& v) {
    if (!v.slowest_link_bps || *v.slowest_link_bps <= 0) return std::nullopt;
    return static_cast<double>(v.link.payload_bps) / static_cast<double>(*v.slowest_link_bps);
}

void add(Verification& v, std::string name, Verdict verdict, std::string measured, std::string limit, std::string why) {
    v.checks.push_back({std::move(name), verdict, std::move(measured), std::move(limit),
                        verdict == Verdict::pass ? "" : std::move(why)});
}

Verification failed(Verification v, Cause cause, const Error& error, std::string check) {
    v.verdict = Verdict::fail;
    v.cause = cause;
    v.summary = error.what;
    v.remedy = error.remedy;
    add(v, std::move(check), Verdict::fail, error.what, "", error.remedy);
    return v;
}

void add_playback(Verification& v, const measure::PlaybackModel& player, Cause cause, bool filled) {
    v.started = player.started();
    v.startup = player.startup().value_or(Time{});
    // (One that only began when receiving ended is none.)
    v.stalls = measure::seen_stalls(player.stalls());
    v.levels = player.levels();
    if (v.started) {
        // (Where the link is short of what the stream takes all the time, its beginning isn't what is wrong.)
        const bool short_link = cause == Cause::network && v.link.payload_bps < 2 * v.mean_bps;
        add_startup(v, short_link ? "startup too slow: connect the device by Ethernet, or convert at a lower bit rate"
                                  : "startup too slow: convert with a shorter keyframe interval");
    } else {
        add(v, "startup", Verdict::fail, "no video appeared", fmt::format("{:g} s", kSlowStart),
            cause == Cause::network ? "the link is too slow for this stream"
                                    : "the server, or the network up to here, is too slow");
    }
    add_stalls(v,
               cause == Cause::network ? "the link is too slow" : "the server, or the network up to here, is too slow");
    const bool carried = v.stalls.empty() && v.started;
    if (const auto room = headroom(v)) return add_link(v, *room, carried);
    const auto peak = static_cast<double>(v.peak_1s_bps), link = static_cast<double>(v.link.payload_bps);
    const bool fits = peak <= link && (carried ? !filled : cause != Cause::network);
    add(v, "link",
        fits      ? Verdict::pass
        : carried ? Verdict::warn
                  : Verdict::fail,
        fmt::format("average {}, peak {} (1 s)", base::format_bitrate(v.mean_bps), base::format_bitrate(v.peak_1s_bps)),
        fmt::format("{} usable", base::format_bitrate(v.link.payload_bps)),
        carried
            ? "the bit rate is near the link speed; only buffering hid it"
            : "the link is too slow for this bit rate: connect the device by Ethernet, or convert at a lower bit rate");
}

void add_seen_playback(Verification& v) {
    if (v.started) {
        add_startup(v, "startup too slow: a faster link, a lower bit rate or a shorter keyframe interval");
    } else {
        add(v, "startup", Verdict::fail, "no video appeared", fmt::format("{:g} s", kSlowStart),
            "see whether the address plays without --on");
    }
    add_stalls(v, "the link is too slow, or the server");
}

void add_ladder_playback(Verification& v, Cause cause, bool carried) {
    const char* const why =
        cause != Cause::network ? "the server, or the network up to here, is too slow"
        : !carried              ? "the link is too slow even for the lowest bit rate"
                   : "the player changed to a lower bit rate too late: leave the highest out, make segments "
                     "shorter, or connect the device by Ethernet";
    if (v.started) {
        add_startup(v, "startup too slow: a lower rung to begin with, or a shorter keyframe interval");
    } else {
        add(v, "startup", Verdict::fail, "no video appeared", fmt::format("{:g} s", kSlowStart), why);
    }
    add_stalls(v, why);
}

void add_skips(Verification& v) {
    if (v.seeks.empty()) return;
    Time longest{};
    std::string measured;
    for (const SeekOrder& seek : v.seeks) {
        longest = std::max(longest, seek.first_picture);
        measured += (measured.empty() ? "" : ", ") + base::format_span(seek.first_picture);
    }
    // However slow: the film plays.
    add(v, "seeking", base::to_seconds(longest) > kSlowSkip ? Verdict::warn : Verdict::pass, measured,
        fmt::format("{:g} s", kSlowSkip),
        "slow: a faster link, or shorter keyframe intervals and segments, would help");
}

Status take_seeks(Verification& v, Result<std::vector<SeekOrder>> seeks) {
    if (!seeks && seeks.error().kind == ErrorKind::interrupted) return fail(seeks.error());
    if (!seeks) add(v, "seeking", Verdict::fail, seeks.error().what, "", seeks.error().remedy);
    if (seeks) v.seeks = std::move(*seeks);
    return {};
}

void add_film_playback(Verification& v, Cause cause, const std::string& why_slow) {
    if (v.started) add_startup(v, why_slow);
    add_stalls(v, cause == Cause::server ? "the server is too slow"
                  : v.simulated          ? "the simulated network is too slow, or out for too long"
                                         : "the link is too slow");
    add_skips(v);
    const bool carried = v.stalls.empty();
    if (const auto room = headroom(v)) return add_link(v, *room, carried);
    const auto peak = static_cast<double>(v.peak_1s_bps), link = static_cast<double>(v.link.payload_bps);
    add(v, "link",
        peak <= kHeadroom * link ? Verdict::pass
        : carried                ? Verdict::warn
                                 : Verdict::fail,
        fmt::format("average {}, peak {} (1 s)", base::format_bitrate(v.mean_bps), base::format_bitrate(v.peak_1s_bps)),
        fmt::format("{} usable", base::format_bitrate(v.link.payload_bps)),
        carried ? "peak is near or above the link speed; only buffering hid it"
                : "the link is too slow for this bit rate");
}

void add_pictures(Verification& v, const Job& job, PacketSource& source, int places, const Cancel& cancel) {
    PictureSettings settings;
    settings.places = places;
    // What came in so long is decoded in about as long, or there is too much of it: a flood.
    if (places == 0) settings.patience = job.listen + base::from_seconds(5);
    settings.folder = job.stills;
    // An address names itself by its last part.
    const std::string name = !base::has_scheme(v.stream) ? v.stream : v.stream.substr(v.stream.rfind('/') + 1);
    for (const char c : name + " " + v.device)
        settings.stem += std::isalnum(static_cast<unsigned char>(c)) != 0 ? c : '-';
    auto look = look_at_pictures(source, settings, cancel);
    if (!look) {
        if (look.error().kind != ErrorKind::interrupted)
            add(v, "stills", Verdict::warn, look.error().what, "", look.error().remedy);
        return;
    }
    if (!look->refused.empty()) {
        add(v, "frames", Verdict::warn, "not decoded here", "all decoded without errors",
            look->refused + "; few devices support it: test it on the device");
    } else if (look->possible) {
        const bool fine = look->decoded > 0 && look->problems.empty();
        std::string measured = fmt::format("{} decoded", look->decoded);
        if (look->in_part) measured += ", then stopped: too many";
        if (!look->problems.empty())
            measured += fmt::format(", damaged in {}, first at {}", base::format_count(look->problems.size(), "place"),
                                    base::format_clock(look->problems.front().from));
        add(v, "frames",
            !fine           ? Verdict::fail
            : look->in_part ? Verdict::warn
                            : Verdict::pass,
            measured, "all decoded without errors",
            look->in_part && fine    ? "more data than a device can play: check what is being sent"
            : look->problems.empty() ? "nothing could be decoded"
                                     : look->problems.front().what);
    }
    if (!job.stills.empty() && look->stills.empty())
        add(v, "stills", Verdict::warn, "none saved", "",
            look->possible ? "nothing could be decoded" : "this video codec is not supported here");
    v.stills = std::move(look->stills);
}

void add_transport(Verification& v, const measure::TransportReport& report, const std::string& why_gaps) {
    add(v, "packets", report.discontinuities + report.marked_bad > 0 ? Verdict::fail : Verdict::pass,
        fmt::format("{} gaps", report.discontinuities), "no gaps", why_gaps);
    add(v, "PCR interval",
        report.clock_interval > 100ms  ? Verdict::fail
        : report.clock_interval > 40ms ? Verdict::warn
                                       : Verdict::pass,
        "at most " + ms(report.clock_interval) + " apart", "40 ms (100 ms at most)",
        "players that follow the PCR drift or stutter");
    add(v, "tables", report.table_interval > 500ms ? Verdict::warn : Verdict::pass,
        "at most " + ms(report.table_interval) + " apart", "500 ms", "channel change takes longer");
    std::uint64_t late = 0;
    for (const auto& stream : report.streams) late += stream.late;
    add(v, "in time", late > 0 ? Verdict::warn : Verdict::pass, fmt::format("{} too late", late), "none",
        "late data (T-STD)");
}

void conclude_live(Verification& v, Cause cause) {
    v.verdict = Verdict::pass;
    if (v.paused) {
        // All else follows from it.
        v.verdict = Verdict::fail;
        v.cause = Cause::none;
        v.summary = "the stream is paused";
        v.remedy = "resume it (wavecrest stream resume NAME, or at its source), then verify again";
        return;
    }
    const Check* worst = nullptr;
    for (const Check& check : v.checks) {
        // Damaged pictures are the last thing to name: what was lost on the way explains them.
        if (worst == nullptr || (check.verdict == Verdict::fail && worst->verdict != Verdict::fail) ||
            (check.verdict == Verdict::fail && worst->name == "frames") ||
            (check.verdict == Verdict::warn && worst->verdict == Verdict::pass))
            worst = &check;
        v.verdict = device::worse(v.verdict, check.verdict);
    }
    if (v.verdict == Verdict::pass) {
        v.summary = fmt::format("starts after {}, no stalls, average {}", base::format_span(v.startup),
                                base::format_bitrate(v.mean_bps));
        return;
    }
    v.summary = fmt::format("{}: {} (limit: {})", worst->name, worst->measured, worst->limit);
    v.remedy = worst->why;
    if (v.verdict != Verdict::fail) return;
    const std::string& name = worst->name;
    v.cause =
        name == "stalls" || name == "startup" || name == "link" || name == "live edge" ? cause
        : name == "packets lost" || name == "packets" || name == "arrival"
            ? (name == "packets" ? cause : Cause::network)
        : name == "frames" ? Cause::file
        : name == "PCR interval" || name == "received" || name == "seen" || name == "playlist" || name == "segments"
            ? Cause::server
            : Cause::device;
}

void add_seen(Verification& v, const Job& job, Time seen, bool ended) {
    const bool meant = ended && job.to_end;
    const Verdict verdict = meant || seen * 10 >= job.listen * 7 ? Verdict::pass
                            : seen * 4 >= job.listen             ? Verdict::warn
                                                                 : Verdict::fail;
    add(v, "seen", verdict,
        fmt::format("{:.1f} s of {:.1f} s{}", base::to_seconds(std::min(seen, job.listen)),
                    base::to_seconds(job.listen), ended && !meant ? ", then it stopped" : ""),
        "the whole time",
        v.paused ? "the stream is paused: resume it, then verify again"
        : ended  ? "the stream has ended: start it again, then verify it"
                 : "the stream has stopped: it is paused, nobody publishes it, or its source is lost");
}

void add_film_timing(Verification& v, const Film& film) {
    std::optional<Time> video, audio;  // their ends
    for (const Film::TrackState& track_state : film.track_states) {
        std::optional<Time>& end = track_state.pictures ? video : audio;
        for (const Film::Piece& piece : track_state.pieces)
            end = std::max(end.value_or(Time{}), piece.pts + piece.duration);
    }
    if (video && audio) {
        const Time apart = std::chrono::abs(*video - *audio);
        const Time limit = std::max(base::from_seconds(0.5), std::max(*video, *audio) / 100);
        add(v, "track lengths", apart > limit ? Verdict::fail : Verdict::pass,
            fmt::format("video {:.1f} s, audio {:.1f} s", base::to_seconds(*video), base::to_seconds(*audio)),
            fmt::format("{:.1f} s apart", base::to_seconds(limit)),
            "audio and video drift apart, or one ends early: convert the film again from its source");
    }
    if (video && !audio)
        add(v, "audio", Verdict::warn, "none", "an audio track",
            "no audio track: convert the film again if it should have one");
    for (const Film::TrackState& track_state : film.track_states) {
        if (!track_state.pictures || track_state.pieces.size() < 24) continue;
        std::vector<Time> times;
        for (const Film::Piece& piece : track_state.pieces) {
            if (piece.pts >= Time{}) times.push_back(piece.pts);  // what an edit list hides lies before
        }
        if (times.size() < 24) continue;
        std::sort(times.begin(), times.end());
        std::vector<Time> steps;
        for (std::size_t n = 1; n < times.size(); ++n) steps.push_back(times[n] - times[n - 1]);
        std::vector<Time> sorted = steps;
        std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 2), sorted.end());
        const Time usual = sorted[sorted.size() / 2];
        const auto together = static_cast<std::size_t>(
            std::count_if(steps.begin(), steps.end(), [](Time step) { return step < std::chrono::microseconds(500); }));
        const auto uneven = static_cast<std::size_t>(std::count_if(
            steps.begin(), steps.end(), [&](Time step) { return std::chrono::abs(step - usual) > usual / 2; }));
        // (Phones and screen recordings have frames at any time; none has two at one.)
        const Verdict verdict = together * 100 > steps.size() ? Verdict::fail
                                : uneven * 10 > steps.size()  ? Verdict::warn
                                                              : Verdict::pass;
        add(v, "frame times", verdict,
            together > 0 ? fmt::format("{} of {} frames with duplicate timestamps", together, times.size())
                         : fmt::format("{:.0f} % of frame intervals uneven",
                                       100 * static_cast<double>(uneven) / static_cast<double>(steps.size())),
            "regular", "motion judders: convert the film again from its source");
    }
}

void fill_seconds(Verification& v, const std::vector<double>& title_rate, const std::vector<std::uint64_t>& received) {
    const Time end = v.levels.empty() ? Time{} : v.levels.back().clock;
    const auto count = std::max(static_cast<std::size_t>(base::to_seconds(end)) + 1, received.size());
    v.seconds.resize(count);
    for (std::size_t i = 0; i < received.size(); ++i) v.seconds[i].received_bps = static_cast<double>(received[i]) * 8;
    if (!v.started) return;
    for (std::size_t i = 0; i < count; ++i) {
        Time clock = base::from_seconds(static_cast<double>(i) + 0.5);
        bool standing = clock < v.startup;
        Time position = clock - v.startup;
        for (const measure::Stall& stall : v.stalls) {
            if (clock < stall.clock) break;
            standing |= clock < stall.clock + stall.length;
            position -= std::min(stall.length, clock - stall.clock);
        }
        const auto second = static_cast<std::size_t>(std::max(base::to_seconds(position), 0.0));
        if (!standing && second < title_rate.size()) v.seconds[i].stream_bps = title_rate[second];
    }
}

void conclude_film(Verification& v, Cause stall_cause) {
    const Check* worst = nullptr;
    for (const Check& check : v.checks) {
        v.verdict = device::worse(v.verdict, check.verdict);
        if (check.verdict == Verdict::fail && worst == nullptr) worst = &check;
    }
    static constexpr std::string_view kPlayback[] = {"startup", "stalls", "seeking", "link"};
    const auto is_playback = [](const Check& c) {
        return std::find(std::begin(kPlayback), std::end(kPlayback), c.name) != std::end(kPlayback);
    };
    if (worst != nullptr && !is_playback(*worst)) {
        v.cause = worst->name == "complete" || worst->name == "frames"        ? Cause::file
                  : worst->name == "received" || worst->name == "byte ranges" ? Cause::server
                                                                              : Cause::device;
        v.summary = fmt::format("{}: {} (supported: {})", worst->name, worst->measured, worst->limit);
        v.remedy = worst->why;
    } else if (worst != nullptr) {
        v.cause = stall_cause;
        if (v.simulated) {
            v.summary = fmt::format("the simulated network is too slow: {} {}", worst->name, worst->measured);
            v.remedy = "such a network needs a lower bit rate or a longer buffer: try a smaller profile";
        } else if (stall_cause == Cause::network && v.mean_bps == 0) {
            v.summary = fmt::format("{}: {}, on a link of {}", worst->name, worst->measured,
                                    base::format_bitrate(v.link.payload_bps));
            v.remedy = "connect the device by Ethernet or a better link, or " + fitting_profile(v.link);
        } else if (stall_cause == Cause::network) {
            v.summary = fmt::format("the link carries {}; the stream needs {} (average), {} (peak, 1 s)",
                                    base::format_bitrate(v.link.payload_bps), base::format_bitrate(v.mean_bps),
                                    base::format_bitrate(v.peak_1s_bps));
            v.remedy = "connect the device by Ethernet or a better link, or " + fitting_profile(v.link);
        } else {
            v.summary = fmt::format("the server was too slow: {}", worst->measured);
            v.remedy = "check what else uses the server or its drive, then verify again";
        }
    } else if (v.verdict == Verdict::warn) {
        for (const Check& check : v.checks) {
            if (check.verdict != Verdict::warn) continue;
            v.summary = fmt::format("plays, but {}: {}", check.name, check.measured);
            v.remedy = check.why;
            break;
        }
    } else {
        v.summary = fmt::format("starts after {}, plays to the end without stalls", base::format_span(v.startup));
    }
}

}  // namespace wavecrest::verify
