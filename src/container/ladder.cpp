#include "container/ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "bitstream/headers.hpp"
#include "media/language.hpp"

namespace wavecrest::container {
namespace {

using namespace std::chrono_literals;
using Rendition = Ladder::Rendition;

constexpr std::string_view kAudioGroup = "audio";

// For people, where the file doesn't name the track.
std::string label_of(const Track& track) {
    if (!track.name.empty()) return track.name;
    return media::language_name(track.language);
}

std::int64_t target_s(const std::vector<CmafFile::Segment>& segments) {
    Time longest{};
    for (const CmafFile::Segment& one : segments) longest = std::max(longest, one.duration);
    return std::max<std::int64_t>(std::llround(base::to_seconds(longest)), 1);  // RFC 8216, 4.3.3.1
}

MediaPlaylist segments_of(const Rendition& one, const std::string& query) {
    MediaPlaylist list;
    list.version = 7;  // EXT-X-MAP of other than keyframe playlists needs 6, CMAF 7 (clause 7)
    list.target_s = target_s(one.file.segments);
    list.on_demand = list.ended = list.independent = true;
    list.map_uri = one.head_name() + query;
    for (const CmafFile::Segment& segment : one.file.segments)
        list.segments.push_back({one.file_name() + query, segment.duration, false, segment.range});
    return list;
}

// Keyframes alone, for moving through a title in steps (4.3.3.6). Each is shown until the next.
MediaPlaylist keyframes_of(const Rendition& one, const std::string& query) {
    MediaPlaylist list = segments_of(one, query);
    list.keyframes_only = true;
    list.independent = false;
    for (std::size_t i = 0; i < list.segments.size(); ++i) list.segments[i].range = one.file.segments[i].keyframe;
    return list;
}

MediaPlaylist whole_text(const Ladder::Text& one, Time duration, const std::string& query) {
    MediaPlaylist list;
    list.version = 7;
    list.target_s = std::max<std::int64_t>(std::llround(base::to_seconds(duration)), 1);
    list.on_demand = list.ended = true;
    list.segments.push_back({one.file_name() + query, duration, false, {}});
    return list;
}

std::int64_t keyframe_peak_bps(const Rendition& one) {
    double most = 0;
    for (const CmafFile::Segment& segment : one.file.segments) {
        if (segment.duration.count() > 0)
            most =
                std::max(most, static_cast<double>(segment.keyframe.length) * 8 / base::to_seconds(segment.duration));
    }
    return static_cast<std::int64_t>(most);
}

double fps_of(const Track& track) {
    return track.frame_rate.num > 0 && track.frame_rate.den > 0
               ? static_cast<double>(track.frame_rate.num) / static_cast<double>(track.frame_rate.den)
               : 0;
}

std::int64_t most_of(const std::vector<Rendition>& renditions, std::int64_t (CmafFile::*rate)() const) {
    std::int64_t most = 0;
    for (const Rendition& one : renditions) most = std::max(most, (one.file.*rate)());
    return most;
}

}  // namespace

Time Ladder::duration() const {
    Time longest{};
    for (const auto* renditions : {&video, &audio}) {
        for (const Rendition& one : *renditions) longest = std::max(longest, one.file.duration());
    }
    return longest;
}

std::int64_t Ladder::peak_bps(const Rendition& rung) const {
    return rung.file.peak_bps() + most_of(audio, &CmafFile::peak_bps);
}

std::int64_t Ladder::average_bps(const Rendition& rung) const {
    return rung.file.average_bps() + most_of(audio, &CmafFile::average_bps);
}

Status check_aligned(const Ladder& ladder) {
    if (ladder.video.empty()) return fail(ErrorKind::input, "the ladder has no video", "", "convert the title anew");
    const Rendition& first = ladder.video.front();
    for (const Rendition& one : ladder.video) {
        bool same = one.file.segments.size() == first.file.segments.size();
        for (std::size_t i = 0; same && i < one.file.segments.size(); ++i)
            same = std::chrono::abs(one.file.segments[i].from - first.file.segments[i].from) <= 1ms;
        if (!same)
            return fail(ErrorKind::input,
                        "the keyframes of two rungs aren't aligned: players can't go from one to the other",
                        fmt::format("{} and {}", first.file_name(), one.file_name()),
                        "convert the title anew with all rungs at once");
    }
    return {};
}

namespace {

MediaPlaylist multivariant_of(const Ladder& ladder, const std::string& query) {
    MediaPlaylist list;
    list.version = 7;
    list.independent = true;
    for (const Rendition& one : ladder.audio) {
        MediaPlaylist::Audio audio;
        audio.group = kAudioGroup;
        audio.uri = one.playlist_name() + query;
        audio.name = label_of(one.file.track);
        // Names within a group differ (4.3.4.1.1).
        const auto same = std::count_if(list.audio.begin(), list.audio.end(), [&](const MediaPlaylist::Audio& other) {
            return other.name == audio.name || other.name.starts_with(audio.name + " ");
        });
        if (same > 0) audio.name += fmt::format(" {}", same + 1);
        audio.language = media::language_tag(one.file.track.language);
        audio.preferred = list.audio.empty();
        audio.channels = one.file.track.channels;
        list.audio.push_back(std::move(audio));
    }
    for (const Ladder::Text& one : ladder.subtitles)
        list.subtitles.push_back({one.playlist_name() + query, label_of(one.track),
                                  media::language_tag(one.track.language), one.track.forced,
                                  one.track.purpose == Purpose::captions});
    std::string audio_codecs;
    for (const Rendition& one : ladder.audio) {
        const std::string codec = bitstream::codec_string(one.file.track);
        if (!codec.empty() && audio_codecs.find(codec) == std::string::npos)
            audio_codecs += (audio_codecs.empty() ? "" : ",") + codec;
    }
    for (const Rendition& one : ladder.video) {
        const Track& track = one.file.track;
        MediaPlaylist::Variant variant;
        variant.uri = one.playlist_name() + query;
        variant.bandwidth_bps = ladder.peak_bps(one);
        variant.average_bps = ladder.average_bps(one);
        variant.codecs = bitstream::codec_string(track);
        if (!audio_codecs.empty()) variant.codecs += "," + audio_codecs;
        variant.size = base::Size{track.width, track.height};
        variant.fps = fps_of(track);
        if (!ladder.audio.empty()) variant.audio = kAudioGroup;
        variant.subtitles = !ladder.subtitles.empty();
        list.variants.push_back(std::move(variant));
        MediaPlaylist::Variant keyframes;
        keyframes.uri = one.keyframes_name() + query;
        keyframes.bandwidth_bps = std::max<std::int64_t>(keyframe_peak_bps(one), 1);
        keyframes.codecs = bitstream::codec_string(track);
        keyframes.size = base::Size{track.width, track.height};
        list.keyframe_variants.push_back(std::move(keyframes));
    }
    list_moderate_first(list);
    return list;
}

DashManifest manifest_of(const Ladder& ladder, const std::string& query) {
    using Set = DashManifest::AdaptationSet;
    DashManifest manifest;
    manifest.duration = ladder.duration();
    for (const Rendition& one : ladder.video) {
        for (const CmafFile::Segment& segment : one.file.segments)
            manifest.longest_segment = std::max(manifest.longest_segment, segment.duration);
    }
    // With a segment in the buffer each plays on at its bandwidth, which is its peak.
    manifest.target_buffer = manifest.longest_segment;
    const auto representation = [&](const Rendition& one) {
        const Track& track = one.file.track;
        DashManifest::Representation made;
        made.id = one.name;
        made.bandwidth_bps = std::max<std::int64_t>(one.file.peak_bps(), 1);
        made.codecs = bitstream::codec_string(track);
        if (track.kind == TrackKind::video) {
            made.size = {track.width, track.height};
            made.fps = fps_of(track);
        } else {
            made.sample_rate = track.sample_rate;
            made.channels = track.channels;
        }
        made.indexed = DashManifest::Resource{one.file_name() + query, {}};
        made.header = DashManifest::Resource{one.file_name() + query, one.file.header};
        made.index = DashManifest::Resource{one.file_name() + query, one.file.index};
        return made;
    };
    // Players switch within a set: one codec each.
    for (const Rendition& one : ladder.video) {
        DashManifest::Representation made = representation(one);
        const std::string kind = made.codecs.substr(0, made.codecs.find('.'));
        const auto same = std::find_if(manifest.sets.begin(), manifest.sets.end(), [&](const Set& set) {
            return set.representations.front().codecs.starts_with(kind + ".");
        });
        if (same != manifest.sets.end()) {
            same->representations.push_back(std::move(made));
            continue;
        }
        Set set;
        set.kind = Set::Kind::video;
        set.media_type = "video/mp4";
        set.representations.push_back(std::move(made));
        manifest.sets.push_back(std::move(set));
    }
    for (const Rendition& one : ladder.audio) {
        Set set;
        set.kind = Set::Kind::audio;
        set.media_type = "audio/mp4";
        set.language = media::language_tag(one.file.track.language);
        set.label = label_of(one.file.track);
        set.representations.push_back(representation(one));
        manifest.sets.push_back(std::move(set));
    }
    for (const Ladder::Text& one : ladder.subtitles) {
        Set set;
        set.kind = Set::Kind::text;
        set.media_type = "text/vtt";
        set.language = media::language_tag(one.track.language);
        set.label = label_of(one.track);
        set.forced = one.track.forced;
        DashManifest::Representation made;
        made.id = one.name;
        made.bandwidth_bps = 1000;
        made.indexed = DashManifest::Resource{one.file_name() + query, {}};
        set.representations.push_back(std::move(made));
        manifest.sets.push_back(std::move(set));
    }
    return manifest;
}

}  // namespace

std::vector<std::string> text_names(const Ladder& ladder) {
    std::vector<std::string> names;
    for (const auto* renditions : {&ladder.video, &ladder.audio}) {
        for (const Rendition& one : *renditions) names.push_back(one.playlist_name());
    }
    for (const Rendition& one : ladder.video) names.push_back(one.keyframes_name());
    for (const Ladder::Text& one : ladder.subtitles) names.push_back(one.playlist_name());
    names.emplace_back(kLadderManifest);
    names.emplace_back(kLadderPlaylist);
    return names;
}

std::optional<std::string> text_of(const Ladder& ladder, std::string_view name, const std::string& query) {
    if (name == kLadderPlaylist) return write_playlist(multivariant_of(ladder, query));
    if (name == kLadderManifest) return write_dash_manifest(manifest_of(ladder, query));
    for (const auto* renditions : {&ladder.video, &ladder.audio}) {
        for (const Rendition& one : *renditions) {
            if (name == one.playlist_name()) return write_playlist(segments_of(one, query));
        }
    }
    for (const Rendition& one : ladder.video) {
        if (name == one.keyframes_name()) return write_playlist(keyframes_of(one, query));
    }
    for (const Ladder::Text& one : ladder.subtitles) {
        if (name == one.playlist_name()) return write_playlist(whole_text(one, ladder.duration(), query));
    }
    return std::nullopt;
}

namespace {

// Playlists have the names of their files, which lie beside them; nothing for other addresses.
std::string file_stem(const std::string& uri) {
    const bool plain = uri.ends_with(".m3u8") && uri.find_first_of("/?#%\\") == std::string::npos && uri.front() != '.';
    return plain ? uri.substr(0, uri.size() - 5) : "";
}

tl::unexpected<Error> not_ours(const std::string& where, const std::string& uri) {
    return fail(ErrorKind::input, "this ladder was made by another program",
                fmt::format("{}/{}: {}", where, kLadderPlaylist, uri), "make one with wavecrest convert --ladder");
}

Result<Rendition> read_rendition(const OpenBeside& open, const std::string& where, const std::string& uri) {
    const std::string name = file_stem(uri);
    if (name.empty()) return not_ours(where, uri);
    WAVECREST_TRY_ASSIGN(source, open(name + ".mp4"));
    WAVECREST_TRY_ASSIGN(file, read_cmaf_file(*source, where + "/" + name + ".mp4"));
    return Rendition{name, std::move(file)};
}

}  // namespace

OpenBeside open_in(const base::Path& folder) {
    return [folder](const std::string& name) -> Result<std::unique_ptr<base::ByteSource>> {
        WAVECREST_TRY_ASSIGN(file, base::FileSource::open(folder / name));
        return std::unique_ptr<base::ByteSource>(std::make_unique<base::FileSource>(std::move(file)));
    };
}

Result<Ladder> read_ladder(const base::Path& folder) {
    return read_ladder(open_in(folder), folder.string());
}

Result<Ladder> read_ladder(const OpenBeside& open, const std::string& where) {
    constexpr std::uint64_t kMostText = 8 << 20;
    WAVECREST_TRY_ASSIGN(playlist, open(std::string(kLadderPlaylist)));
    if (playlist->size() > kMostText) return not_ours(where, "larger than 8 MB");
    WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(*playlist, 0, static_cast<std::size_t>(playlist->size())));
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    WAVECREST_TRY_ASSIGN(list, parse_playlist(text, fmt::format("{}/{}", where, kLadderPlaylist)));
    Ladder ladder;
    // (A moderate one may be listed first.)
    std::stable_sort(list.variants.begin(), list.variants.end(),
                     [](const auto& a, const auto& b) { return a.bandwidth_bps > b.bandwidth_bps; });
    for (const MediaPlaylist::Variant& one : list.variants) {
        WAVECREST_TRY_ASSIGN(read, read_rendition(open, where, one.uri));
        // (Times in the file may be rounded.)
        if (const auto rate = base::parse_frame_rate(fmt::format("{:.3f}", one.fps)); rate && one.fps > 0)
            read.file.track.frame_rate = *rate;
        ladder.video.push_back(std::move(read));
    }
    for (const MediaPlaylist::Audio& one : list.audio) {
        WAVECREST_TRY_ASSIGN(read, read_rendition(open, where, one.uri));
        read.file.track.language = media::language_639_2(one.language);
        ladder.audio.push_back(std::move(read));
    }
    for (const MediaPlaylist::Subtitles& one : list.subtitles) {
        const std::string name = file_stem(one.uri);
        if (name.empty()) return not_ours(where, one.uri);
        Track track;
        track.kind = TrackKind::subtitle;
        track.codec = Codec::text;
        track.language = one.language;
        track.name = one.name;
        track.forced = one.forced;
        track.purpose = one.captions ? Purpose::captions : Purpose::main;
        ladder.subtitles.push_back({name, std::move(track)});
    }
    WAVECREST_TRY(check_aligned(ladder));
    return ladder;
}

}  // namespace wavecrest::container
