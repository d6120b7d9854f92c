#include "convert/remux.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <optional>

#include "base/atomic_file.hpp"
#include "base/clock.hpp"
#include "base/units.hpp"
#include "bitstream/headers.hpp"
#include "container/interleave.hpp"
#include "container/writer.hpp"
#include "convert/text_sink.hpp"
#include "host/machine.hpp"
#include "media/language.hpp"
#include "media/track_choice.hpp"
#include "transcode/complete.hpp"

namespace wavecrest::convert {
namespace {

// Packets of one track that lie together in MP4 files: an index of fewer entries, and fewer seeks for players.
constexpr std::chrono::milliseconds kRun{500};

std::string label(const Track& track) {
    std::string text = fmt::format("{} {}", media::display_name(track.codec), media::short_name(track.kind));
    if (track.codec == Codec::unknown && !track.profile.empty())
        text = fmt::format("{} ({})", media::short_name(track.kind), track.profile);
    if (track.kind != TrackKind::video) text += fmt::format(", {}", media::language_name(track.language));
    if (track.forced) text += ", forced";
    return text;
}

// Whether a track is wanted: "all", "none", "first", "forced", languages or numbers.
Result<bool> wanted(const Track& track, const std::string& choice, int number, const RemuxPlan& plan) {
    if (choice == "all") return true;
    if (choice == "none") return false;
    if (choice == "first") return number == 1;
    if (choice == "forced") return track.forced;
    std::size_t at = 0;
    while (at <= choice.size()) {
        const std::size_t comma = std::min(choice.find(',', at), choice.size());
        const std::string language = choice.substr(at, comma - at);
        at = comma + 1;
        if (const auto nth = media::track_number(language)) {
            if (*nth == static_cast<std::size_t>(number)) return true;
            continue;
        }
        if (media::language_639_2(language) == "und" || language.size() > 3) {
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't a valid track selection", choice), plan.source,
                        "give all, first, none, languages, e.g. en,fr, or track numbers from 1; a file of subtitles: "
                        "--subtitle-file");
        }
        if (media::same_language(track.language, language)) return true;
    }
    return false;
}

// What the discs' tables call TrueHD is carried by its AC-3 core in this program's packets.
Track written_as(const Track& track, bool core_only) {
    Track out = track;
    if (track.codec == Codec::truehd && core_only) {
        out.codec = Codec::ac3;
        out.codec_config = {};
        out.profile.clear();
        out.bit_depth = 0;
    }
    return out;
}

bool carries_core(const source::Input& input) {
    return input.is_disc() || input.container() == "mpeg-ts";
}

Result<RemuxPlan> plan_one(const source::Input& input, const RemuxRequest& request, const source::Pick& pick,
                           bool several) {
    const auto& title = pick.title;
    RemuxPlan plan;
    plan.title = title->number;
    plan.pick = pick;
    plan.angle = request.angle;
    plan.format = request.format;
    plan.source = fmt::format("{}, title {}", input.path(), title->number);
    plan.from = request.from;
    plan.accept_losses = request.accept_losses;
    plan.to = request.to;
    plan.source_bytes = title->size_bytes;
    WAVECREST_TRY(input.check_protection(title->number));
    if (request.angle > title->angles)
        return fail(ErrorKind::usage, fmt::format("title {} has no angle {}", title->number, request.angle),
                    input.path(), fmt::format("it has {}", title->angles));
    const Time whole = pick.duration();
    if (request.from.count() > 0 && whole.count() > 0 && request.from >= whole) {
        return fail(ErrorKind::usage,
                    fmt::format("the cut starts at {}, after the end", base::format_clock(request.from)), plan.source,
                    fmt::format("it is {} long", base::format_clock(whole)));
    }
    plan.duration =
        (request.to.count() > 0 ? std::min(request.to, whole.count() > 0 ? whole : request.to) : whole) - request.from;
    if (whole.count() > 0)
        plan.source_bytes =
            static_cast<std::uint64_t>(static_cast<double>(plan.source_bytes) * base::to_seconds(plan.duration) /
                                       base::to_seconds(title->duration));
    // (A mistyped selection is told even where there is no track to select.)
    for (const std::string& choice : {request.audio, request.subtitles}) WAVECREST_TRY(wanted({}, choice, 1, plan));
    int pictures = 0, audio_tracks = 0, subtitles = 0, kept = 0;
    std::vector<std::string> refused;
    const bool text_only = request.format == "webvtt";
    for (const Track& track : title->tracks) {
        TrackPlan entry{track, TrackPlan::Action::drop, ""};
        bool take = true;
        if (track.kind == TrackKind::audio) {
            WAVECREST_TRY_ASSIGN(chosen, wanted(track, request.audio, ++audio_tracks, plan));
            take = chosen;
        } else if (track.kind == TrackKind::video) {
            ++pictures;
            take = request.video == 0 || request.video == pictures;
        } else if (track.kind == TrackKind::subtitle) {
            WAVECREST_TRY_ASSIGN(chosen, wanted(track, request.subtitles, ++subtitles, plan));
            take = chosen;
        }
        if (!take) {
            entry.why = "not selected";
        } else if (container::holds_one_track(request.format) && track.kind == TrackKind::video) {
            entry.why = fmt::format("{} files are audio only", request.format);
        } else if (text_only) {
            if (track.codec == Codec::text && kept == 0) {
                entry.action = TrackPlan::Action::keep;
                entry.why = "written as text";
            } else {
                entry.why =
                    track.codec == Codec::text ? "one track per file; select it by its language" : "bitmap subtitles";
            }
        } else {
            const Track out = written_as(track, carries_core(input));
            // From a disc the configuration comes with the first packets.
            const std::string why = input.is_disc() ? container::why_not_codec(request.format, out)
                                                    : container::why_not(request.format, out);
            if (!why.empty()) {
                refused.push_back(fmt::format("{}: {}", label(track), why));
                continue;
            }
            if (container::holds_one_track(request.format) && kept > 0) {
                entry.why = fmt::format("{} files have one track; select it by its language", request.format);
            } else {
                entry.action = TrackPlan::Action::keep;
                entry.why = out.codec != track.codec ? "its AC-3 core, remuxed" : "untouched";
            }
        }
        kept += entry.action == TrackPlan::Action::keep ? 1 : 0;
        plan.tracks.push_back(std::move(entry));
    }
    if (request.video > pictures)
        return fail(ErrorKind::usage, fmt::format("there is no video track {}", request.video), plan.source,
                    "wavecrest inspect lists the tracks");
    if (text_only && kept == 0) {
        // Captions inside the pictures are text, too.
        for (TrackPlan& entry : plan.tracks) {
            if (entry.from.kind != TrackKind::video || !entry.from.closed_captions || kept > 0) continue;
            entry.action = TrackPlan::Action::keep;
            entry.why = "its closed captions, written as text";
            ++kept;
        }
    }
    if (!refused.empty()) {
        std::string list;
        for (const std::string& one : refused) list += (list.empty() ? "" : "; ") + one;
        return fail(ErrorKind::input, list, plan.source,
                    "use another container (matroska supports nearly everything), or leave the track out with --audio "
                    "or --subtitles");
    }
    if (kept == 0) {
        return fail(ErrorKind::input,
                    text_only ? "there are no text subtitles, and no closed captions" : "no track is selected",
                    plan.source,
                    text_only ? "wavecrest inspect lists the tracks; bitmap subtitles can't be written as text"
                              : "select others with --audio and --subtitles");
    }
    for (Chapter chapter : title->chapters) {
        if (chapter.start < pick.start + request.from ||
            (plan.duration.count() > 0 && chapter.start >= pick.start + request.from + plan.duration))
            continue;
        chapter.start -= pick.start + request.from;
        plan.chapters.push_back(std::move(chapter));
    }
    if (plan.chapters.size() > 1) {
        if (text_only) {
            // What is written out is text alone: nobody looks for chapters in it.
        } else if (request.format == "mp4" || request.format == "matroska" || request.format == "webm") {
            plan.steps.push_back(fmt::format("{} chapters kept", plan.chapters.size()));
        } else {
            plan.warnings.push_back(
                fmt::format("{} chapters lost: the format does not support chapters", plan.chapters.size()));
        }
    }
    if (request.from.count() > 0 || request.to.count() > 0)
        plan.steps.push_back(
            fmt::format("cut from the keyframe at or before {} to {}", base::format_clock(request.from),
                        request.to.count() > 0 ? "the first one after " + base::format_clock(request.to) : "the end"));
    for (const Problem& problem : title->problems) plan.warnings.push_back(problem.what);

    const std::string extension(text_only ? "vtt" : container::extension_of(request.format).substr(1));
    Place place = place_of(input, request, pick, several, extension);
    plan.name = std::move(place.name);
    plan.target = std::move(place.path);
    std::error_code error;
    plan.share = request.share;
    plan.place = plan.share ? plan.share->address_of(plan.target) : plan.target.string();
    if (!plan.share && std::filesystem::exists(plan.target, error)) return exists_already(plan.place);
    if (plan.share) {
        WAVECREST_TRY_ASSIGN(there, plan.share->size_of(plan.target));
        if (there) return exists_already(plan.place);
    }
    return plan;
}

}  // namespace

