#include "stream/live_ladder.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>

#include "bitstream/headers.hpp"
#include "container/ladder.hpp"
#include "container/media_playlist.hpp"
#include "media/language.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {
namespace {

constexpr std::string_view kHead = "-head.mp4", kPlaylist = ".m3u8", kSegment = ".m4s";
constexpr std::string_view kSubtitles = "subtitles-", kSubtitlesSegment = ".vtt";
constexpr const char* kPlaylistType = "application/vnd.apple.mpegurl";
constexpr const char* kTextMp4Type = "application/mp4";
constexpr const char* kAudioGroup = "audio";
constexpr int kSegmentsBehind = 3;  // RFC 8216, 6.3.3
// What a manifest says that text needs: some hundred bytes a segment, most of them boxes.
constexpr std::int64_t kTextBps = 4000;

std::string subtitles_name(std::size_t index) {
    return fmt::format("{}{}", kSubtitles, index + 1);
}

Bytes bytes_of(const std::string& text) {
    const ByteSpan bytes = base::as_bytes(text);
    return Bytes(ByteVector(bytes.begin(), bytes.end()));
}

tl::unexpected<Error> early() {
    return fail(ErrorKind::wanting, "the stream has just begun", "the playlist", "ask again in a few seconds");
}

// "NAME-NUMBER" with an extension.
std::optional<std::pair<std::string_view, std::uint64_t>> numbered(std::string_view name, std::string_view extension) {
    if (!name.ends_with(extension)) return std::nullopt;
    name.remove_suffix(extension.size());
    const std::size_t dash = name.rfind('-');
    if (dash == std::string_view::npos) return std::nullopt;
    std::uint64_t number = 0;
    const auto [rest, error] = std::from_chars(name.data() + dash + 1, name.data() + name.size(), number);
    if (error != std::errc{} || rest != name.data() + name.size()) return std::nullopt;
    return std::pair(name.substr(0, dash), number);
}

}  // namespace

LiveLadder::LiveLadder(LiveLadderSettings settings, std::vector<Entry> entries, std::vector<Track> subtitles)
    : settings_(std::move(settings)), subtitles_(std::move(subtitles)), cues_(subtitles_.size()) {
    for (Entry& entry : entries) {
        TrackWindow one;
        one.entry = std::move(entry);
        one.first = settings_.first_number;
        tracks_.push_back(std::move(one));
    }
}

void LiveLadder::set_header(std::size_t track, const Track& described, ByteVector header) {
    const base::MutexLock lock(mutex_);
    tracks_.at(track).track = described;
    tracks_[track].header = Bytes(std::move(header));
}

void LiveLadder::add(std::size_t track, Bytes segment, Time from, Time duration) {
    const base::MutexLock lock(mutex_);
    TrackWindow& one = tracks_.at(track);
    if (available_from_ms_ == 0 && settings_.wall_ms)
        available_from_ms_ = settings_.wall_ms() - static_cast<std::int64_t>(base::to_seconds(from + duration) * 1000);
    // (What an encoder begins with says little of its rate.)
    if (duration > settings_.segment / 2)
        one.seen_peak_bps = std::max(one.seen_peak_bps, static_cast<std::int64_t>(static_cast<double>(segment.size()) *
                                                                                  8 / base::to_seconds(duration)));
    one.segments.push_back({from, duration, std::move(segment)});
    while (one.segments.size() > settings_.listed + settings_.kept) {
        one.segments.pop_front();
        ++one.first;
    }
    for (std::vector<Packet>& cues : cues_) {
        if (track == 0) forget_cues(cues, one.segments.front().from);
    }
}

void LiveLadder::add_cue(const Packet& cue) {
    const base::MutexLock lock(mutex_);
    for (std::size_t i = 0; i < subtitles_.size(); ++i) {
        if (subtitles_[i].id == cue.track) cues_[i].push_back(cue);
    }
}

void LiveLadder::finish() {
    const base::MutexLock lock(mutex_);
    ended_ = true;
}

void LiveLadder::pause(bool paused) {
    const base::MutexLock lock(mutex_);
    paused_ = paused;
}

