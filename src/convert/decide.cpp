#include "convert/decide.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <limits>
#include <span>
#include <tuple>

#include "base/units.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/levels.hpp"
#include "codec/audio_encoder.hpp"
#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "container/writer.hpp"
#include "measure/rate.hpp"
#include "media/language.hpp"
#include "transcode/plan.hpp"

namespace wavecrest::convert {
namespace {

using device::Device;
using device::Verdict;

// Containers that hold video, the most widely read first.
constexpr std::string_view kContainers[] = {"mp4", "matroska", "webm", "mpeg-ts"};
// Codecs that are encoded to, the most widely played and quickest first.
constexpr Codec kVideoCodecs[] = {Codec::h264, Codec::h265, Codec::vp9, Codec::av1};
constexpr Codec kSurroundCodecs[] = {Codec::ac3, Codec::aac, Codec::opus, Codec::flac};
constexpr Codec kStereoCodecs[] = {Codec::aac, Codec::mp3, Codec::opus, Codec::ac3, Codec::flac, Codec::lpcm};
// Of a device's highest rate, so that a second in which the encoder's buffer empties stays below it.
constexpr double kPeakShare = 0.75;

using Group = std::vector<const Device*>;

bool is_disc_only(Codec codec) {
    return codec == Codec::truehd;  // its AC-3 core is what packets of discs hold
}

// The most that all devices of a group decode of one codec.
struct Common {
    Codec codec = Codec::unknown;
    std::string profile;  // as profiles of transcoding name it; empty: the usual one
    std::string level;
    base::Size largest{std::numeric_limits<int>::max(), std::numeric_limits<int>::max()};
    double max_fps = std::numeric_limits<double>::max();
    int bit_depth = 10;
    bool keeps_hdr = false;

