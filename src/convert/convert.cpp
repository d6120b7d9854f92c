#include "convert/convert.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <span>

#include "base/atomic_file.hpp"
#include "base/clock.hpp"
#include "base/log.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "container/mp4_writer.hpp"
#include "container/timing.hpp"
#include "convert/quality.hpp"
#include "host/machine.hpp"
#include "media/language.hpp"
#include "media/track_choice.hpp"

namespace wavecrest::convert {
namespace {

constexpr int kExcerpts = 6;
const Time kExcerptLength = base::from_seconds(2);

int even(double value) {
    return std::max(2, static_cast<int>(std::lround(value / 2)) * 2);
}

// The size to code at: within the profile's limit as displayed, never enlarged, pixel aspect squared or kept.
void choose_size(const Track& from, const profile::VideoSettings& settings, codec::H264Settings& encode) {
    const double pixel = from.pixel_aspect.value();
    double width = settings.square_pixels ? std::max(from.width * pixel, 1.0 * from.width) : from.width;
    double height = settings.square_pixels && pixel < 1 ? from.height / pixel : from.height;
    const double shown_width = settings.square_pixels ? width : width * pixel;
    const double shrink = std::min({1.0, settings.largest.width / shown_width, settings.largest.height / height});
    // A few pixels over the limit by rounding of the aspect are no reason to resample: limits are inclusive of them.
    if (shrink < 0.995) {
        width *= shrink;
        height *= shrink;
    }
    encode.width = even(width);
    encode.height = even(height);
    encode.pixel_aspect = settings.square_pixels ? Ratio{1, 1} : from.pixel_aspect;
}

// Standard-definition discs that don't signal their colours use BT.601 of their line count.
ColourDescription output_colour(const Track& from, std::vector<std::string>& steps) {
    if (from.colour.matrix != 2) {
        steps.push_back(fmt::format("colour: {} kept", media::describe(from.colour)));
        return from.colour;
    }
    ColourDescription colour = from.colour;
    if (from.height <= 576) {
        colour = from.height == 576 ? ColourDescription{5, 6, 5, false} : ColourDescription{6, 6, 6, false};
        steps.push_back(fmt::format("colour: not specified; set to {}, usual for this size", media::describe(colour)));
    }
    return colour;
}

// What a few places of a title show about its frames.
struct Seen {
    filter::CadenceFinder all;
    bool film = false, frames = false, video = false;  // what there is
    bool marked_film = false;

