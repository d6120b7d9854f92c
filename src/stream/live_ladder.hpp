// The short window of a live ladder (convert/ladder.hpp makes those of files): segments of each rung and of the audio
// as they are encoded, the playlists of HLS and the manifest of DASH that list the last of them.
#pragma once

#include <cstdint>
#include <deque>
#include <functional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/mutex.hpp"
#include "base/result.hpp"
#include "container/cmaf.hpp"
#include "container/dash_manifest.hpp"
#include "media/types.hpp"

namespace wavecrest::stream {

struct LiveLadderSettings {
    Time segment{};          // length of segments
    std::size_t listed = 8;  // of each track, in playlists
    std::size_t kept = 8;    // more that stay after they left it
    std::size_t fewest = 3;  // in the first playlist
    // Number of the first segment: see LiveHlsSettings::first_number.
    std::uint64_t first_number = 1;
    std::function<std::int64_t()> wall_ms;  // milliseconds since 1970
};

// Added to by one thread, asked by any.
class LiveLadder {
  public:
    struct Entry {
        std::string name;           // "video-720p", "audio-en"
        std::int64_t peak_bps = 0;  // that the encoder keeps to
    };
    // `subtitles`: the subtitles there are, each of text, in segments beside those of the video: WebVTT as it is for
    // HLS, in fragmented MP4 for DASH.
    LiveLadder(LiveLadderSettings settings, std::vector<Entry> entries, std::vector<Track> subtitles = {});

    // Of the track with a number: what it is, and its header; then its segments, in order.
    void set_header(std::size_t track, const Track& described, ByteVector header);
    void add(std::size_t track, Bytes segment, Time from, Time duration);
    // A cue of one of the subtitles, by its track's id; early enough, it comes with the video it belongs to.
    void add_cue(const Packet& cue);
    void finish();
    void pause(bool paused);

    struct Answer {
        Bytes body;
        std::string media_type;
        bool changes = false;  // asked for again it may be another
    };
    // What is at a name: ladder.m3u8, ladder.mpd, NAME.m3u8, NAME-head.mp4, NAME-NUMBER.m4s, subtitles-1.m3u8,
    // subtitles-1-NUMBER.vtt, subtitles-1-head.mp4, subtitles-1-NUMBER.m4s. `query` is written behind the addresses in
    // it. Kind wanting before enough segments are there; kind usage for what isn't there.
    Result<Answer> answer(std::string_view name, const std::string& query) const;
    // The number of the segment at a name, and the playlist that lists it; nothing for other names.
    struct Listed {
        std::string playlist;
        std::uint64_t number = 0;
    };
    std::optional<Listed> segment_of(std::string_view name) const;
    // The number that follows the newest segment of the playlist at a name, one more once it has ended; nothing for
    // other names.
    std::optional<std::uint64_t> newest(std::string_view name) const;
    // How far behind the newest the end of a segment lies; nothing for one that isn't there.
    std::optional<Time> behind(std::uint64_t number) const;
    // How far behind the newest players are asked to be.
    Time latency() const;

  private:
    struct Segment {
        Time from{}, duration{};
        Bytes bytes;
    };
    struct TrackWindow {
        Entry entry;
        Track track;
        Bytes header;
        std::deque<Segment> segments;
        std::uint64_t first = 0;  // number of the first of them
        std::int64_t seen_peak_bps = 0;
    };
    bool ready() const REQUIRES(mutex_);
    std::size_t skipped(const TrackWindow& one) const {
        return one.segments.size() - std::min(one.segments.size(), settings_.listed);
    }
    std::int64_t peak_of(const TrackWindow& one) const;
    std::string multivariant(const std::string& query) const REQUIRES(mutex_);
    // Of one's segments; of those of subtitles, cut at the same times, with the names for them.
    std::string playlist(const TrackWindow& one, const std::string& query, const std::string& subtitles = "") const
        REQUIRES(mutex_);
    std::optional<Result<Answer>> subtitles_answer(std::string_view name, const std::string& query) const
        REQUIRES(mutex_);
    Result<Answer> subtitles_segment(std::size_t subtitles, std::uint64_t number, bool for_dash) const REQUIRES(mutex_);
    std::string manifest(const std::string& query) const REQUIRES(mutex_);
    void add_subtitles(container::DashManifest& manifest, const std::string& query) const REQUIRES(mutex_);
    // The track and number of a segment's name.
    std::optional<std::pair<std::size_t, std::uint64_t>> segment_at(std::string_view name) const REQUIRES(mutex_);

    const LiveLadderSettings settings_;
    mutable base::Mutex mutex_;
    std::vector<TrackWindow> tracks_ GUARDED_BY(mutex_);
    const std::vector<Track> subtitles_;
    std::vector<std::vector<Packet>> cues_ GUARDED_BY(mutex_);  // of each of subtitles_
    std::int64_t available_from_ms_ GUARDED_BY(mutex_) = 0;     // when time 0 was there
    bool ended_ GUARDED_BY(mutex_) = false, paused_ GUARDED_BY(mutex_) = false;
};

}  // namespace wavecrest::stream