bool LiveLadder::ready() const {
    for (const TrackWindow& one : tracks_) {
        const bool enough = one.segments.size() >= settings_.fewest || one.first > settings_.first_number || ended_;
        if (one.header.empty() || one.segments.empty() || !enough) return false;
    }
    return true;
}

// What is promised: the encoder's limit with what packing adds, or what was seen where that is more.
std::int64_t LiveLadder::peak_of(const TrackWindow& one) const {
    constexpr std::int64_t kPacking = 16'000;
    return std::max(one.entry.peak_bps + kPacking, one.seen_peak_bps);
}

std::string LiveLadder::multivariant(const std::string& query) const {
    container::MediaPlaylist list;
    list.version = 7;
    list.independent = true;
    std::int64_t heard = 0;
    std::string audio_codecs;
    for (const TrackWindow& one : tracks_) {
        if (one.track.kind != TrackKind::audio) continue;
        container::MediaPlaylist::Audio audio;
        audio.group = kAudioGroup;
        audio.uri = one.entry.name + std::string(kPlaylist) + query;
        // Names within a group differ.
        audio.name = one.track.language.empty() ? one.entry.name : media::language_name(one.track.language);
        if (std::any_of(list.audio.begin(), list.audio.end(),
                        [&](const auto& other) { return other.name == audio.name; }))
            audio.name = one.entry.name;
        audio.language = media::language_tag(one.track.language);
        audio.preferred = list.audio.empty();
        audio.channels = one.track.channels;
        list.audio.push_back(std::move(audio));
        heard = std::max(heard, peak_of(one));
        const std::string codec = bitstream::codec_string(one.track);
        if (audio_codecs.find(codec) == std::string::npos) audio_codecs += "," + codec;
    }
    for (const TrackWindow& one : tracks_) {
        if (one.track.kind != TrackKind::video) continue;
        container::MediaPlaylist::Variant variant;
        variant.uri = one.entry.name + std::string(kPlaylist) + query;
        variant.bandwidth_bps = peak_of(one) + heard;
        variant.codecs = bitstream::codec_string(one.track) + audio_codecs;
        variant.size = base::Size{one.track.width, one.track.height};
        variant.fps = one.track.frame_rate.num > 0 ? one.track.frame_rate.value() : 0;
        if (!list.audio.empty()) variant.audio = kAudioGroup;
        variant.subtitles = !subtitles_.empty();
        list.variants.push_back(std::move(variant));
    }
    container::list_moderate_first(list);
    for (std::size_t i = 0; i < subtitles_.size(); ++i)
        add_rendition(list, subtitles_[i], subtitles_name(i) + std::string(kPlaylist) + query);
    return container::write_playlist(list);
}

std::string LiveLadder::playlist(const TrackWindow& one, const std::string& query, const std::string& subtitles) const {
    container::MediaPlaylist list;
    list.version = 7;
    list.independent = true;
    list.target_s = std::max<std::int64_t>(std::llround(base::to_seconds(settings_.segment)), 1);
    list.sequence = one.first + skipped(one);
    list.ended = ended_;
    list.paused = paused_;
    if (subtitles.empty()) list.map_uri = one.entry.name + std::string(kHead) + query;
    for (std::size_t i = skipped(one); i < one.segments.size(); ++i) {
        list.segments.push_back({subtitles.empty()
                                     ? fmt::format("{}-{}{}{}", one.entry.name, one.first + i, kSegment, query)
                                     : fmt::format("{}-{}{}{}", subtitles, one.first + i, kSubtitlesSegment, query),
                                 one.segments[i].duration, false});
        list.target_s = std::max<std::int64_t>(list.target_s, std::llround(base::to_seconds(one.segments[i].duration)));
    }
    return container::write_playlist(list);
}