Result<TimeRange> parse_range(const std::string& text) {
    const auto refuse = [&] {
        return fail(ErrorKind::usage, fmt::format("invalid range \"{}\"", text), "--cut",
                    "write FROM-TO, e.g. 0:10:00-0:25:30, or 90- for all after 90 seconds");
    };
    const std::size_t dash = text.find('-');
    if (dash == std::string::npos) return refuse();
    const auto clock = [](const std::string& part) -> std::optional<Time> {
        double total = 0;
        std::size_t at = 0;
        int fields = 0;
        while (at <= part.size()) {
            const std::size_t colon = std::min(part.find(':', at), part.size());
            const std::string field = part.substr(at, colon - at);
            if (field.empty() || field.find_first_not_of("0123456789.") != std::string::npos || ++fields > 3)
                return std::nullopt;
            char* end = nullptr;
            const double value = std::strtod(field.c_str(), &end);
            if (*end != '\0' || value > 1e6) return std::nullopt;
            total = total * 60 + value;
            at = colon + 1;
        }
        return base::from_seconds(total);
    };
    TimeRange interval;
    if (dash > 0) {
        const auto from = clock(text.substr(0, dash));
        if (!from) return refuse();
        interval.from = *from;
    }
    if (dash + 1 < text.size()) {
        const auto to = clock(text.substr(dash + 1));
        if (!to || *to <= interval.from) return refuse();
        interval.to = *to;
    }
    return interval;
}

