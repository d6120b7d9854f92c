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
#include "filter/tone_map.hpp"
#include "media/language.hpp"
#include "media/track_choice.hpp"
#include "transcode/complete.hpp"

namespace wavecrest::transcode {
namespace {

const Time kLookLength = base::from_seconds(2);

int even(double value) {
    return std::max(2, static_cast<int>(std::lround(value / 2)) * 2);
}

// The size to code at: within the profile's limit as displayed, never enlarged, pixel aspect squared or kept.
void choose_size(const Track& from, const filter::Borders& crop, const profile::VideoSettings& settings,
                 codec::VideoEncoderSettings& encode) {
    const double pixel = from.pixel_aspect.value();
    const int columns = from.width - crop.left - crop.right, rows = from.height - crop.top - crop.bottom;
    double width = settings.square_pixels ? std::max(columns * pixel, 1.0 * columns) : columns;
    double height = settings.square_pixels && pixel < 1 ? rows / pixel : rows;
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

// Bits a sample and colours of what is made.
void plan_depth(const Track& track, const profile::VideoSettings& settings, VideoEncode& made,
                std::vector<std::string>& steps) {
    codec::VideoEncoderSettings& encode = made.encode;
    const int source_depth = std::max(track.bit_depth, 8);
    encode.bit_depth = std::min(source_depth, settings.bit_depth);
    if (!media::is_hdr(track.colour)) {
        encode.colour = output_colour(track, steps);
        if (encode.bit_depth < source_depth)
            steps.push_back(fmt::format("bit depth: {} to {}, dithered", source_depth, encode.bit_depth));
        return;
    }
    const char* kind = track.colour.transfer == media::kTransferHlg ? "HLG" : "HDR10";
    if (settings.keeps_hdr && encode.bit_depth == 10) {
        encode.colour = track.colour;
        encode.mastering_display = track.mastering_display;
        encode.content_light = track.content_light;
        steps.push_back(fmt::format("HDR: {} kept, 10 bits", kind));
        return;
    }
    made.to_sdr = true;
    encode.bit_depth = 8;  // standard dynamic range
    encode.colour = filter::ToneMapper::result_colour();
    steps.push_back(
        fmt::format("HDR: {} (peak {:.0f} cd/m2) tone-mapped to SDR, 8 bits", kind, filter::source_peak(track)));
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

Result<VideoLook> look_at_video(const PlanSource& source, const Track& track) {
    VideoLook look;
    look.track = &track;
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
    const auto same_subtitles = [](const VideoChain::Subtitles& x, const VideoChain::Subtitles& y) {
        return x.from.id == y.from.id && x.forced_only == y.forced_only;
    };
    return a.constant_rate == b.constant_rate && a.half_rate == b.half_rate && a.crop == b.crop &&
           a.fields.has_value() == b.fields.has_value() && (!a.fields || same_fields(*a.fields, *b.fields)) &&
           std::equal(a.subtitles.begin(), a.subtitles.end(), b.subtitles.begin(), b.subtitles.end(), same_subtitles);
}

// Black borders of the whole title, by places spread over it.
filter::Borders look_for_borders(const PlanSource& source, const Track& track) {
    constexpr int kPlaces = 40, kFewest = 6;
    if (!source.open) return {};
    std::optional<filter::Borders> found;
    int seen = 0;
    auto opened = source.open();
    for (int i = 0; i < kPlaces && opened; ++i) {
        const Time at = base::from_seconds((i + 0.5) / kPlaces * base::to_seconds(source.duration));
        auto decoder = codec::make_video_decoder(track);
        if (!decoder || !(*opened)->seek(at)) continue;
        std::vector<Picture> pictures;
        for (int packets = 0; packets < 2000 && pictures.empty(); ++packets) {
            auto packet = (*opened)->read();
            if (!packet || !*packet) break;
            if ((*packet)->track == track.id && !(*decoder)->decode(**packet, pictures)) break;
        }
        if (pictures.empty()) (void)(*decoder)->flush(pictures);
        if (pictures.empty()) continue;
        const auto borders = filter::black_borders(pictures.front());
        if (!borders) continue;
        found = found ? filter::common(*found, *borders) : *borders;
        ++seen;
    }
    const bool fields = track.scan == Scan::interlaced || track.scan == Scan::pulldown;
    return found && seen >= kFewest ? filter::croppable(*found, fields) : filter::Borders{};
}

// Bits by quality, or by an average that is held in two passes.
std::string plan_rate(const profile::VideoSettings& settings, const PlanSource& source, EncodePlan::Output& output,
                      codec::VideoEncoderSettings& encode) {
    encode.effort = settings.effort;
    encode.quality = settings.quality;
    encode.peak_bps = settings.peak_bps;
    encode.buffer = settings.buffer;
    encode.keyframe_distance = settings.keyframe_interval;
    encode.fixed_keyframes = settings.fixed_keyframes;
    encode.mean_bps = settings.mean_bps;
    if (settings.target_bytes > 0) {
        output.target_bytes = settings.target_bytes;
        // What audio takes of it is known behind the first pass.
        encode.mean_bps = static_cast<std::int64_t>(static_cast<double>(settings.target_bytes) * 8 /
                                                    std::max(base::to_seconds(source.duration), 1.0));
    }
    const std::string rate =
        settings.target_bytes > 0 ? fmt::format("file of {}, two passes", base::format_bytes(settings.target_bytes))
        : settings.mean_bps > 0   ? fmt::format("average {}, two passes", base::format_bitrate(settings.mean_bps))
                                  : fmt::format("quality {:g}", settings.quality);
    const std::string peak = settings.peak_bps > 0
                                 ? fmt::format(", peak {} over {}", base::format_bitrate(settings.peak_bps),
                                               base::format_span(settings.buffer))
                                 : "";
    const std::string keyframes =
        settings.fixed_keyframes ? fmt::format(", keyframes every {}", base::format_span(settings.keyframe_interval))
                                 : "";
    return fmt::format("video: {}, {}, effort {}{}{}", named(settings), rate, settings.effort, peak, keyframes);
}

// The video of one output.
Status plan_video(const PlanSource& source, const VideoLook& look, const profile::VideoSettings& settings,
                  std::vector<VideoChain::Subtitles> subtitles, EncodePlan& plan, std::vector<std::string>& steps) {
    const Track& track = *look.track;
    VideoChain chain;
    chain.subtitles = std::move(subtitles);
    VideoEncode made;
    codec::VideoEncoderSettings& encode = made.encode;
    if (settings.crop) {
        chain.crop = look_for_borders(source, track);
        steps.push_back(chain.crop.any()
                            ? fmt::format("black borders: top {}, bottom {}, left {}, right {} cropped", chain.crop.top,
                                          chain.crop.bottom, chain.crop.left, chain.crop.right)
                            : "black borders: none found");
    }
    choose_size(track, chain.crop, settings, encode);
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
    constexpr double kFast = 30.5;
    if (settings.half_rate && !encode.variable_rate && encode.frame_rate.value() > kFast) {
        chain.half_rate = true;
        encode.frame_rate = base::reduced({encode.frame_rate.num, encode.frame_rate.den * 2});
        steps.push_back(fmt::format("every other frame: {} fps", base::format_rate(encode.frame_rate)));
    }
    const bool scales = encode.width != track.width - chain.crop.left - chain.crop.right ||
                        encode.height != track.height - chain.crop.top - chain.crop.bottom;
    if (scales) {
        steps.push_back(fmt::format("video: {}x{} (display aspect {}) scaled to {}x{} ({} pixels)", track.width,
                                    track.height, media::aspect_name(track.display_aspect()), encode.width,
                                    encode.height, encode.pixel_aspect == Ratio{1, 1} ? "square" : "the source's"));
    } else {
        steps.push_back(fmt::format("video: {}x{} kept, pixel aspect {}:{}", encode.width, encode.height,
                                    encode.pixel_aspect.num, encode.pixel_aspect.den));
    }
    if (track.frame_packing) {
        const bool mixes = scales || chain.crop.any() ||
                           (chain.fields && (chain.fields->first == filter::WholeFrames::TimeRange::video));
        if (track.frame_packing->interleaved() && mixes) {
            return fail(ErrorKind::input,
                        fmt::format("the video is 3D ({}): scaling or deinterlacing would mix the two views",
                                    media::describe(*track.frame_packing)),
                        source.name, "use a profile that keeps this video size, or remux it: convert --remux");
        }
        steps.push_back(fmt::format("{}: kept", media::describe(*track.frame_packing)));
    }
    plan_depth(track, settings, made, steps);
    encode.codec = settings.codec;
    encode.profile = settings.profile;
    encode.level = settings.level;
    steps.push_back(plan_rate(settings, source, plan.outputs.back(), encode));
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

}  // namespace

Result<std::vector<TrackId>> choose_audio(const PlanSource& source, const std::string& choice) {
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
    if (choice == "none") return chosen;
    if (choice == "first") {
        if (const Track* track = best([](const Track&) { return true; })) chosen.push_back(track->id);
        return chosen;
    }
    if (choice == "all") {
        for (const Track* track : usable) chosen.push_back(track->id);
        return chosen;
    }
    for (const std::string& language : split(choice)) {
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

namespace {

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
            if (settings.keeps_track(*track) || suits(*track, settings)) {
                WAVECREST_TRY(check_container(profile, *track, "another audio codec"));
                if (std::exchange(kept, true)) continue;  // once is enough
                output.push_back({OutputTrack::Kind::kept, plan.graph.kept.size()});
                plan.graph.kept.push_back(*track);
                steps.push_back(
                    fmt::format("audio: {} kept{}", from, settings.keeps_track(*track) ? "" : ": it is what the profile wants"));
                most += track->peak_bitrate_bps > 0 ? track->peak_bitrate_bps : track->bitrate_bps;
                continue;
            }
            Track coded;
            coded.codec = settings.codec;
            WAVECREST_TRY(check_container(profile, coded, "another audio codec"));
            AudioEncode one;
            one.from = *track;
            codec::AudioEncoderSettings& encode = one.encode;
            encode.codec = settings.codec;
            encode.sample_rate = codec::nearest_rate(settings.codec, track->sample_rate);
            encode.speakers = layout_for(*track, settings);
            encode.bit_depth = track->bit_depth > 16 ? 24 : 16;
            encode.purpose = track->purpose;
            one.loudness = settings.loudness;
            one.night = settings.night;
            const int channels = media::speaker_count(encode.speakers);
            encode.bitrate_bps = settings.bitrate_for(channels);
            // A stereo track has no surround version beside its stereo one.
            if (std::any_of(made.begin(), made.end(), [&](const AudioEncode& other) {
                    return other.encode.codec == encode.codec && other.encode.speakers == encode.speakers;
                }))
                continue;
            steps.push_back(fmt::format("audio: {} to {} {}, {} Hz{}{}{}", from, media::display_name(encode.codec),
                                        media::channel_layout(channels), encode.sample_rate,
                                        encode.bitrate_bps > 0 ? ", " + base::format_bitrate(encode.bitrate_bps)
                                                               : fmt::format(", {} bits", encode.bit_depth),
                                        one.loudness ? fmt::format(", loudness {:g} LUFS", *one.loudness) : "",
                                        one.night ? ", dynamic range reduced" : ""));
            most += encode.bitrate_bps > 0 ? encode.bitrate_bps
                                           : std::int64_t{encode.bit_depth} * channels * encode.sample_rate;
            made.push_back(one);
            // Another output may have the same.
            auto& all = plan.graph.audio_encodes;
            const auto known = std::find_if(all.begin(), all.end(), [&](const AudioEncode& other) {
                return other.from.id == track->id && other.encode.codec == encode.codec &&
                       other.encode.speakers == encode.speakers && other.encode.sample_rate == encode.sample_rate &&
                       other.encode.bitrate_bps == encode.bitrate_bps && other.loudness == one.loudness &&
                       other.night == one.night;
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

// Which subtitles are burned in where a profile doesn't keep them.
Result<std::vector<VideoChain::Subtitles>> choose_burned(const PlanSource& source, const PlanRequest& request,
                                                         const std::vector<const Track*>& audio) {
    const std::string language = audio.empty() ? "" : audio.front()->language;
    std::vector<VideoChain::Subtitles> chosen;
    const auto take = [&](bool forced_only, const auto& fits) {
        for (const Track& track : source.tracks) {
            if (track.kind == TrackKind::subtitle && fits(track)) chosen.push_back({track, forced_only});
        }
        return !chosen.empty();
    };
    if (request.subtitles == "forced") {
        // A track made for it; else the forced ones among the subtitles in the language that is heard, in however many
        // tracks they are: Blu-ray discs don't say which.
        // Text that is needed is drawn, too; other text has no forced cues.
        take(false,
             [&](const Track& t) {
                 return t.forced && (language.empty() || media::same_language(t.language, language));
             }) ||
            take(true, [&](const Track& t) {
                return t.codec != Codec::text && t.purpose == Purpose::main &&
                       media::same_language(t.language, language);
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
                        "wavecrest inspect lists the tracks; give --subtitles (of a stream: --burn-in) forced, none or "
                        "a language, e.g. en");
        }
    }
    return chosen;
}

// Subtitles that go along in one output.
void keep_subtitles(const PlanSource& source, const profile::Profile& profile,
                    const std::vector<VideoChain::Subtitles>& burned, EncodePlan& plan,
                    std::vector<std::string>& steps) {
    for (const Track& track : source.tracks) {
        // What is in the picture would be there twice.
        const bool drawn = std::any_of(burned.begin(), burned.end(),
                                       [&](const auto& one) { return one.from.id == track.id && !one.forced_only; });
        if (track.kind != TrackKind::subtitle || drawn) continue;
        const bool text = track.codec == Codec::text;
        if (!(text ? profile.subtitles.keep_text : profile.subtitles.keep_images)) continue;
        if (!container::why_not(profile.container, track).empty()) continue;
        plan.graph.outputs.back().push_back({OutputTrack::Kind::kept, plan.graph.kept.size()});
        plan.graph.kept.push_back(track);
        steps.push_back(
            fmt::format("subtitles: {} ({}) kept", media::language_name(track.language), text ? "text" : "bitmap"));
    }
}

// What becomes of each of the source's subtitles.
void list_subtitles(const PlanSource& source, const std::vector<VideoChain::Subtitles>& burned, EncodePlan& plan) {
    const auto is = [](const Track& track) { return [&track](const Track& other) { return other.id == track.id; }; };
    for (const Track& track : source.tracks) {
        if (track.kind != TrackKind::subtitle) continue;
        const auto taken =
            std::find_if(burned.begin(), burned.end(), [&](const auto& c) { return c.from.id == track.id; });
        const bool kept = std::any_of(plan.graph.kept.begin(), plan.graph.kept.end(), is(track));
        if (kept) {
            plan.tracks.push_back({track, TrackPlan::Action::keep, "as it is"});
        } else if (taken != burned.end()) {
            plan.tracks.push_back({track, TrackPlan::Action::transcode,
                                   taken->forced_only ? "forced subtitles in it are burned in" : "burned in"});
        } else {
            plan.tracks.push_back({track, TrackPlan::Action::drop,
                                   track.codec == Codec::text
                                       ? "the profile or its container leaves text subtitles out; --remux webvtt "
                                         "writes them beside the film"
                                       : "not selected; --subtitles burns one language in"});
        }
    }
}

// The video track that is wanted, as it lies in the source.
Result<const Track*> choose_video(const PlanSource& source, int number) {
    int videos = 0;
    const Track* chosen = nullptr;
    for (const Track& track : source.tracks) {
        if (track.kind == TrackKind::video && ++videos == std::max(number, 1)) chosen = &track;
    }
    if (videos == 0)
        return fail(ErrorKind::input, "no video", source.name,
                    "name a video file, or convert it with an audio profile: --profile audio-only");
    if (chosen == nullptr)
        return fail(ErrorKind::usage, fmt::format("there is no video track {}", number), source.name,
                    "wavecrest inspect lists the tracks");
    return chosen;
}

// Video that goes along as it is.
Status keep_video(const PlanSource& source, Track track, const profile::Profile& profile, EncodePlan& plan,
                  std::vector<std::string>& steps) {
    // Its headers may only be in the stream.
    if (source.open) {
        WAVECREST_TRY_ASSIGN(opened, source.open());
        std::vector<Track> one = {track};
        std::vector<Packet> read;
        WAVECREST_TRY(complete(*opened, one, read));
        track = one.front();
    }
    if (const std::string why = container::why_not(profile.container, track); !why.empty())
        return fail(ErrorKind::usage, why, fmt::format("profile {}", profile.name),
                    "use container = \"matroska\", or name a codec in [video] of the profile");
    plan.graph.outputs.back().push_back({OutputTrack::Kind::kept, plan.graph.kept.size()});
    plan.graph.kept.push_back(track);
    plan.outputs.back().most_bps += track.peak_bitrate_bps > 0 ? track.peak_bitrate_bps : 0;
    steps.push_back(fmt::format("video: {} {}x{} kept", media::display_name(track.codec), track.width, track.height));
    return {};
}

}  // namespace

std::string_view short_name(TrackPlan::Action action) {
    return action == TrackPlan::Action::transcode ? "transcode" : action == TrackPlan::Action::keep ? "keep" : "drop";
}

Result<EncodePlan> plan_encode(const PlanSource& source, const PlanRequest& request) {
    using What = profile::VideoSettings::What;
    EncodePlan plan;
    const auto any = [&](What what) {
        return std::any_of(request.profiles.begin(), request.profiles.end(),
                           [&](const profile::Profile& profile) { return profile.video.what == what; });
    };
    const Track* video = nullptr;
    VideoLook look;
    if (any(What::encode) || any(What::keep)) {
        WAVECREST_TRY_ASSIGN(chosen, choose_video(source, request.video));
        video = chosen;
    }
    if (any(What::encode)) {
        WAVECREST_TRY_ASSIGN(looked, look_at_video(source, *video));
        look = std::move(looked);
        plan.graph.video = *video;
    }
    WAVECREST_TRY_ASSIGN(ids, choose_audio(source, request.audio));
    std::vector<const Track*> audio;  // in the order they were asked for
    for (const TrackId id : ids)
        audio.push_back(&*std::find_if(source.tracks.begin(), source.tracks.end(),
                                       [&](const Track& track) { return track.id == id; }));
    std::vector<VideoChain::Subtitles> burned;
    if (any(What::encode)) {
        WAVECREST_TRY_ASSIGN(chosen, choose_burned(source, request, audio));
        burned = std::move(chosen);
    }
    std::vector<std::string> codecs;
    bool burns = false;
    for (const profile::Profile& profile : request.profiles) {
        const profile::VideoSettings& settings = profile.video;
        plan.outputs.push_back({profile.name, profile.container, 0, 0, profile.has_video(), {}});
        plan.graph.outputs.emplace_back();
        std::vector<std::string> steps;
        std::vector<VideoChain::Subtitles> drawn;
        if (settings.what == What::encode) {
            Track coded;
            coded.codec = settings.codec;
            WAVECREST_TRY(check_container(profile, coded, "another video codec"));
            // A language that is asked for is burned in whatever the profile keeps.
            const bool burn = !profile.subtitles.keep_images || request.subtitles != "forced";
            burns = burns || (burn && !burned.empty());
            if (burn) drawn = burned;
            WAVECREST_TRY(plan_video(source, look, settings, drawn, plan, steps));
            codecs.emplace_back(media::display_name(settings.codec));
        } else if (settings.what == What::keep) {
            WAVECREST_TRY(keep_video(source, *video, profile, plan, steps));
        }
        WAVECREST_TRY(plan_audio(audio, profile, plan, steps));
        if (!profile.has_video() && plan.graph.outputs.back().empty())
            return fail(ErrorKind::input, "no audio that can be converted", source.name,
                        "wavecrest inspect lists the tracks; --audio chooses one");
        if (container::holds_one_track(profile.container) && plan.graph.outputs.back().size() > 1)
            return fail(ErrorKind::usage, fmt::format("{} files have one audio track", profile.container),
                        fmt::format("profile {}", profile.name), "choose one track with --audio, or use \"matroska\"");
        if (profile.has_video()) keep_subtitles(source, profile, drawn, plan, steps);
        plan.outputs.back().steps = std::move(steps);
        // Without a peak rate of the video nothing is known of all together.
        std::int64_t& most = plan.outputs.back().most_bps;
        if (settings.what == What::encode) most = settings.peak_bps > 0 ? most + settings.peak_bps : 0;
        if (settings.what == What::keep && video->peak_bitrate_bps <= 0) most = 0;
    }
    if (video != nullptr && !codecs.empty()) {
        std::sort(codecs.begin(), codecs.end());
        codecs.erase(std::unique(codecs.begin(), codecs.end()), codecs.end());
        plan.tracks.push_back({*video, TrackPlan::Action::transcode,
                               fmt::format("{} to {}", media::display_name(video->codec), fmt::join(codecs, " and "))});
    } else if (video != nullptr) {
        plan.tracks.push_back({*video, TrackPlan::Action::keep, "as it is"});
    }
    if (video != nullptr && !codecs.empty() && video->layers == media::Layers::second_view)
        plan.warnings.emplace_back(
            "3D: only the base view is converted; the second view (MVC) can be kept with convert --remux");
    list_audio(source, request, audio, plan);
    if (burns)
        plan.steps.push_back(fmt::format("subtitles: {}, {} burned in",
                                         media::language_name(burned.front().from.language),
                                         burned.front().forced_only ? "only the forced ones are" : "all are"));
    if (!burns) burned.clear();
    list_subtitles(source, burned, plan);
    return plan;
}

}  // namespace wavecrest::transcode
