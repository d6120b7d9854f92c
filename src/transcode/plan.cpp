#include "transcode/plan.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <span>
#include <utility>

#include "base/units.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "container/timing.hpp"
#include "container/writer.hpp"
#include "media/language.hpp"
#include "media/track_choice.hpp"

namespace wavecrest::transcode {
namespace {

const Time kLookLength = base::from_seconds(2);

int even(double value) {
    return std::max(2, static_cast<int>(std::lround(value / 2)) * 2);
}

// The size to code at: within the profile's limit as displayed, never enlarged, pixel aspect squared or kept.
void choose_size(const Track& from, const profile::VideoSettings& settings, codec::VideoEncoderSettings& encode) {
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

Seen look_at_fields(const PlanSource& source, const Track& track, Ratio coded_rate) {
    Seen seen(coded_rate);
    bool matched = false;
    constexpr double kPlaces[] = {0.3, 0.6, 0.85, 0.1, 0.45, 0.72, 0.95, 0.2};
    // More places find what comes seldom; of other codecs than MPEG-2 a place takes seconds.
    const std::size_t places = track.codec == Codec::mpeg2 ? std::size(kPlaces) : 4;
    for (const double place : std::span(kPlaces).first(places)) {
        if (!source.open) break;
        const Time at = base::from_seconds(place * base::to_seconds(source.duration));
        // What can't be read at one place is told when it is converted.
        auto opened = source.open();
        if (!opened || !(*opened)->seek(at)) continue;
        filter::CadenceFinder here(coded_rate);
        if (!look_at_cadence(**opened, track, kLookLength, {&here, &seen.all})) continue;
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

// The rate of the frames as they are coded, fields in pairs.
Ratio coded_rate_of(const Track& track) {
    return track.scan == Scan::pulldown ? base::reduced({track.frame_rate.num * 5, track.frame_rate.den * 4})
                                        : track.frame_rate;
}

// What to do where there may be fields of different instants, or film with pulldown.
void plan_fields(const Seen& seen, const Track& track, const profile::VideoSettings& settings, VideoChain& chain,
                 codec::VideoEncoderSettings& encode, std::vector<std::string>& steps) {
    using TimeRange = filter::WholeFrames::TimeRange;
    const Ratio coded = coded_rate_of(track);
    const Ratio film = base::reduced({coded.num * 4, coded.den * 5});
    const auto together = seen.all.result();
    filter::WholeFrames::Settings fields;
    fields.frame_rate = coded;
    fields.marked_film = seen.marked_film;
    fields.first = seen.video                                           ? TimeRange::video
                   : together && *together == filter::Cadence::pulldown ? TimeRange::pulldown
                                                                        : TimeRange::matched;
    // Video that comes where none was seen must not come faster than the encoder expects.
    const bool every_field = seen.video && settings.every_field;
    fields.video = every_field ? filter::Deinterlacer::Rate::field : filter::Deinterlacer::Rate::frame;
    chain.fields = fields;
    encode.frame_rate = every_field                 ? base::reduced({coded.num * 2, coded.den})
                        : seen.video || seen.frames ? coded
                        : seen.film                 ? film
                                                    : track.frame_rate;
    const std::string rate = base::format_rate(encode.frame_rate);
    const std::string deinterlaced =
        every_field ? fmt::format("deinterlaced to {} fps", rate)
                    : fmt::format("deinterlaced to {} fps (one frame per field pair)", base::format_rate(coded));
    if (seen.mixed()) {
        encode.variable_rate = true;
        std::vector<std::string> kinds;
        if (seen.film) kinds.push_back(fmt::format("film ({} fps)", base::format_rate(film)));
        if (seen.frames) kinds.push_back(fmt::format("progressive ({} fps)", base::format_rate(coded)));
        if (seen.video) kinds.push_back(fmt::format("interlaced video ({})", deinterlaced));
        steps.push_back(fmt::format("mixed, each part as it is: {}", fmt::join(kinds, "; ")));
    } else if (seen.marked_film) {
        steps.push_back(fmt::format("inverse telecine to {} fps", rate));
    } else if (seen.all.unmarked() > seen.all.marked()) {
        const filter::Cadence cadence = together.value_or(filter::Cadence::video);
        const std::string step = cadence == filter::Cadence::progressive ? "no change"
                                 : cadence == filter::Cadence::shifted   ? "fields matched"
                                 : cadence == filter::Cadence::pulldown
                                     ? fmt::format("inverse telecine to {} fps", rate)
                                     : deinterlaced;
        steps.push_back(fmt::format("interlaced: {}{}; {}",
                                    together ? "" : "too little motion to tell film from video, treated as ",
                                    filter::describe(cadence), step));
    }
}

// Whether frames come at a rate, and their usual one: by the times of the first ones.
struct FrameTimes {
    Ratio usual{0, 1};
    bool even = true;
};
FrameTimes look_at_times(const PlanSource& source, const Track& track) {
    constexpr std::size_t kFrames = 900, kReorder = 32;
    FrameTimes found;
    if (!source.open) {
        // It can't be looked at first: the frames that come have the last word.
        if (track.frame_rate.num <= 0) found = {{30, 1}, false};
        return found;
    }
    auto opened = source.open();
    std::vector<Time> times;
    while (opened && times.size() < kFrames) {
        auto packet = (*opened)->read();
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

// What is known of the video before any profile is asked.
struct VideoLook {
    const Track* track = nullptr;
    bool fields = false;  // there may be fields of different instants, or pulldown
    std::optional<Seen> seen;
    std::optional<FrameTimes> times;
};

Result<VideoLook> look_at_video(const PlanSource& source, int number) {
    VideoLook look;
    int videos = 0;
    for (const Track& track : source.tracks) {
        if (track.kind == TrackKind::video && ++videos == std::max(number, 1)) look.track = &track;
    }
    if (videos == 0) return fail(ErrorKind::input, "no video", source.name, "name a video file");
    if (look.track == nullptr)
        return fail(ErrorKind::usage, fmt::format("there is no video track {}", number), source.name,
                    "wavecrest inspect lists the tracks");
    const Track& track = *look.track;
    if (const std::string why = codec::why_no_pictures(track); !why.empty()) {
        return fail(ErrorKind::input, why, source.name,
                    track.codec == Codec::unknown
                        ? "convert it to H.264 with other software first: the codec is not supported here"
                        : "for devices that support this codec, remux it: convert --remux matroska");
    }
    if (track.scan == Scan::unknown) {
        return fail(ErrorKind::input, "no video frame of this title can be read", source.name,
                    "the rip is damaged or incomplete; rip the disc again");
    }
    look.fields = track.codec == Codec::mpeg2 || track.scan == Scan::interlaced || track.scan == Scan::pulldown;
    if (!look.fields || track.frame_rate.num <= 0) look.times = look_at_times(source, track);
    if (track.frame_rate.num <= 0 && look.times->usual.num <= 0) {
        return fail(ErrorKind::input, "the frames have no timestamps, so the frame rate is unknown", source.name,
                    "remux them: convert --remux");
    }
    if (look.fields && track.frame_rate.num > 0) look.seen = look_at_fields(source, track, coded_rate_of(track));
    return look;
}

// A profile's codec as people write it: "H.264 High profile".
std::string named(const profile::VideoSettings& settings) {
    return fmt::format("{}{}", media::display_name(settings.codec),
                       settings.profile.empty() ? "" : fmt::format(" {} profile", base::capitalized(settings.profile)));
}

bool same(const VideoChain& a, const VideoChain& b) {
    const auto same_fields = [](const filter::WholeFrames::Settings& x, const filter::WholeFrames::Settings& y) {
        return x.frame_rate == y.frame_rate && x.video == y.video && x.first == y.first &&
               x.marked_film == y.marked_film;
    };
    return a.constant_rate == b.constant_rate && a.fields.has_value() == b.fields.has_value() &&
           (!a.fields || same_fields(*a.fields, *b.fields));
}

// The video of one output.
Status plan_video(const PlanSource& source, const VideoLook& look, const profile::VideoSettings& settings,
                  EncodePlan& plan, std::vector<std::string>& steps) {
    const Track& track = *look.track;
    VideoChain chain;
    VideoEncode made;
    codec::VideoEncoderSettings& encode = made.encode;
    choose_size(track, settings, encode);
    encode.frame_rate = track.frame_rate;
    if (look.times) {
        if (encode.frame_rate.num <= 0) encode.frame_rate = look.times->usual;
        encode.variable_rate = !look.times->even;
    }
    if (look.seen) plan_fields(*look.seen, track, settings, chain, encode, steps);
    if (settings.constant_rate) {
        if (settings.frame_rate.num > 0) encode.frame_rate = settings.frame_rate;
        encode.variable_rate = false;
        chain.constant_rate = encode.frame_rate;
        steps.push_back(fmt::format("constant frame rate: {} fps", base::format_rate(encode.frame_rate)));
    } else if (encode.variable_rate) {
        steps.push_back(
            fmt::format("variable frame rate, mostly {} fps: timestamps kept", base::format_rate(encode.frame_rate)));
    }
    if (encode.width != track.width || encode.height != track.height) {
        steps.push_back(fmt::format("video: {}x{} (display aspect {}) scaled to {}x{} ({} pixels)", track.width,
                                    track.height, media::aspect_name(track.display_aspect()), encode.width,
                                    encode.height, encode.pixel_aspect == Ratio{1, 1} ? "square" : "the source's"));
    } else {
        steps.push_back(fmt::format("video: {}x{} kept, pixel aspect {}:{}", track.width, track.height,
                                    encode.pixel_aspect.num, encode.pixel_aspect.den));
    }
    if (track.frame_packing) {
        const bool mixes = encode.width != track.width || encode.height != track.height ||
                           (chain.fields && (chain.fields->first == filter::WholeFrames::TimeRange::video));
        if (track.frame_packing->interleaved() && mixes) {
            return fail(ErrorKind::input,
                        fmt::format("the video is 3D ({}): scaling or deinterlacing would mix the two views",
                                    media::describe(*track.frame_packing)),
                        source.name, "use a profile that keeps this video size, or remux it: convert --remux");
        }
        steps.push_back(fmt::format("{}: kept", media::describe(*track.frame_packing)));
    }
    encode.colour = output_colour(track, steps);
    encode.codec = settings.codec;
    encode.profile = settings.profile;
    encode.level = settings.level;
    encode.effort = settings.effort;
    encode.quality = settings.quality;
    encode.peak_bps = settings.peak_bps;
    encode.buffer = settings.buffer;
    encode.keyframe_distance = settings.keyframe_interval;
    steps.push_back(
        fmt::format("video: {}, quality {:g}, effort {}{}", named(settings), settings.quality, settings.effort,
                    settings.peak_bps > 0 ? fmt::format(", peak {} over {}", base::format_bitrate(settings.peak_bps),
                                                        base::format_span(settings.buffer))
                                          : ""));
    const auto known = std::find_if(plan.graph.chains.begin(), plan.graph.chains.end(),
                                    [&](const VideoChain& other) { return same(chain, other); });
    made.chain = static_cast<std::size_t>(known - plan.graph.chains.begin());
    if (known == plan.graph.chains.end()) plan.graph.chains.push_back(std::move(chain));
    plan.graph.outputs.back().push_back({OutputTrack::Kind::video, plan.graph.video_encodes.size()});
    plan.graph.video_encodes.push_back(std::move(made));
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
Result<std::vector<TrackId>> choose_audio(const PlanSource& source, const PlanRequest& request) {
    const std::vector<Track>& tracks = source.tracks;
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
                        source.name,
                        "wavecrest inspect lists the tracks; give --audio first, all, none, languages, e.g. en,fr, or "
                        "track numbers");
        }
        if (std::find(chosen.begin(), chosen.end(), track->id) == chosen.end()) chosen.push_back(track->id);
    }
    return chosen;
}

// The layout that a profile asks for, as far as the source and the codec have it.
Speakers layout_for(const Track& track, const profile::AudioSettings& settings) {
    using namespace media::speaker;
    const Speakers own = track.speakers != 0 ? track.speakers : media::usual_speakers(std::clamp(track.channels, 1, 9));
    const int most = settings.channels > 0 ? settings.channels : 9;
    const Speakers limited = media::speaker_count(own) <= most ? own
                             : most == 1                       ? kCentre
                             : most == 2                       ? kStereo
                                                               : kFiveOne;
    return codec::nearest_layout(settings.codec, limited);
}

// Fails where a profile's container can't hold a codec.
Status check_container(const profile::Profile& profile, const Track& track, const char* instead) {
    const std::string why = container::why_not_codec(profile.container, track);
    if (why.empty()) return {};
    return fail(ErrorKind::usage, why, fmt::format("profile {}", profile.name),
                fmt::format("use container = \"matroska\", or {} in the profile", instead));
}

// Whether AC-3, which is made for good at the source, is what a profile wants already: encoding it anew at the same
// rate would only lose.
bool suits(const Track& track, const profile::AudioSettings& settings) {
    return track.codec == Codec::ac3 && settings.codec == Codec::ac3 && track.bitrate_bps > 0 &&
           (settings.channels == 0 || track.channels <= settings.channels) &&
           track.bitrate_bps <= settings.bitrate_for(settings.channels > 0 ? settings.channels : track.channels);
}

// The audio of one output: of each track that was chosen, each kind that the profile wants.
Status plan_audio(const std::vector<const Track*>& chosen, const profile::Profile& profile, EncodePlan& plan,
                  std::vector<std::string>& steps) {
    std::vector<OutputTrack>& output = plan.graph.outputs.back();
    std::int64_t& most = plan.outputs.back().most_bps;
    for (const Track* track : chosen) {
        const std::string from =
            fmt::format("{} {}, {}{}", media::language_name(track->language), media::channel_layout(*track),
                        media::display_name(track->codec),
                        track->purpose == Purpose::main ? "" : fmt::format(" ({})", media::short_name(track->purpose)));
        std::vector<AudioEncode> made;
        bool kept = false;
        for (const profile::AudioSettings& settings : profile.audio) {
            if (settings.keep || suits(*track, settings)) {
                WAVECREST_TRY(check_container(profile, *track, "another audio codec"));
                if (std::exchange(kept, true)) continue;  // once is enough
                output.push_back({OutputTrack::Kind::kept, plan.graph.kept.size()});
                plan.graph.kept.push_back(*track);
                steps.push_back(
                    fmt::format("audio: {} kept{}", from, settings.keep ? "" : ": it is what the profile wants"));
                most += track->peak_bitrate_bps > 0 ? track->peak_bitrate_bps : track->bitrate_bps;
                continue;
            }
            Track coded;
            coded.codec = settings.codec;
            WAVECREST_TRY(check_container(profile, coded, "another audio codec"));
            AudioEncode one{*track, {}};
            codec::AudioEncoderSettings& encode = one.encode;
            encode.codec = settings.codec;
            encode.sample_rate = codec::nearest_rate(settings.codec, track->sample_rate);
            encode.speakers = layout_for(*track, settings);
            encode.bit_depth = track->bit_depth > 16 ? 24 : 16;
            encode.purpose = track->purpose;
            const int channels = media::speaker_count(encode.speakers);
            encode.bitrate_bps = settings.bitrate_for(channels);
            // A stereo track has no surround version beside its stereo one.
            if (std::any_of(made.begin(), made.end(), [&](const AudioEncode& other) {
                    return other.encode.codec == encode.codec && other.encode.speakers == encode.speakers;
                }))
                continue;
            steps.push_back(fmt::format("audio: {} to {} {}, {} Hz{}", from, media::display_name(encode.codec),
                                        media::channel_layout(channels), encode.sample_rate,
                                        encode.bitrate_bps > 0 ? ", " + base::format_bitrate(encode.bitrate_bps)
                                                               : fmt::format(", {} bits", encode.bit_depth)));
            most += encode.bitrate_bps > 0 ? encode.bitrate_bps
                                           : std::int64_t{encode.bit_depth} * channels * encode.sample_rate;
            made.push_back(one);
            // Another output may have the same.
            auto& all = plan.graph.audio_encodes;
            const auto known = std::find_if(all.begin(), all.end(), [&](const AudioEncode& other) {
                return other.from.id == track->id && other.encode.codec == encode.codec &&
                       other.encode.speakers == encode.speakers && other.encode.sample_rate == encode.sample_rate &&
                       other.encode.bitrate_bps == encode.bitrate_bps;
            });
            output.push_back({OutputTrack::Kind::audio, static_cast<std::size_t>(known - all.begin())});
            if (known == all.end()) all.push_back(std::move(one));
        }
    }
    return {};
}

// What becomes of each of the source's audio tracks, whatever the output.
void list_audio(const PlanSource& source, const PlanRequest& request, const std::vector<const Track*>& chosen,
                EncodePlan& plan) {
    int number = 0;
    for (const Track& track : source.tracks) {
        if (track.kind != TrackKind::audio) continue;
        ++number;
        TrackPlan entry{track, TrackPlan::Action::drop, ""};
        std::vector<std::string> kinds;
        bool kept = false;
        for (const AudioEncode& one : plan.graph.audio_encodes) {
            if (one.from.id == track.id)
                kinds.push_back(fmt::format("{} {}", media::display_name(one.encode.codec),
                                            media::channel_layout(media::speaker_count(one.encode.speakers))));
        }
        for (const Track& one : plan.graph.kept) kept = kept || one.id == track.id;
        if (kept) {
            entry.action = TrackPlan::Action::keep;
            entry.why = kinds.empty() ? "as it is" : fmt::format("as it is, and as {}", fmt::join(kinds, " and "));
        } else if (!kinds.empty()) {
            entry.action = TrackPlan::Action::transcode;
            entry.why = fmt::format("{} to {}", media::display_name(track.codec), fmt::join(kinds, " and "));
        } else if (std::find(chosen.begin(), chosen.end(), &track) != chosen.end()) {
            entry.why = "the profile has no audio";
        } else if (!codec::can_decode_audio(track)) {
            entry.why = fmt::format("{} audio can't be decoded", media::display_name(track.codec));
        } else {
            entry.why = fmt::format("not selected; add with --audio {}", number);
        }
        plan.tracks.push_back(std::move(entry));
    }
    if (chosen.empty() && request.audio != "none")
        plan.warnings.emplace_back("no audio in the result: the title has no audio track that can be decoded");
}

// Which subtitles are burned into the video of every output. Images can't be kept as a track of an MP4 file.
Status plan_subtitles(const PlanSource& source, const PlanRequest& request, const std::vector<const Track*>& audio,
                      EncodePlan& plan) {
    const std::vector<Track>& tracks = source.tracks;
    const std::string language = audio.empty() ? "" : audio.front()->language;
    std::vector<VideoChain::Subtitles> chosen;
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
                        source.name,
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
                                       : "not selected; --subtitles burns one language in"});
        }
    }
    for (VideoChain& chain : plan.graph.chains) chain.subtitles = chosen;
    return {};
}

}  // namespace