Status check_remux_format(const std::string& format) {
    const auto& formats = container::writable_formats();
    if (format == "webvtt" || std::find(formats.begin(), formats.end(), format) != formats.end()) return {};
    return fail(ErrorKind::usage, fmt::format("unknown container \"{}\"", format), "--remux",
                fmt::format("choose one of {}, webvtt", fmt::join(formats, ", ")));
}

Result<std::vector<RemuxPlan>> plan_remux(const source::Input& input, const RemuxRequest& request) {
    WAVECREST_TRY(check_remux_format(request.format));
    WAVECREST_TRY_ASSIGN(picks, picks_of(input, request));
    std::vector<RemuxPlan> plans;
    for (const source::Pick& pick : picks) {
        WAVECREST_TRY_ASSIGN(plan, plan_one(input, request, pick, picks.size() > 1));
        plans.push_back(std::move(plan));
    }
    return plans;
}

Result<Outcome> run_remux(const source::Input& input, const RemuxPlan& plan, const Progress& progress,
                          const Cancel& cancel) {
    if (plan.share) {
        WAVECREST_TRY(plan.share->check_writable());
        // (What an earlier run could not copy is made again faster than it is told what it is.)
        std::error_code ignored;
        std::filesystem::remove(plan.target, ignored);
    }
    WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(plan.target, base::AtomicFile::IfExists::refuse));
    WAVECREST_TRY_ASSIGN(free, free_space(plan.target, plan.share.get()));
    if (plan.source_bytes > 0 && free < plan.source_bytes) {
        return fail(ErrorKind::machine,
                    fmt::format("not enough disk space: {} free, {} needed", base::format_bytes(free),
                                base::format_bytes(plan.source_bytes)),
                    base::Path(plan.place).parent_path().string(), "free some space or choose another folder");
    }
    const base::RealClock clock;
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    if (plan.from.count() > 0) WAVECREST_TRY(source->seek(plan.from));
    std::vector<Track> tracks;
    TrackId picture = -1;
    for (const TrackPlan& entry : plan.tracks) {
        if (entry.action != TrackPlan::Action::keep) continue;
        // The source may know more by now than the plan.
        const auto& now = source->tracks();
        const auto found = std::find_if(now.begin(), now.end(), [&](const Track& t) { return t.id == entry.from.id; });
        Track track = written_as(found != now.end() ? *found : entry.from, carries_core(input));
        if (picture < 0 && track.kind == TrackKind::video) picture = track.id;
        tracks.push_back(std::move(track));
    }
    std::vector<Packet> early;
    WAVECREST_TRY(transcode::complete(*source, tracks, early));
    container::WriterSettings settings;
    settings.title = plan.name.name;
    settings.year = plan.name.year;
    settings.chapters = plan.chapters;
    std::unique_ptr<PacketSink> sink;
    if (plan.format == "webvtt") {
        sink = std::make_unique<TextSink>(std::make_unique<base::AtomicFile>(std::move(file)), tracks.front());
    } else {
        WAVECREST_TRY_ASSIGN(writer,
                             container::create_media(plan.format, std::move(file), tracks, std::move(settings)));
        sink = std::move(writer);
    }
    container::Interleaver interleaver(*sink, tracks, plan.format == "mp4" ? Time(kRun) : Time{});
    Outcome outcome;
    outcome.title = plan.title;
    outcome.source_bytes = plan.source_bytes;

    // A cut moves everything to where its first picture is shown.
    const bool cuts = plan.from.count() > 0;
    std::optional<Time> origin;
    if (!cuts) origin = Time{};
    std::optional<Time> end;
    std::vector<Packet> before_origin;
    const auto kind_of = [&](TrackId id) -> const Track* {
        const auto found = std::find_if(tracks.begin(), tracks.end(), [&](const Track& t) { return t.id == id; });
        return found != tracks.end() ? &*found : nullptr;
    };
    // Containers hold what is shown: pictures that are only decoded go, and with them what is predicted from them.
    std::optional<Time> lost_from;
    const auto whole_again = [&](Time at) {
        if (lost_from && at > *lost_from) {
            outcome.problems.push_back(
                {"the edit list starts between keyframes there: frames up to the next keyframe are dropped (convert "
                 "keeps them)",
                 *lost_from, at});
        }
        lost_from.reset();
    };
    Time reached{};
    const auto pass = [&](Packet packet) -> Status {
        const Track* track = kind_of(packet.track);
        const bool video = track->kind == TrackKind::video;
        // Pictures shown before the first keyframe of a cut can't be decoded; audio before it has no picture.
        if (cuts && packet.pts < *origin) return {};
        if (plan.to.count() > 0) {
            if (packet.track == picture && packet.key && packet.pts >= plan.to && !end) end = packet.pts;
            if (picture < 0 && packet.pts >= plan.to && !end) end = plan.to;
            // Pictures coded behind the keyframe that ends a cut may be shown before it, but need it.
            if (end && (packet.pts >= *end || packet.track == picture)) return {};
        }
        packet.pts -= *origin;
        packet.dts -= *origin;
        if (track->id == picture) {
            if (packet.hidden) {
                if (!lost_from) lost_from = std::max(packet.dts, packet.pts);
                return {};
            }
            if (lost_from && !packet.key) return {};
            whole_again(packet.pts);
        }
        if (video) ++outcome.pictures;
        if (track->kind != TrackKind::subtitle || tracks.size() == 1)
            outcome.duration = std::max(outcome.duration, packet.pts + packet.duration);
        return interleaver.write(std::move(packet));
    };
    std::size_t next_early = 0;
    int behind_end = 0;
    while (true) {
        if (cancel.requested()) return base::interrupted();
        std::optional<Packet> packet;
        if (next_early < early.size()) {
            packet = std::move(early[next_early++]);
        } else {
            WAVECREST_TRY_ASSIGN(read, source->read());
            packet = std::move(read);
        }
        if (!packet) break;
        if (kind_of(packet->track) == nullptr) continue;
        if (!origin) {
            if (picture < 0 || packet->track == picture) {
                origin = packet->pts;
                for (Packet& waiting : before_origin) WAVECREST_TRY(pass(std::move(waiting)));
                before_origin.clear();
            } else {
                before_origin.push_back(std::move(*packet));
                continue;
            }
        }
        if (packet->dts > reached) {
            reached = packet->dts;
            if (progress) progress({std::max(reached - *origin, Time{}), plan.duration});
        }
        // Behind a cut's end, what other tracks still owe comes within a short while.
        if (end && packet->dts > *end + std::chrono::seconds(3) && ++behind_end > 200) break;
        WAVECREST_TRY(pass(std::move(*packet)));
    }
    WAVECREST_TRY(interleaver.drain());
    outcome.loss = add_up(source->problems());
    if (!plan.accept_losses) WAVECREST_TRY(check_loss(outcome.loss, plan.duration, plan.source));
    WAVECREST_TRY(sink->finish());
    outcome.elapsed = clock.now();
    whole_again(outcome.duration);
    outcome.problems.insert(outcome.problems.end(), source->problems().begin(), source->problems().end());
    std::error_code error;
    outcome.size_bytes = std::filesystem::file_size(plan.target, error);
    outcome.files.push_back({plan.target, outcome.size_bytes});
    if (plan.share) WAVECREST_TRY(deliver(*plan.share, false, progress, outcome));
    log_outcome(outcome);
    return outcome;
}

}  // namespace wavecrest::convert