    // What comes of a track: its size on the screen, within the limits.
    double shown_pixels(const Track& track) const {
        const double width = track.width * std::max(1.0, track.pixel_aspect.value());
        const double height = track.height * std::max(1.0, 1 / track.pixel_aspect.value());
        const double shrink = std::min({1.0, largest.width / width, largest.height / height});
        return width * height * shrink * shrink;
    }
};

// Profiles that are encoded to, the best first: as standards name them, and as profiles of transcoding do.
std::vector<std::pair<std::string, std::string>> encodable_profiles(Codec codec) {
    if (codec == Codec::h264)
        return {{"High", "high"}, {"Main", "main"}, {"Constrained Baseline", "baseline"}, {"Baseline", "baseline"}};
    if (codec == Codec::h265) return {{"Main 10", "main10"}, {"Main", "main"}};
    if (codec == Codec::vp9) return {{"2", ""}, {"0", ""}};
    return {{"Main", ""}};
}

// The size that an H.264 level leaves at this rate (A.3.1: macroblocks a second).
base::Size fit_level(base::Size size, const std::string& level, double fps) {
    const int idc = bitstream::h264::level_idc_from_name(level);
    for (const bitstream::h264::Level& one : bitstream::h264::levels()) {
        if (one.idc != idc) continue;
        const double most =
            std::min(static_cast<double>(one.frame), static_cast<double>(one.rate) / std::max(fps, 1.0));
        const double wanted = std::ceil(size.width / 16.0) * std::ceil(size.height / 16.0);
        if (wanted <= most) return size;
        const double shrink = std::sqrt(most / wanted);
        return {static_cast<int>(size.width * shrink) / 16 * 16, static_cast<int>(size.height * shrink) / 16 * 16};
    }
    return size;
}

// Of several abilities of one device with one codec, that which takes most of this track.
const device::VideoAbility* best_ability(const Device& device, Codec codec, const Track& track) {
    const device::VideoAbility* best = nullptr;
    double most = -1;
    for (const device::VideoAbility& ability : device.video) {
        if (ability.codec != codec) continue;
        Common alone;
        if (ability.largest.width > 0) alone.largest = ability.largest;
        const bool fast = ability.max_fps == 0 || track.frame_rate.value() <= ability.max_fps * 1.001;
        const double pixels = alone.shown_pixels(track) * (fast ? 1 : 0.5) + ability.bit_depth;
        if (pixels > most) most = pixels, best = &ability;
    }
    return best;
}

std::optional<Common> common_video(const Group& group, Codec codec, const Track& track) {
    if (!codec::can_encode_video(codec)) return std::nullopt;
    Common common;
    common.codec = codec;
    const std::string_view range = device::dynamic_range(track);
    bool hdr = !range.empty() && codec != Codec::h264;
    auto profiles = encodable_profiles(codec);
    int level = 0;
    for (const Device* device : group) {
        const device::VideoAbility* ability = best_ability(*device, codec, track);
        if (ability == nullptr) return std::nullopt;
        if (ability->largest.width > 0) {
            common.largest.width = std::min(common.largest.width, ability->largest.width);
            common.largest.height = std::min(common.largest.height, ability->largest.height);
        }
        if (ability->max_fps > 0) common.max_fps = std::min(common.max_fps, ability->max_fps);
        common.bit_depth = std::min(common.bit_depth, ability->bit_depth);
        hdr = hdr && std::find(ability->hdr.begin(), ability->hdr.end(), range) != ability->hdr.end();
        if (!ability->profiles.empty()) {
            std::erase_if(profiles, [&](const auto& one) {
                return std::find(ability->profiles.begin(), ability->profiles.end(), one.first) ==
                       ability->profiles.end();
            });
        }
        if (const int number = bitstream::level_number(codec, ability->level);
            number > 0 && (level == 0 || number < level)) {
            level = number;
            common.level = ability->level;
        }
    }
    if (profiles.empty()) return std::nullopt;
    if (codec == Codec::h264) common.bit_depth = 8;
    const bool ten = std::any_of(profiles.begin(), profiles.end(),
                                 [](const auto& one) { return one.first != "Main" && one.first != "0"; });
    if ((codec == Codec::h265 || codec == Codec::vp9) && !ten) common.bit_depth = 8;
    common.bit_depth = std::min(common.bit_depth, std::max(track.bit_depth, 8));
    common.keeps_hdr = hdr && common.bit_depth == 10;
    if (!range.empty() && !common.keeps_hdr) common.bit_depth = 8;
    common.profile = profiles.front().second;
    if (codec == Codec::h265) common.profile = common.bit_depth == 10 ? "main10" : "main";
    if (codec == Codec::h264)
        common.largest = fit_level(
            common.largest.width > track.width * 4 ? base::Size{track.width * 4, track.height * 4} : common.largest,
            common.level, std::min(common.max_fps, std::max(track.frame_rate.value(), 1.0)));
    // (Widths are coded in pairs.)
    return common;
}

// What is wanted of the source, looked at once.
struct Wanted {
    const Track* video = nullptr;
    std::vector<std::pair<const Track*, int>> audio;  // and their numbers
    bool burns = false;
    bool burns_bitmaps_alone = false;  // which needn't be for those who can switch them on
    std::string burn_reason;
    bool bitmap_subtitles = false;  // in the language of the audio: forced ones may be among them
};

// What a group of devices gets.
struct Shared {
    bool keeps_video = false;
    Common video;  // else
    std::string container;
    std::vector<profile::AudioSettings> audio;
    std::int64_t peak_bps = 0;  // of encoded video; 0: no limit
    double pixels = 0;          // on the screen
    bool hdr = false;
    int channels = 0;  // the most that any device of it hears
};

std::vector<Objection> objections_to(const Group& group, const Track& video) {
    std::vector<Objection> found;
    for (const Device* device : group) {
        for (device::Check& check : device::judge_video(*device, video)) {
            if (check.verdict == Verdict::fail) found.push_back({device->name, std::move(check)});
        }
    }
    return found;
}

std::vector<Objection> objections_to_rate(const Group& group, std::int64_t peak_bps) {
    std::vector<Objection> found;
    for (const Device* device : group) {
        if (device->highest_bps > 0 && peak_bps > device->highest_bps)
            found.push_back({device->name,
                             {"max bit rate", Verdict::fail, base::format_bitrate(peak_bps),
                              base::format_bitrate(device->highest_bps), ""}});
    }
    return found;
}

bool holds(std::string_view container, Codec codec) {
    Track track;
    track.kind = TrackKind::audio;
    track.codec = codec;
    return container::why_not_codec(container, track).empty();
}

bool decodes(const Device& device, Codec codec, int channels, std::string_view container) {
    return std::any_of(device.audio.begin(), device.audio.end(), [&](const device::AudioAbility& one) {
        return one.codec == codec && one.channels >= channels && one.is_in(container);
    });
}

// What all of a group take as it is, as far as the container holds it.
std::vector<profile::AudioSettings::Kept> kept_by(const Group& group, std::string_view container) {
    std::vector<profile::AudioSettings::Kept> kept;
    for (const device::AudioAbility& one : group.front()->audio) {
        if (is_disc_only(one.codec) || !holds(container, one.codec)) continue;
        int channels = one.channels;
        while (channels > 0 && !std::all_of(group.begin(), group.end(), [&](const Device* device) {
                   return decodes(*device, one.codec, channels, container);
               }))
            --channels;
        if (channels > 0) kept.push_back({one.codec, channels});
    }
    return kept;
}

// The first of some codecs that all of a group take with so many channels.
std::optional<Codec> encoded_for(const Group& group, std::span<const Codec> codecs, int channels,
                                 std::string_view container) {
    for (const Codec codec : codecs) {
        if (holds(container, codec) && std::all_of(group.begin(), group.end(), [&](const Device* device) {
                return decodes(*device, codec, channels, container);
            }))
            return codec;
    }
    return std::nullopt;
}

// Kinds of audio for all devices of a group, surround first: players begin with the first that they can play. Devices
// that hear as many channels share one where there is a codec that all of them take.
std::optional<std::vector<profile::AudioSettings>> audio_for(const Group& group, int most_channels,
                                                             std::string_view container) {
    Group surround, stereo;
    for (const Device* device : group) {
        const bool hears = most_channels > 2 && encoded_for({device}, kSurroundCodecs, 6, container).has_value();
        (hears ? surround : stereo).push_back(device);
    }
    std::vector<profile::AudioSettings> kinds;
    const auto add = [&](const Group& part, Codec codec, int channels) {
        profile::AudioSettings kind;
        kind.codec = codec;
        kind.channels = channels;
        kind.keeps = kept_by(part, container);
        kinds.push_back(std::move(kind));
    };
    for (const auto& [part, codecs, channels] : {std::tuple{surround, std::span<const Codec>(kSurroundCodecs), 6},
                                                 std::tuple{stereo, std::span<const Codec>(kStereoCodecs), 2}}) {
        if (part.empty()) continue;
        if (const auto codec = encoded_for(part, codecs, channels, container)) {
            add(part, *codec, channels);
            continue;
        }
        for (const Device* device : part) {
            const auto codec = encoded_for({device}, codecs, channels, container);
            if (!codec) return std::nullopt;
            const bool known = std::any_of(kinds.begin(), kinds.end(), [&, n = channels](const auto& one) {
                return one.codec == *codec && one.channels == n;
            });
            if (!known) add({device}, *codec, channels);
        }
    }
    return kinds;
}

// The peak of encoded video beside its audio, so that a second of all tracks stays below what each device takes, and
// H.264 within its level; 0: no limit.
std::int64_t peak_for(const Group& group, const std::vector<profile::AudioSettings>& audio, const Common& video) {
    constexpr std::int64_t kLeast = 200'000;
    std::int64_t highest = 0;
    for (const Device* device : group) {
        if (device->highest_bps > 0 && (highest == 0 || device->highest_bps < highest)) highest = device->highest_bps;
    }
    if (highest == 0) return 0;
    auto peak = static_cast<std::int64_t>(static_cast<double>(highest) * kPeakShare);
    for (const profile::AudioSettings& one : audio) peak -= one.bitrate_for(one.channels > 0 ? one.channels : 6);
    if (video.codec == Codec::h264) {
        const int idc = bitstream::h264::level_idc_from_name(video.level);
        for (const bitstream::h264::Level& one : bitstream::h264::levels()) {
            if (one.idc == idc) peak = std::min(peak, one.kbps * 1000);
        }
    }
    return std::max(peak, kLeast);
}

bool reads_all(const Group& group, std::string_view container) {
    return std::all_of(group.begin(), group.end(),
                       [&](const Device* device) { return device::reads(*device, container); });
}

// Whether all of them can switch on the subtitles of discs.
bool show_bitmaps(const Group& group) {
    return std::all_of(group.begin(), group.end(), [](const Device* device) {
        const auto shows = [&](Codec codec) {
            return std::find(device->subtitles.begin(), device->subtitles.end(), codec) != device->subtitles.end();
        };
        return shows(Codec::dvd_subpicture) && shows(Codec::pgs);
    });
}

class Decider {
  public:
    Decider(const DecideSource& source, const DecideRequest& request, Wanted wanted)
        : source_(source), request_(request), wanted_(std::move(wanted)) {}