std::string_view short_name(TrackPlan::Action action) {
    return action == TrackPlan::Action::transcode ? "transcode" : action == TrackPlan::Action::keep ? "keep" : "drop";
}

Result<EncodePlan> plan_encode(const PlanSource& source, const PlanRequest& request) {
    EncodePlan plan;
    WAVECREST_TRY_ASSIGN(look, look_at_video(source, request.video));
    const Track& video = *look.track;
    WAVECREST_TRY_ASSIGN(ids, choose_audio(source, request));
    std::vector<const Track*> audio;  // in the order they were asked for
    for (const TrackId id : ids)
        audio.push_back(&*std::find_if(source.tracks.begin(), source.tracks.end(),
                                       [&](const Track& track) { return track.id == id; }));
    plan.graph.video = video;
    std::vector<std::string> codecs;
    for (const profile::Profile& profile : request.profiles) {
        plan.outputs.push_back({profile.name, profile.container, 0, {}});
        plan.graph.outputs.emplace_back();
        std::vector<std::string> steps;
        Track coded;
        coded.codec = profile.video.codec;
        WAVECREST_TRY(check_container(profile, coded, "another video codec"));
        WAVECREST_TRY(plan_video(source, look, profile.video, plan, steps));
        WAVECREST_TRY(plan_audio(audio, profile, plan, steps));
        plan.outputs.back().steps = std::move(steps);
        // Without a peak rate of the video nothing is known of all together.
        std::int64_t& most = plan.outputs.back().most_bps;
        most = profile.video.peak_bps > 0 ? most + profile.video.peak_bps : 0;
        codecs.emplace_back(media::display_name(profile.video.codec));
    }
    std::sort(codecs.begin(), codecs.end());
    codecs.erase(std::unique(codecs.begin(), codecs.end()), codecs.end());
    plan.tracks.push_back({video, TrackPlan::Action::transcode,
                           fmt::format("{} to {}", media::display_name(video.codec), fmt::join(codecs, " and "))});
    if (video.layers == media::Layers::second_view)
        plan.warnings.emplace_back(
            "3D: only the base view is converted; the second view (MVC) can be kept with convert --remux");
    list_audio(source, request, audio, plan);
    WAVECREST_TRY(plan_subtitles(source, request, audio, plan));
    return plan;
}

}  // namespace wavecrest::transcode