std::string LiveLadder::manifest(const std::string& query) const {
    container::DashManifest manifest;
    manifest.live = !ended_;
    manifest.target_buffer = settings_.segment;
    manifest.longest_segment = settings_.segment;
    manifest.available_from_ms = available_from_ms_;
    manifest.published_ms = settings_.wall_ms ? settings_.wall_ms() : 0;
    manifest.window = settings_.segment * static_cast<std::int64_t>(settings_.listed);
    manifest.delay = settings_.segment * kSegmentsBehind;
    manifest.update = settings_.segment;
    for (const TrackKind kind : {TrackKind::video, TrackKind::audio}) {
        container::DashManifest::AdaptationSet set;
        set.kind = kind == TrackKind::video ? container::DashManifest::AdaptationSet::Kind::video
                                            : container::DashManifest::AdaptationSet::Kind::audio;
        set.media_type = kind == TrackKind::video ? "video/mp4" : "audio/mp4";
        for (const TrackWindow& one : tracks_) {
            if (one.track.kind != kind) continue;
            container::DashManifest::Representation made;
            made.id = one.entry.name;
            made.bandwidth_bps = peak_of(one);
            made.codecs = bitstream::codec_string(one.track);
            if (kind == TrackKind::video) {
                made.size = {one.track.width, one.track.height};
                made.fps = one.track.frame_rate.num > 0 ? one.track.frame_rate.value() : 0;
            } else {
                made.sample_rate = one.track.sample_rate;
                made.channels = one.track.channels;
                set.language = media::language_tag(one.track.language);
            }
            made.header = container::DashManifest::Resource{"$RepresentationID$" + std::string(kHead) + query, {}};
            made.first_number = one.first + skipped(one);
            for (std::size_t i = skipped(one); i < one.segments.size(); ++i)
                made.segments.push_back({{}, one.segments[i].from, one.segments[i].duration});
            if (ended_ && !one.segments.empty())
                manifest.duration =
                    std::max(manifest.duration, one.segments.back().from + one.segments.back().duration);
            set.representations.push_back(std::move(made));
            // Audio in several languages is several sets.
            if (kind == TrackKind::audio) {
                manifest.sets.push_back(set);
                set.representations.clear();
            }
        }
        if (!set.representations.empty()) manifest.sets.push_back(std::move(set));
    }
    add_subtitles(manifest, query);
    return container::write_dash_manifest(manifest, "$RepresentationID$-$Number$" + std::string(kSegment) + query);
}

// Cut where the video is cut.
void LiveLadder::add_subtitles(container::DashManifest& manifest, const std::string& query) const {
    const TrackWindow& video = tracks_.front();
    for (std::size_t i = 0; i < subtitles_.size(); ++i) {
        container::DashManifest::AdaptationSet set;
        set.kind = container::DashManifest::AdaptationSet::Kind::text;
        set.media_type = "application/mp4";
        set.language = media::language_tag(subtitles_[i].language);
        set.label = subtitles_[i].name;
        set.forced = subtitles_[i].forced;
        container::DashManifest::Representation one;
        one.id = subtitles_name(i);
        one.codecs = "wvtt";
        one.bandwidth_bps = kTextBps;
        one.header = container::DashManifest::Resource{"$RepresentationID$" + std::string(kHead) + query, {}};
        one.first_number = video.first + skipped(video);
        for (std::size_t k = skipped(video); k < video.segments.size(); ++k)
            one.segments.push_back({{}, video.segments[k].from, video.segments[k].duration});
        set.representations.push_back(std::move(one));
        manifest.sets.push_back(std::move(set));
    }
}

std::optional<std::pair<std::size_t, std::uint64_t>> LiveLadder::segment_at(std::string_view name) const {
    const auto at = numbered(name, kSegment);
    for (std::size_t i = 0; at && i < tracks_.size(); ++i) {
        if (tracks_[i].entry.name == at->first) return std::pair(i, at->second);
    }
    return std::nullopt;
}

// Nothing where the name isn't one of subtitles.
std::optional<Result<LiveLadder::Answer>> LiveLadder::subtitles_answer(std::string_view name,
                                                                       const std::string& query) const {
    if (!name.starts_with(kSubtitles)) return std::nullopt;
    const TrackWindow& video = tracks_.front();
    for (std::size_t i = 0; i < subtitles_.size(); ++i) {
        const std::string own = subtitles_name(i);
        if (name == own + std::string(kHead)) {
            WAVECREST_TRY_ASSIGN(text, container::cmaf_text(subtitles_[i], {}, Time{}, settings_.segment));
            return Answer{Bytes(std::move(text.header)), kTextMp4Type, false};
        }
        if (name == own + std::string(kPlaylist)) {
            if (!ready()) return early();
            return Answer{bytes_of(playlist(video, query, own)), kPlaylistType, true};
        }
        const bool for_dash = name.ends_with(kSegment);
        if (!name.starts_with(own + "-") || !(for_dash || name.ends_with(kSubtitlesSegment))) continue;
        const auto at = numbered(name, for_dash ? kSegment : kSubtitlesSegment);
        if (!at || at->first != own || at->second < video.first || at->second - video.first >= video.segments.size())
            return fail(ErrorKind::usage, "this segment of subtitles isn't there", std::string(name),
                        "ask for the playlist");
        return subtitles_segment(i, at->second, for_dash);
    }
    return std::nullopt;
}