    std::optional<Shared> share(const Group& group) const {
        const Track& video = *wanted_.video;
        int most_channels = 0;
        for (const auto& [track, number] : wanted_.audio) most_channels = std::max(most_channels, track->channels);
        const bool images = wanted_.bitmap_subtitles && show_bitmaps(group) && reads_all(group, "matroska");
        const bool burns = wanted_.burns && !(images && wanted_.burns_bitmaps_alone);
        const bool plays =
            !burns && objections_to(group, video).empty() && objections_to_rate(group, source_.peak_bps).empty();
        std::optional<Shared> best;
        const auto consider = [&](Shared shared, Codec codec) {
            for (const std::string_view container : kContainers) {
                Track coded = video;
                coded.codec = codec;
                if (!reads_all(group, container) || !container::why_not_codec(container, coded).empty()) continue;
                if (images && container != "matroska") continue;
                auto audio = audio_for(group, most_channels, container);
                if (!audio) continue;
                shared.container = container;
                shared.audio = std::move(*audio);
                if (!shared.keeps_video) shared.peak_bps = peak_for(group, shared.audio, shared.video);
                shared.channels = 0;
                for (const profile::AudioSettings& one : shared.audio)
                    shared.channels = std::max(shared.channels, std::min(one.channels, most_channels));
                if (!best || better(shared, *best)) best = shared;
                return;
            }
        };
        if (plays) {
            Shared kept;
            kept.keeps_video = true;
            Common own;
            kept.pixels = own.shown_pixels(video);
            kept.hdr = !device::dynamic_range(video).empty();
            consider(std::move(kept), video.codec);
            if (best) return best;
        }
        if (!codec::why_no_pictures(video).empty()) return std::nullopt;
        for (const Codec codec : kVideoCodecs) {
            const auto common = common_video(group, codec, video);
            if (!common) continue;
            Shared made;
            made.video = *common;
            made.pixels = common->shown_pixels(video);
            made.hdr = common->keeps_hdr;
            consider(std::move(made), codec);
        }
        return best;
    }