    explicit Seen(Ratio coded_rate) : all(coded_rate) {}
    bool mixed() const { return (film ? 1 : 0) + (frames ? 1 : 0) + (video ? 1 : 0) > 1; }
};

bool is_film(const filter::CadenceFinder& finder) {
    return finder.marked() > 0 && finder.repeated() * 10 > finder.marked() * 4 &&
           finder.repeated() * 10 < finder.marked() * 6;
}

Seen look_at_fields(const source::Input& input, const Track& track, Ratio coded_rate, const Plan& plan) {
    Seen seen(coded_rate);
    bool matched = false;
    constexpr double kPlaces[] = {0.3, 0.6, 0.85, 0.1, 0.45, 0.72, 0.95, 0.2};
    // More places find what comes seldom; of other codecs than MPEG-2 a place takes seconds.
    const std::size_t places = track.codec == Codec::mpeg2 ? std::size(kPlaces) : 4;
    for (const double place : std::span(kPlaces).first(places)) {
        if (!input.reopens()) break;
        const Time at = base::from_seconds(place * base::to_seconds(plan.duration));
        // What can't be read at one place is told when it is converted.
        auto source = input.open(plan.pick, plan.angle);
        if (!source || !(*source)->seek(at)) continue;
        filter::CadenceFinder here(coded_rate);
        if (!transcode::look_at_cadence(**source, track, kExcerptLength, {&here, &seen.all})) continue;
        if (here.marked() > 12) {
            if (is_film(here)) {
                seen.film = seen.marked_film = true;
            } else {
                seen.frames = true;
            }
        }
        if (here.unmarked() < 12) continue;
        if (const auto cadence = here.result()) {
            seen.video = seen.video || *cadence == filter::Cadence::video;
            seen.film = seen.film || *cadence == filter::Cadence::pulldown;
            matched = matched || *cadence == filter::Cadence::progressive || *cadence == filter::Cadence::shifted;
        }
    }
    // A place may be too short to tell a rhythm that all of them together do.
    const auto together = seen.all.result();
    if (matched && !(together && *together == filter::Cadence::pulldown)) seen.frames = true;
    if (together && *together == filter::Cadence::pulldown) seen.film = true;
    if (together && *together == filter::Cadence::video) seen.video = true;
    if (!together && seen.all.unmarked() > seen.all.marked() / 8) seen.video = true;  // as the marks say
    if (seen.all.unmarked() + seen.all.marked() == 0) {
        seen.film = seen.marked_film = track.scan == Scan::pulldown;
        seen.video = track.scan == Scan::interlaced;
    }
    return seen;
}

// What to do where there may be fields of different instants, or film with pulldown.
void plan_fields(const source::Input& input, const Track& track, const Request& request, Plan& plan) {
    using TimeRange = filter::WholeFrames::TimeRange;
    transcode::VideoPath& path = plan.graph.video;
    const Ratio coded = track.scan == Scan::pulldown
                            ? base::reduced({track.frame_rate.num * 5, track.frame_rate.den * 4})
                            : track.frame_rate;
    const Ratio film = base::reduced({coded.num * 4, coded.den * 5});
    const Seen seen = look_at_fields(input, track, coded, plan);
    const auto together = seen.all.result();
    filter::WholeFrames::Settings fields;
    fields.frame_rate = coded;
    fields.marked_film = seen.marked_film;
    fields.first = seen.video                                           ? TimeRange::video
                   : together && *together == filter::Cadence::pulldown ? TimeRange::pulldown
                                                                        : TimeRange::matched;
    // Video that comes where none was seen must not come faster than the encoder expects.
    const bool every_field = seen.video && request.profile.video.every_field;
    fields.video = every_field ? filter::Deinterlacer::Rate::field : filter::Deinterlacer::Rate::frame;
    path.fields = fields;
    path.encode.frame_rate = every_field                 ? base::reduced({coded.num * 2, coded.den})
                             : seen.video || seen.frames ? coded
                             : seen.film                 ? film
                                                         : track.frame_rate;
    const std::string rate = base::format_rate(path.encode.frame_rate);
    const std::string deinterlaced =
        every_field ? fmt::format("deinterlaced to {} fps", rate)
                    : fmt::format("deinterlaced to {} fps (one frame per field pair)", base::format_rate(coded));
    if (seen.mixed()) {
        path.encode.variable_rate = true;
        std::vector<std::string> kinds;
        if (seen.film) kinds.push_back(fmt::format("film ({} fps)", base::format_rate(film)));
        if (seen.frames) kinds.push_back(fmt::format("progressive ({} fps)", base::format_rate(coded)));
        if (seen.video) kinds.push_back(fmt::format("interlaced video ({})", deinterlaced));
        plan.steps.push_back(fmt::format("mixed, each part as it is: {}", fmt::join(kinds, "; ")));
    } else if (seen.marked_film) {
        plan.steps.push_back(fmt::format("inverse telecine to {} fps", rate));
    } else if (seen.all.unmarked() > seen.all.marked()) {
        const filter::Cadence cadence = together.value_or(filter::Cadence::video);
        const std::string step = cadence == filter::Cadence::progressive ? "no change"
                                 : cadence == filter::Cadence::shifted   ? "fields matched"
                                 : cadence == filter::Cadence::pulldown
                                     ? fmt::format("inverse telecine to {} fps", rate)
                                     : deinterlaced;
        plan.steps.push_back(fmt::format("interlaced: {}{}; {}",
                                         together ? "" : "too little motion to tell film from video, treated as ",
                                         filter::describe(cadence), step));
    }
}

// Whether frames come at a rate, and their usual one: by the times of the first ones.
struct FrameTimes {
    Ratio usual{0, 1};
    bool even = true;
};
FrameTimes look_at_times(const source::Input& input, const Track& track, const Plan& plan) {
    constexpr std::size_t kFrames = 900, kReorder = 32;
    FrameTimes found;
    if (!input.reopens()) {
        // It can't be looked at first: the frames that come have the last word.
        if (track.frame_rate.num <= 0) found = {{30, 1}, false};
        return found;
    }
    auto source = input.open(plan.pick, plan.angle);
    std::vector<Time> times;
    while (source && times.size() < kFrames) {
        auto packet = (*source)->read();
        if (!packet || !*packet) break;
        if ((*packet)->track == track.id && !(*packet)->hidden) times.push_back((*packet)->pts);
    }
    const bool whole = times.size() < kFrames;
    std::sort(times.begin(), times.end());
    if (!whole) times.resize(times.size() - kReorder);  // those before which others may be missing
    std::vector<Time> steps;
    for (std::size_t i = 1; i < times.size(); ++i) {
        if (times[i] > times[i - 1]) steps.push_back(times[i] - times[i - 1]);
    }
    if (steps.empty()) return found;
    std::sort(steps.begin(), steps.end());
    const Time usual = steps[steps.size() / 2];
    found.usual = container::rate_of_period(base::to_ticks(usual, 1'000'000'000));
    if (found.usual.num > 240'000'000 || found.usual.value() > 240) found.usual = {240, 1};
    const auto uneven = std::count_if(steps.begin(), steps.end(), [&](Time step) {
        return std::chrono::abs(step - usual) > usual / 8 + std::chrono::milliseconds(1);
    });
    found.even = static_cast<std::size_t>(uneven) * 50 <= steps.size();
    return found;
}

Status plan_video(const source::Input& input, const Track& track, const Request& request, Plan& plan) {
    if (const std::string why = codec::why_no_pictures(track); !why.empty()) {
        return fail(ErrorKind::input, why, plan.source,
                    track.codec == Codec::unknown
                        ? "convert it to H.264 with other software first: the codec is not supported here"
                        : "for devices that support this codec, remux it: convert --remux matroska");
    }
    if (track.scan == Scan::unknown) {
        return fail(ErrorKind::input, "no video frame of this title can be read", plan.source,
                    "the rip is damaged or incomplete; rip the disc again");
    }
    const profile::VideoSettings& settings = request.profile.video;
    transcode::VideoPath& path = plan.graph.video;
    path.from = track;
    codec::H264Settings& encode = path.encode;
    choose_size(track, settings, encode);
    encode.frame_rate = track.frame_rate;
    const bool fields = track.codec == Codec::mpeg2 || track.scan == Scan::interlaced || track.scan == Scan::pulldown;
    if (!fields || track.frame_rate.num <= 0) {
        const FrameTimes times = look_at_times(input, track, plan);
        if (encode.frame_rate.num <= 0) encode.frame_rate = times.usual;
        encode.variable_rate = !times.even;
    }
    if (encode.frame_rate.num <= 0) {
        return fail(ErrorKind::input, "the frames have no timestamps, so the frame rate is unknown", plan.source,
                    "remux them: convert --remux");
    }
    if (fields && track.frame_rate.num > 0) plan_fields(input, track, request, plan);
    if (settings.constant_rate) {
        if (settings.frame_rate.num > 0) encode.frame_rate = settings.frame_rate;
        encode.variable_rate = false;
        path.constant_rate = encode.frame_rate;
        plan.steps.push_back(fmt::format("constant frame rate: {} fps", base::format_rate(encode.frame_rate)));
    } else if (encode.variable_rate) {
        plan.steps.push_back(
            fmt::format("variable frame rate, mostly {} fps: timestamps kept", base::format_rate(encode.frame_rate)));
    }
    if (encode.width != track.width || encode.height != track.height) {
        plan.steps.push_back(fmt::format("video: {}x{} (display aspect {}) scaled to {}x{} ({} pixels)", track.width,
                                         track.height, media::aspect_name(track.display_aspect()), encode.width,
                                         encode.height,
                                         encode.pixel_aspect == Ratio{1, 1} ? "square" : "the source's"));
    } else {
        plan.steps.push_back(fmt::format("video: {}x{} kept, pixel aspect {}:{}", track.width, track.height,
                                         encode.pixel_aspect.num, encode.pixel_aspect.den));
    }
    if (track.frame_packing) {
        const bool mixes = encode.width != track.width || encode.height != track.height ||
                           (path.fields && (path.fields->first == filter::WholeFrames::TimeRange::video));
        if (track.frame_packing->interleaved() && mixes) {
            return fail(ErrorKind::input,
                        fmt::format("the video is 3D ({}): scaling or deinterlacing would mix the two views",
                                    media::describe(*track.frame_packing)),
                        plan.source, "use a profile that keeps this video size, or remux it: convert --remux");
        }
        plan.steps.push_back(fmt::format("{}: kept", media::describe(*track.frame_packing)));
    }
    if (track.layers == media::Layers::second_view)
        plan.warnings.push_back(
            "3D: only the base view is converted; the second view (MVC) can be kept with convert --remux");
    encode.colour = output_colour(track, plan.steps);
    encode.profile = settings.profile;
    encode.level = settings.level;
    encode.effort = settings.effort;
    encode.quality = settings.quality;
    encode.peak_bps = settings.peak_bps;
    encode.buffer = settings.buffer;
    encode.keyframe_distance = settings.keyframe_interval;
    plan.steps.push_back(fmt::format("video: H.264 {} profile, quality {:g}, effort {}{}",
                                     base::capitalized(settings.profile), settings.quality, settings.effort,
                                     settings.peak_bps > 0
                                         ? fmt::format(", peak {} over {}", base::format_bitrate(settings.peak_bps),
                                                       base::format_span(settings.buffer))
                                         : ""));
    plan.tracks.push_back(
        {track, TrackPlan::Action::transcode,
         fmt::format("{} to H.264: much smaller, supported by nearly every device", media::display_name(track.codec))});
    return {};
}

std::vector<std::string> split(const std::string& list) {
    std::vector<std::string> parts;
    std::size_t at = 0;
    while (at <= list.size()) {
        const std::size_t comma = std::min(list.find(',', at), list.size());
        if (comma > at) parts.push_back(list.substr(at, comma - at));
        at = comma + 1;
    }
    return parts;
}

// Which audio tracks are taken: the first that tells the story, or one for each language or number asked for.
Result<std::vector<TrackId>> choose_audio(const std::vector<Track>& tracks, const Request& request, const Plan& plan) {
    std::vector<const Track*> usable;
    for (const Track& track : tracks) {
        if (track.kind == TrackKind::audio && codec::can_decode_audio(track)) usable.push_back(&track);
    }
    std::vector<TrackId> chosen;
    const auto best = [&](const auto& fits) -> const Track* {
        for (const bool main_only : {true, false}) {
            for (const Track* track : usable) {
                if (fits(*track) && (!main_only || track->purpose == Purpose::main)) return track;
            }
        }
        return nullptr;
    };
    const auto number_of = [&](const Track& wanted) {
        std::size_t number = 0;
        for (const Track& track : tracks) {
            number += track.kind == TrackKind::audio ? 1 : 0;
            if (track.id == wanted.id) break;
        }
        return number;
    };
    if (request.audio == "none") return chosen;
    if (request.audio == "first") {
        if (const Track* track = best([](const Track&) { return true; })) chosen.push_back(track->id);
        return chosen;
    }
    if (request.audio == "all") {
        for (const Track* track : usable) chosen.push_back(track->id);
        return chosen;
    }
    for (const std::string& language : split(request.audio)) {
        const auto number = media::track_number(language);
        const Track* track = best([&](const Track& t) {
            return number ? number_of(t) == *number : media::same_language(t.language, language);
        });
        if (track == nullptr) {
            return fail(ErrorKind::usage,
                        number ? fmt::format("there is no audio track {} that can be decoded", language)
                               : fmt::format("no audio track in \"{}\" can be decoded", language),
                        plan.source,
                        "wavecrest inspect lists the tracks; give --audio first, all, none, languages, e.g. en,fr, or "
                        "track numbers");
        }
        if (std::find(chosen.begin(), chosen.end(), track->id) == chosen.end()) chosen.push_back(track->id);
    }
    return chosen;
}

Status plan_audio(const std::vector<Track>& tracks, const Request& request, Plan& plan) {
    WAVECREST_TRY_ASSIGN(chosen, choose_audio(tracks, request, plan));
    // In the order they were asked for.
    for (const TrackId id : chosen) {
        const auto found = std::find_if(tracks.begin(), tracks.end(), [&](const Track& t) { return t.id == id; });
        const int channels = std::min(found->channels, 2);
        const std::int64_t rate = request.profile.audio.bitrate_bps * channels / 2;
        plan.graph.audio.push_back({*found, rate});
        plan.steps.push_back(
            fmt::format("audio: {} {}, {}{} to AAC {}, {} Hz, {}", media::language_name(found->language),
                        media::channel_layout(*found), media::display_name(found->codec),
                        found->purpose == Purpose::main ? "" : fmt::format(" ({})", media::short_name(found->purpose)),
                        media::channel_layout(channels), found->sample_rate, base::format_bitrate(rate)));
    }
    int number = 0;
    for (const Track& track : tracks) {
        if (track.kind != TrackKind::audio) continue;
        ++number;
        TrackPlan entry{track, TrackPlan::Action::drop, ""};
        if (std::find(chosen.begin(), chosen.end(), track.id) != chosen.end()) {
            entry.action = TrackPlan::Action::transcode;
            entry.why =
                fmt::format("{} to AAC{}: small, supported by nearly every device", media::display_name(track.codec),
                            track.channels > 2 ? ", downmixed to stereo" : "");
        } else if (!codec::can_decode_audio(track)) {
            entry.why = fmt::format("{} audio can't be decoded", media::display_name(track.codec));
        } else {
            entry.why = fmt::format("not selected; add with --audio {}", number);
        }
        plan.tracks.push_back(std::move(entry));
    }
    if (plan.graph.audio.empty() && request.audio != "none")
        plan.warnings.emplace_back("no audio in the result: the title has no audio track that can be decoded");
    return {};
}

// Which subtitles are drawn into the picture. Images can't be kept as a track of an MP4 file.
Status plan_subtitles(const std::vector<Track>& tracks, const Request& request, Plan& plan) {
    const std::string language = plan.graph.audio.empty() ? "" : plan.graph.audio.front().from.language;
    auto& chosen = plan.graph.video.subtitles;
    const auto take = [&](bool forced_only, const auto& fits) {
        for (const Track& track : tracks) {
            const bool image = track.kind == TrackKind::subtitle && track.codec != Codec::text;
            if (image && fits(track)) chosen.push_back({track, forced_only});
        }
        return !chosen.empty();
    };
    if (request.subtitles == "forced") {
        // A track made for it; else the forced ones among the subtitles in the language that is heard, in however many
        // tracks they are: Blu-ray discs don't say which.
        take(false,
             [&](const Track& t) {
                 return t.forced && (language.empty() || media::same_language(t.language, language));
             }) ||
            take(true, [&](const Track& t) {
                return t.purpose == Purpose::main && media::same_language(t.language, language);
            });
    } else if (request.subtitles != "none") {
        const bool found = take(false,
                                [&](const Track& t) {
                                    return chosen.empty() && !t.forced && t.purpose != Purpose::commentary &&
                                           media::same_language(t.language, request.subtitles);
                                }) ||
                           take(false, [&](const Track& t) {
                               return chosen.empty() && media::same_language(t.language, request.subtitles);
                           });
        if (!found) {
            return fail(ErrorKind::usage,
                        fmt::format("there are no subtitles in \"{}\" that can be burned in", request.subtitles),
                        plan.source,
                        "wavecrest inspect lists the tracks, and text can't be burned in; give --subtitles (of a "
                        "stream: --burn-in) forced, none or a language, e.g. en");
        }
    }
    if (!chosen.empty()) {
        plan.steps.push_back(fmt::format("subtitles: {}, {} burned in",
                                         media::language_name(chosen.front().from.language),
                                         chosen.front().forced_only ? "only the forced ones are" : "all are"));
    }
    for (const Track& track : tracks) {
        if (track.kind != TrackKind::subtitle) continue;
        const auto taken =
            std::find_if(chosen.begin(), chosen.end(), [&](const auto& c) { return c.from.id == track.id; });
        if (taken != chosen.end()) {
            plan.tracks.push_back({track, TrackPlan::Action::transcode,
                                   taken->forced_only ? "forced subtitles in it are burned in" : "burned in"});
        } else {
            plan.tracks.push_back({track, TrackPlan::Action::drop,
                                   track.codec == Codec::text
                                       ? "text subtitles can't be burned in; --remux webvtt writes them beside the film"
                                       : "MP4 does not support bitmap subtitles; --subtitles burns one language in"});
        }
    }
    return {};
}

// Takes packets and only counts their bytes.
class CountingSink : public PacketSink {
  public:
    explicit CountingSink(std::uint64_t& bytes) : bytes_(bytes) {}
    Status write(const Packet& packet) override {
        bytes_ += packet.data.size();
        return {};
    }
    Status finish() override { return {}; }

  private:
    std::uint64_t& bytes_;
};

Status check_space(const Plan& plan, std::uint64_t needed, const char* how) {
    WAVECREST_TRY_ASSIGN(free, host::free_space(plan.target));
    if (free >= needed) return {};
    return fail(
        ErrorKind::machine,
        fmt::format("not enough disk space: {} free, {} {}", base::format_bytes(free), base::format_bytes(needed), how),
        plan.target.parent_path().parent_path().string(),
        "free some space or choose a folder on another disk with --into");
}

}  // namespace

std::string_view short_name(TrackPlan::Action action) {
    return action == TrackPlan::Action::transcode ? "transcode" : action == TrackPlan::Action::keep ? "keep" : "drop";
}

namespace {

Result<Plan> plan_one(const source::Input& input, const Request& request, const source::Pick& pick, bool several) {
    const auto& title = pick.title;
    Plan plan;
    plan.source = fmt::format("{}, title {}", input.path(), title->number);
    plan.title = title->number;
    plan.pick = pick;
    plan.angle = request.angle;
    plan.duration = pick.duration();
    plan.quality = request.quality;
    plan.accept_losses = request.accept_losses;
    plan.source_bytes = title->size_bytes;
    if (!pick.whole() && title->duration.count() > 0) {
        plan.source_bytes =
            static_cast<std::uint64_t>(static_cast<double>(title->size_bytes) * base::to_seconds(plan.duration) /
                                       base::to_seconds(title->duration));
    }
    for (Chapter chapter : title->chapters) {
        if (chapter.start < pick.start || chapter.start >= pick.start + plan.duration) continue;
        chapter.start -= pick.start;
        plan.chapters.push_back(std::move(chapter));
    }
    if (request.angle > title->angles) {
        return fail(ErrorKind::usage, fmt::format("title {} has no angle {}", title->number, request.angle),
                    input.path(), fmt::format("it has {}", title->angles));
    }
    WAVECREST_TRY(input.check_protection(title->number));

    int pictures = 0;
    const auto video = std::find_if(title->tracks.begin(), title->tracks.end(), [&](const Track& t) {
        return t.kind == TrackKind::video && ++pictures >= std::max(request.video, 1);
    });
    if (video == title->tracks.end() && pictures == 0)
        return fail(ErrorKind::input, "no video", plan.source, "name a video file");
    if (video == title->tracks.end())
        return fail(ErrorKind::usage, fmt::format("there is no video track {}", request.video), plan.source,
                    "wavecrest inspect lists the tracks");
    if (title->angles > 1) plan.steps.push_back(fmt::format("angle {} of {}", request.angle, title->angles));
    WAVECREST_TRY(plan_video(input, *video, request, plan));
    WAVECREST_TRY(plan_audio(title->tracks, request, plan));
    WAVECREST_TRY(plan_subtitles(title->tracks, request, plan));
    if (plan.chapters.size() > 1) plan.steps.push_back(fmt::format("{} chapters kept", plan.chapters.size()));
    for (const Problem& problem : title->problems) plan.warnings.push_back(problem.what);
    if (title->role == disc::Role::duplicate || title->role == disc::Role::fake)
        plan.warnings.push_back(fmt::format("title {}: {}", title->number, title->why));

    plan.name = request.name.empty() ? film_name(input.name_hint()) : given_name(request.name);
    if (pick.episode > 0) {
        plan.target =
            request.into / episode_path(plan.name, request.season, request.first_episode + pick.episode - 1, "mp4");
        plan.name = film_name(plan.target.stem().string());
    } else {
        if (several || (!title->main && request.name.empty()))
            plan.name.name += fmt::format(" - title {}", title->number);
        plan.target = request.into / library_path(plan.name, "mp4");
    }
    std::error_code error;
    if (std::filesystem::exists(plan.target, error)) {
        return fail(ErrorKind::machine, "the converted film exists already and is not overwritten",
                    plan.target.string(), "move it away, or give another --name or --into");
    }
    if (const std::int64_t peak = plan.graph.video.encode.peak_bps; peak > 0) {
        std::int64_t audio = 0;
        for (const auto& path : plan.graph.audio) audio += path.bitrate_bps;
        plan.most_bytes =
            static_cast<std::uint64_t>(static_cast<double>(peak + audio) / 8 * base::to_seconds(plan.duration) * 1.01) +
            100'000;
    }
    return plan;
}

}  // namespace

Result<std::vector<Plan>> make_plans(const source::Input& input, const Request& request) {
    WAVECREST_TRY_ASSIGN(picks, input.picks(request.pick));
    std::vector<Plan> plans;
    for (const source::Pick& pick : picks) {
        WAVECREST_TRY_ASSIGN(plan, plan_one(input, request, pick, picks.size() > 1));
        plans.push_back(std::move(plan));
    }
    return plans;
}

Result<Plan> make_plan(const source::Input& input, const Request& request) {
    WAVECREST_TRY_ASSIGN(pick, input.pick(request.pick));
    return plan_one(input, request, pick, false);
}

Result<Estimate> estimate(const source::Input& input, const Plan& plan, const Cancel& cancel) {
    std::uint64_t bytes = 0;
    Time sampled{}, worked{};
    measure::QualityMeasure quality;
    const base::RealClock clock;
    std::optional<Error> refused;
    // A short title is tried as a whole: excerpts begin at keyframes before their places, and would overlap.
    const bool whole = plan.duration <= kExcerpts * kExcerptLength * 3 / 2;
    for (int i = 0; i < (whole ? 1 : kExcerpts); ++i) {
        // Steps of the golden ratio: spread evenly, yet in step with no rhythm the title may have.
        const double place = std::fmod(0.5 + i * 0.6180339887, 1.0);
        const Time at = whole ? Time{} : base::from_seconds(place * base::to_seconds(plan.duration - kExcerptLength));
        const Time begun = clock.now();
        transcode::GraphSettings graph = plan.graph;
        if (!whole) graph.until = std::max(at, Time{}) + kExcerptLength;
        const auto excerpt = [&](std::uint64_t& counted) -> Result<std::optional<transcode::GraphResult>> {
            WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
            if (at.count() > 0 && !source->seek(at)) return std::optional<transcode::GraphResult>{};
            const auto sink = [&](const std::vector<Track>&) -> Result<std::unique_ptr<PacketSink>> {
                return std::make_unique<CountingSink>(counted);
            };
            auto result = transcode::run(*source, graph, sink, {}, cancel);
            // Where the data is missing there is nothing to try; the other places still tell.
            if (!result && result.error().kind == ErrorKind::input) {
                refused = std::move(result).error();
                return std::optional<transcode::GraphResult>{};
            }
            if (!result) return fail(std::move(result).error());
            return std::optional(std::move(*result));
        };
        WAVECREST_TRY_ASSIGN(result, excerpt(bytes));
        worked += clock.now() - begun;
        if (!result) continue;
        sampled += result->duration;
        if (!plan.quality) continue;
        // Once more: looking takes time, which converting doesn't.
        CodedQuality coded(quality);
        graph.watch = coded.watch();
        graph.audio.clear();
        std::uint64_t again = 0;
        WAVECREST_TRY(excerpt(again));
        WAVECREST_TRY(coded.finish());
    }
    if (sampled.count() <= 0 && refused) return fail(*std::move(refused));
    if (sampled.count() <= 0)
        return fail(ErrorKind::input, "no sample of the title could be converted", plan.source,
                    "convert it without --plan");
    const double factor = base::to_seconds(plan.duration) / base::to_seconds(sampled);
    Estimate result;
    result.sampled = sampled;
    result.size_bytes = static_cast<std::uint64_t>(static_cast<double>(bytes) * factor * 1.005);  // the index
    if (plan.most_bytes > 0) result.size_bytes = std::min(result.size_bytes, plan.most_bytes);
    result.time = base::from_seconds(base::to_seconds(worked) * factor);
    if (plan.quality) result.quality = quality.result();
    return result;
}

void log_outcome(const Outcome& outcome) {
    for (const Problem& problem : outcome.problems)
        base::log(base::LogLevel::warning, "{}: {} ({} to {})", outcome.path.string(), problem.what,
                  base::format_clock(problem.from), base::format_clock(problem.to));
    base::log(base::LogLevel::info, "done: {}, {} in {}", outcome.path.string(), base::format_bytes(outcome.size_bytes),
              base::format_span(outcome.elapsed));
}

Result<Outcome> run(const source::Input& input, const Plan& plan, const Progress& progress, const Cancel& cancel) {
    // Made first, so that a target that can't be written to is told at once.
    WAVECREST_TRY_ASSIGN(file, base::AtomicFile::create(plan.target, base::AtomicFile::IfExists::refuse));
    // The peak rate, or else the rip itself, bounds the size; without room for that a sample decides.
    WAVECREST_TRY_ASSIGN(free, host::free_space(plan.target));
    if (free < (plan.most_bytes > 0 ? plan.most_bytes : plan.source_bytes)) {
        Plan size_alone = plan;
        size_alone.quality = false;
        WAVECREST_TRY_ASSIGN(expected, estimate(input, size_alone, cancel));
        WAVECREST_TRY(
            check_space(plan, expected.size_bytes + expected.size_bytes / 10, "needed by a sample of the title"));
    }
    const base::RealClock clock;
    WAVECREST_TRY_ASSIGN(source, input.open(plan.pick, plan.angle));
    Outcome outcome;
    outcome.path = plan.target;
    outcome.title = plan.title;
    outcome.source_bytes = plan.source_bytes;
    const auto make_sink = [&](const std::vector<Track>& tracks) -> Result<std::unique_ptr<PacketSink>> {
        container::WriterSettings settings;
        settings.title = plan.name.name;
        settings.year = plan.name.year;
        settings.chapters = plan.chapters;
        settings.duration = plan.duration;
        WAVECREST_TRY_ASSIGN(writer, container::Mp4Writer::create(std::move(file), tracks, std::move(settings)));
        return std::unique_ptr<PacketSink>(std::move(writer));
    };
    measure::QualityMeasure quality;
    CodedQuality coded(quality);
    transcode::GraphSettings graph = plan.graph;
    if (plan.quality) graph.watch = coded.watch();
    graph.accept = [&](const transcode::GraphResult& made) -> Status {
        std::vector<Problem> problems = source->problems();
        problems.insert(problems.end(), made.problems.begin(), made.problems.end());
        outcome.loss = add_up(problems);
        return plan.accept_losses ? Status{} : check_loss(outcome.loss, plan.duration, plan.source);
    };
    base::log(base::LogLevel::info, "converting {} to {}", plan.source, plan.target.string());
    WAVECREST_TRY_ASSIGN(result, transcode::run(*source, graph, make_sink, progress, cancel));
    outcome.elapsed = clock.now();
    outcome.duration = result.duration;
    outcome.pictures = result.pictures;
    outcome.problems = source->problems();
    outcome.problems.insert(outcome.problems.end(), result.problems.begin(), result.problems.end());
    outcome.subtitles = result.subtitles;
    if (!plan.graph.audio.empty() && result.audio_frames == 0) {
        outcome.problems.push_back({"the audio track is empty", {}, result.duration});
    }
    if (plan.quality) {
        // The film is there: what is wrong with measuring it doesn't undo it.
        if (const auto status = coded.finish(); !status) {
            outcome.problems.push_back(
                {"video quality can't be measured: " + status.error().what, {}, result.duration});
        } else {
            outcome.quality = quality.result();
            if (coded.missing() > 0)
                outcome.problems.push_back(
                    {fmt::format("{} of {} encoded frames can't be decoded", coded.missing(), result.pictures),
                     {},
                     result.duration});
        }
    }
    std::error_code error;
    outcome.size_bytes = std::filesystem::file_size(plan.target, error);
    log_outcome(outcome);
    return outcome;
}

}  // namespace wavecrest::convert