// As long as that of the video with this number, which is there.
Result<LiveLadder::Answer> LiveLadder::subtitles_segment(std::size_t subtitles, std::uint64_t number,
                                                         bool for_dash) const {
    const TrackWindow& video = tracks_.front();
    const Segment& shown = video.segments[static_cast<std::size_t>(number - video.first)];
    const Time from = shown.from, to = shown.from + shown.duration;
    if (!for_dash)
        return Answer{cues_between(cues_[subtitles], from, to, container::SegmentClock::mp4), "text/vtt", false};
    WAVECREST_TRY_ASSIGN(text, container::cmaf_text(subtitles_[subtitles], cues_[subtitles], from, to));
    return Answer{Bytes(std::move(text.segment)), kTextMp4Type, false};
}

Result<LiveLadder::Answer> LiveLadder::answer(std::string_view name, const std::string& query) const {
    const base::MutexLock lock(mutex_);
    const auto absent = [&](const char* what) {
        return fail(ErrorKind::usage, what, std::string(name), "ask for the playlist");
    };
    if (const auto at = segment_at(name)) {
        const TrackWindow& one = tracks_[at->first];
        if (at->second < one.first) return absent("this segment has expired");
        if (at->second - one.first >= one.segments.size()) return absent("this segment isn't there yet");
        return Answer{one.segments[static_cast<std::size_t>(at->second - one.first)].bytes,
                      one.track.kind == TrackKind::video ? "video/mp4" : "audio/mp4", false};
    }
    if (auto subtitles = subtitles_answer(name, query)) return std::move(*subtitles);
    if (name == container::kLadderPlaylist) {
        if (!ready()) return early();
        return Answer{bytes_of(multivariant(query)), kPlaylistType, true};
    }
    if (name == container::kLadderManifest) {
        if (!ready()) return early();
        return Answer{bytes_of(manifest(query)), "application/dash+xml", true};
    }
    for (const TrackWindow& one : tracks_) {
        if (name == one.entry.name + std::string(kHead) && !one.header.empty())
            return Answer{one.header, one.track.kind == TrackKind::video ? "video/mp4" : "audio/mp4", false};
        if (name != one.entry.name + std::string(kPlaylist)) continue;
        if (!ready()) return early();
        return Answer{bytes_of(playlist(one, query)), kPlaylistType, true};
    }
    return absent("there is nothing of this name in the ladder");
}

std::optional<LiveLadder::Listed> LiveLadder::segment_of(std::string_view name) const {
    const base::MutexLock lock(mutex_);
    const auto at = segment_at(name);
    if (!at) return std::nullopt;
    return Listed{tracks_[at->first].entry.name + std::string(kPlaylist), at->second};
}

std::optional<std::uint64_t> LiveLadder::newest(std::string_view name) const {
    const base::MutexLock lock(mutex_);
    for (const TrackWindow& one : tracks_) {
        if (name == one.entry.name + std::string(kPlaylist)) return one.first + one.segments.size() + (ended_ ? 1 : 0);
    }
    return std::nullopt;
}

std::optional<Time> LiveLadder::behind(std::uint64_t number) const {
    const base::MutexLock lock(mutex_);
    const TrackWindow& one = tracks_.front();
    if (number < one.first || number - one.first >= one.segments.size()) return std::nullopt;
    const Segment& asked = one.segments[static_cast<std::size_t>(number - one.first)];
    const Segment& newest = one.segments.back();
    return newest.from + newest.duration - (asked.from + asked.duration);
}

Time LiveLadder::latency() const {
    return settings_.segment * kSegmentsBehind + settings_.segment / 2;
}

}  // namespace wavecrest::stream