    // Whether each device of a group gets from `shared` what it would get alone.
    bool serves(const Shared& shared, const std::vector<const Shared*>& alone) const {
        // Rates that leave no visible loss at the usual quality; more would not be used.
        const double pixels_a_second = shared.pixels * wanted_.video->frame_rate.value();
        const double enough = pixels_a_second * (shared.video.codec == Codec::h264 ? 0.12 : 0.07);
        const bool pinched =
            !shared.keeps_video && shared.peak_bps > 0 && static_cast<double>(shared.peak_bps) < enough;
        return std::all_of(alone.begin(), alone.end(), [&](const Shared* one) {
            const bool slower = pinched && (one->peak_bps == 0 || static_cast<double>(one->peak_bps) >
                                                                      static_cast<double>(shared.peak_bps) * 1.2);
            // (A few pixels by rounding are no difference.)
            return !slower && shared.pixels > one->pixels * 0.98 && shared.hdr == one->hdr &&
                   shared.channels >= one->channels &&
                   shared.video.max_fps >= std::min(one->video.max_fps, wanted_.video->frame_rate.value());
        });
    }

    FileDecision file_for(const Group& group, const Shared& shared) const {
        FileDecision file;
        for (const Device* device : group) file.devices.push_back(device->name);
        decide_video(group, shared, file);
        bool all_kept = shared.keeps_video;
        for (const auto& [track, number] : wanted_.audio) {
            TrackDecision decision{*track, number, TrackPlan::Action::keep, {}, ""};
            for (const profile::AudioSettings& kind : shared.audio) {
                if (!kind.keeps_track(*track)) decision.action = TrackPlan::Action::transcode;
            }
            for (const Device* device : group) {
                if (!device::plays_audio(*device, *track))
                    decision.objections.push_back({device->name, audio_check(*device, *track)});
            }
            if (decision.action == TrackPlan::Action::transcode && decision.objections.empty())
                decision.other_reason = fmt::format("{} files can't hold it", shared.container);
            all_kept = all_kept && decision.action == TrackPlan::Action::keep;
            file.tracks.push_back(std::move(decision));
        }
        if (source_.is_file) {
            for (const Device* device : group) {
                // Some audio is played in other containers only.
                const auto silent = std::find_if(wanted_.audio.begin(), wanted_.audio.end(), [&](const auto& one) {
                    return device::plays_audio(*device, *one.first) &&
                           !device::plays_audio(*device, *one.first, source_.container);
                });
                std::string what = source_.container;
                if (silent != wanted_.audio.end())
                    what = fmt::format("{} in {}", media::display_name(silent->first->codec), what);
                else if (device::reads(*device, source_.container))
                    continue;
                file.container.push_back(
                    {device->name,
                     {"container", Verdict::fail, what, fmt::format("{}", fmt::join(device->containers, ", ")), ""}});
            }
        }
        file.kind = !all_kept                                   ? FileDecision::Kind::transcode
                    : source_.is_file && file.container.empty() ? FileDecision::Kind::as_it_is
                                                                : FileDecision::Kind::remux;
        file.profile = profile_for(group, shared);
        if (shared.keeps_video && file.kind != FileDecision::Kind::as_it_is && wanted_.bitmap_subtitles &&
            !file.profile.subtitles.keep_images)
            file.warnings.emplace_back(
                "forced subtitles among the bitmap ones, if there are any, don't go along: to burn them in, give "
                "--subtitles with their language");
        return file;
    }

  private:
    // Of two ways for the same devices: the larger picture, HDR, the surround; then the codec that comes first.
    static bool better(const Shared& a, const Shared& b) {
        if (a.pixels > b.pixels * 1.02 || b.pixels > a.pixels * 1.02) return a.pixels > b.pixels;
        if (a.hdr != b.hdr) return a.hdr;
        return a.channels > b.channels;
    }

    static device::Check audio_check(const Device& device, const Track& track) {
        std::vector<std::string> names;
        bool codec = false;
        for (const device::AudioAbility& one : device.audio) {
            codec = codec || one.codec == track.codec;
            names.push_back(fmt::format("{} {}", media::display_name(one.codec), media::channel_layout(one.channels)));
        }
        const std::string measured =
            codec ? fmt::format("{} {}", media::display_name(track.codec), media::channel_layout(track.channels))
                  : std::string(media::display_name(track.codec));
        return {"audio", Verdict::fail, measured, fmt::format("{}", fmt::join(names, ", ")), ""};
    }

    void decide_video(const Group& group, const Shared& shared, FileDecision& file) const {
        TrackDecision video{*wanted_.video, std::max(request_.video, 1), TrackPlan::Action::keep, {}, ""};
        if (!shared.keeps_video) {
            video.action = TrackPlan::Action::transcode;
            video.objections = objections_to(group, *wanted_.video);
            for (Objection& one : objections_to_rate(group, source_.peak_bps))
                video.objections.push_back(std::move(one));
            if (wanted_.burns && !(wanted_.burns_bitmaps_alone && show_bitmaps(group)))
                video.other_reason = wanted_.burn_reason;
            if (video.objections.empty() && video.other_reason.empty())
                video.other_reason = "no container that all of them read can hold it";
        }
        file.tracks.push_back(std::move(video));
    }

    profile::Profile profile_for(const Group& group, const Shared& shared) const {
        profile::Profile made = request_.profile;
        std::vector<std::string> names;
        for (const Device* device : group) names.push_back(device->name);
        made.name = fmt::format("{}", fmt::join(names, ", "));
        made.container = shared.container;
        made.audio = shared.audio;
        for (profile::AudioSettings& kind : made.audio) {
            kind.loudness = request_.profile.audio.empty() ? std::nullopt : request_.profile.audio.front().loudness;
            kind.night = !request_.profile.audio.empty() && request_.profile.audio.front().night;
        }
        made.subtitles.keep_text = true;
        made.subtitles.keep_images = shared.container == "matroska" && show_bitmaps(group);
        profile::VideoSettings& video = made.video;
        if (shared.keeps_video) {
            video = {};
            video.what = profile::VideoSettings::What::keep;
            return made;
        }
        const Common& common = shared.video;
        video.what = profile::VideoSettings::What::encode;
        video.codec = common.codec;
        video.profile = common.profile;
        // (Others need what they need: their levels are tiers of size and rate.)
        video.level = common.codec == Codec::h264 ? common.level : "";
        video.bit_depth = common.bit_depth;
        video.keeps_hdr = common.keeps_hdr;
        video.mean_bps = 0;
        video.target_bytes = 0;
        // (No picture is enlarged, so any larger limit is none.)
        constexpr int kLargest = 8192;
        video.largest = {std::min(common.largest.width, kLargest), std::min(common.largest.height, kLargest)};
        const double fps = wanted_.video->frame_rate.value();
        video.every_field = video.every_field && common.max_fps >= 2 * std::min(fps, 25.0) * 0.99;
        video.half_rate = fps > common.max_fps * 1.001 && fps / 2 <= common.max_fps * 1.001;
        if (fps > common.max_fps * 1.001 && !video.half_rate) {
            video.constant_rate = true;
            video.frame_rate = {static_cast<std::int64_t>(common.max_fps), 1};
        }
        // A profile that asks for less gets less.
        if (shared.peak_bps > 0) {
            video.peak_bps = video.peak_bps > 0 ? std::min(video.peak_bps, shared.peak_bps) : shared.peak_bps;
            video.buffer = std::min(video.buffer, base::from_seconds(1));
        }
        return made;
    }

    const DecideSource& source_;
    const DecideRequest& request_;
    const Wanted wanted_;
};

Result<Wanted> look(const DecideSource& source, const DecideRequest& request) {
    Wanted wanted;
    int videos = 0;
    for (const Track& track : *source.tracks) {
        if (track.kind == TrackKind::video && ++videos == std::max(request.video, 1)) wanted.video = &track;
    }
    if (wanted.video == nullptr)
        return fail(ErrorKind::input,
                    videos == 0 ? "no video" : fmt::format("there is no video track {}", request.video), source.name,
                    "wavecrest inspect lists the tracks");
    transcode::PlanSource from;
    from.name = source.name;
    from.tracks = *source.tracks;
    WAVECREST_TRY_ASSIGN(chosen, transcode::choose_audio(from, request.audio));
    int number = 0;
    std::string language;
    for (const Track& track : *source.tracks) {
        if (track.kind != TrackKind::audio) continue;
        ++number;
        if (std::find(chosen.begin(), chosen.end(), track.id) == chosen.end()) continue;
        wanted.audio.emplace_back(&track, number);
        if (track.id == chosen.front()) language = track.language;
    }
    if (request.subtitles == "none") return wanted;
    if (request.subtitles != "forced") {
        wanted.burns = true;
        wanted.burn_reason = fmt::format("subtitles in {} are burned in", media::language_name(request.subtitles));
        return wanted;
    }
    for (const Track& track : *source.tracks) {
        if (track.kind != TrackKind::subtitle || (!language.empty() && !media::same_language(track.language, language)))
            continue;
        if (track.forced) {
            wanted.burns_bitmaps_alone = (wanted.burns_bitmaps_alone || !wanted.burns) && track.codec != Codec::text;
            wanted.burns = true;
            wanted.burn_reason = "forced subtitles are burned in";
        }
        if (track.codec != Codec::text && track.purpose == Purpose::main) wanted.bitmap_subtitles = true;
    }
    return wanted;
}

// Groups of the fewest: exactly for up to twelve kinds of devices, else one after the other into the first that fits.
class Partition {
  public:
    Partition(const Decider& decider, const std::vector<const Device*>& devices, std::vector<Shared> alone)
        : decider_(decider), devices_(devices), alone_(std::move(alone)) {}

    std::vector<std::pair<Group, Shared>> best() {
        if (devices_.size() > kExact) return greedy();
        const std::size_t all = (std::size_t{1} << devices_.size()) - 1;
        std::vector<int> fewest(all + 1, std::numeric_limits<int>::max());
        std::vector<std::size_t> last(all + 1, 0);
        std::vector<std::optional<Shared>> shares(all + 1);
        fewest[0] = 0;
        for (std::size_t set = 1; set <= all; ++set) {
            shares[set] = shared_by(members(set));
            // The group with the lowest device in it; the rest is known.
            const std::size_t lowest = std::size_t{1} << std::countr_zero(set);
            for (std::size_t part = set; part > 0; part = (part - 1) & set) {
                if ((part & lowest) == 0 || !shares[part]) continue;
                const int rest = fewest[set ^ part];
                if (rest == std::numeric_limits<int>::max() || rest + 1 >= fewest[set]) continue;
                fewest[set] = rest + 1;
                last[set] = part;
            }
        }
        std::vector<std::pair<Group, Shared>> groups;
        for (std::size_t set = all; set != 0; set ^= last[set])
            groups.emplace_back(members(last[set]), *shares[last[set]]);
        return groups;
    }

  private:
    static constexpr std::size_t kExact = 10;

    Group members(std::size_t set) const {
        Group group;
        for (std::size_t i = 0; i < devices_.size(); ++i) {
            if ((set >> i & 1) != 0) group.push_back(devices_[i]);
        }
        return group;
    }
    std::optional<Shared> shared_by(const Group& group) const {
        auto shared = decider_.share(group);
        if (!shared) return std::nullopt;
        std::vector<const Shared*> alone;
        for (const Device* device : group)
            alone.push_back(&alone_[static_cast<std::size_t>(std::find(devices_.begin(), devices_.end(), device) -
                                                             devices_.begin())]);
        if (!decider_.serves(*shared, alone)) return std::nullopt;
        return shared;
    }
    std::vector<std::pair<Group, Shared>> greedy() const {
        std::vector<std::pair<Group, Shared>> groups;
        for (std::size_t i = 0; i < devices_.size(); ++i) {
            bool placed = false;
            for (auto& [group, shared] : groups) {
                Group larger = group;
                larger.push_back(devices_[i]);
                auto together = shared_by(larger);
                if (!together) continue;
                group = std::move(larger);
                shared = std::move(*together);
                placed = true;
                break;
            }
            if (!placed) groups.emplace_back(Group{devices_[i]}, alone_[i]);
        }
        return groups;
    }

    const Decider& decider_;
    const std::vector<const Device*>& devices_;
    const std::vector<Shared> alone_;
};

auto nothing_plays(const std::string& who, const std::string& source) {
    return fail(ErrorKind::usage, fmt::format("nothing that can be made of this plays on {}", who), source,
                "see what it takes with wavecrest device show; inspect shows what this is");
}

}  // namespace

std::string_view short_name(FileDecision::Kind kind) {
    return kind == FileDecision::Kind::as_it_is ? "as-it-is"
           : kind == FileDecision::Kind::remux  ? "remux"
                                                : "transcode";
}

std::string reason_of(const TrackDecision& decision) {
    // What several devices have against it is said once; what can't be decoded at all needs no other reason.
    std::vector<std::pair<std::string, std::vector<std::string>>> said;
    std::vector<std::string> at_all;
    for (const Objection& one : decision.objections) {
        const device::Check& check = one.check;
        if (std::find(at_all.begin(), at_all.end(), one.device) != at_all.end()) continue;
        std::string what = fmt::format("{} {} (supported: {})", check.name, check.measured, check.limit);
        if (check.name == "video codec" || check.name == "audio") {
            what = check.measured;
            at_all.push_back(one.device);
        } else if (check.name == "dynamic range") {
            what = check.measured == "hlg" ? "HLG" : "HDR10";
        } else if (check.name == "max bit rate") {
            what = fmt::format("a peak of {} (supported: {})", check.measured, check.limit);
        }
        const auto known =
            std::find_if(said.begin(), said.end(), [&](const auto& other) { return other.first == what; });
        auto& names = known == said.end() ? said.emplace_back(what, std::vector<std::string>{}).second : known->second;
        if (std::find(names.begin(), names.end(), one.device) == names.end()) names.push_back(one.device);
    }
    std::vector<std::string> parts;
    for (const auto& [what, names] : said)
        parts.push_back(
            fmt::format("{} {} play {}", fmt::join(names, ", "), names.size() == 1 ? "does not" : "do not", what));
    if (!decision.other_reason.empty()) parts.push_back(decision.other_reason);
    return fmt::format("{}", fmt::join(parts, "; "));
}

profile::Profile usual_for_devices() {
    profile::Profile usual;
    if (auto found = profile::find("full-picture")) usual = std::move(*found);
    usual.video.peak_bps = 0;
    return usual;
}

Result<std::vector<FileDecision>> decide(const DecideSource& source, const DecideRequest& request) {
    WAVECREST_TRY_ASSIGN(wanted, look(source, request));
    const Decider decider(source, request, std::move(wanted));
    std::vector<const Device*> devices;
    std::vector<Shared> alone;
    for (const Device& device : request.devices) {
        auto shared = decider.share({&device});
        if (!shared) return nothing_plays(device.name, source.name);
        devices.push_back(&device);
        alone.push_back(std::move(*shared));
    }
    std::vector<std::pair<Group, Shared>> groups;
    if (request.one_file) {
        auto shared = decider.share(devices);
        if (!shared) return nothing_plays("all of these devices alike", source.name);
        groups.emplace_back(devices, std::move(*shared));
    } else {
        groups = Partition(decider, devices, std::move(alone)).best();
    }
    std::stable_sort(groups.begin(), groups.end(),
                     [](const auto& a, const auto& b) { return a.second.pixels > b.second.pixels; });
    std::vector<FileDecision> files;
    for (const auto& [group, shared] : groups) files.push_back(decider.file_for(group, shared));
    return files;
}

namespace {

// Tracks with the levels that their bits need where the headers say less: a decoder of the level that is declared could
// not keep up. What is known of the title's rate is all tracks together; the others are taken off by their means.
std::vector<Track> with_needed_levels(std::vector<Track> tracks, const std::optional<measure::RateCurve>& curve) {
    double others = 0;
    for (const Track& track : tracks) {
        if (track.kind != TrackKind::video) others += static_cast<double>(std::max<std::int64_t>(track.bitrate_bps, 0));
    }
    for (Track& track : tracks) {
        if (track.kind != TrackKind::video || track.level.empty() || !curve) continue;
        const std::string needed =
            bitstream::needed_level(track, [&](double rate_bps) { return curve->buffer_bits(rate_bps + others); });
        if (bitstream::level_number(track.codec, needed) > bitstream::level_number(track.codec, track.level))
            track.level = needed;
    }
    return tracks;
}

}  // namespace

Result<std::vector<DevicePlan>> plan_for_devices(const source::Input& input, const Request& request,
                                                 const std::vector<Device>& devices, bool one_file) {
    WAVECREST_TRY_ASSIGN(picks, picks_of(input, request));
    std::vector<DevicePlan> plans;
    for (const source::Pick& pick : picks) {
        WAVECREST_TRY(input.check_protection(pick.title->number));
        DecideSource source;
        source.name = fmt::format("{}, title {}", input.path(), pick.title->number);
        source.container = input.container();
        source.is_file = !input.is_disc() && pick.whole();
        std::optional<measure::RateCurve> curve;
        if (const auto rate = input.rate(pick.title->number)) curve.emplace(*rate);
        if (curve) source.peak_bps = curve->peak_bps();
        const std::vector<Track> tracks = with_needed_levels(pick.title->tracks, curve);
        source.tracks = &tracks;
        DecideRequest asked;
        asked.devices = devices;
        asked.profile = request.profiles.front();
        asked.video = request.video;
        asked.audio = request.audio;
        asked.subtitles = request.subtitles;
        asked.one_file = one_file;
        WAVECREST_TRY_ASSIGN(files, decide(source, asked));
        for (std::size_t i = 0; i < tracks.size(); ++i) {
            const std::string& declared = pick.title->tracks[i].level;
            if (tracks[i].level == declared) continue;
            for (FileDecision& file : files)
                file.warnings.push_back(fmt::format("video: level {} declared, {} required by its size and bit rate",
                                                    declared, tracks[i].level));
        }
        DevicePlan made{pick, std::move(files), std::nullopt};
        Request wanted = request;
        wanted.profiles.clear();
        for (const FileDecision& file : made.files) {
            if (file.kind != FileDecision::Kind::as_it_is) wanted.profiles.push_back(file.profile);
        }
        if (!wanted.profiles.empty()) {
            WAVECREST_TRY_ASSIGN(plan, make_plan(input, wanted, pick, picks.size() > 1));
            made.plan = std::move(plan);
        }
        plans.push_back(std::move(made));
    }
    // Of several titles those that were made before are left out.
    const auto done = [](const DevicePlan& title) { return title.plan && title.plan->done(); };
    const auto finished = std::find_if(plans.begin(), plans.end(), done);
    if (std::all_of(plans.begin(), plans.end(), [&](const DevicePlan& title) { return !title.plan || done(title); }) &&
        finished != plans.end())
        return exists_already(finished->plan->target());
    std::erase_if(plans, done);
    return plans;
}

}  // namespace wavecrest::convert
