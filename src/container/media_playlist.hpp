// Playlists of HTTP Live Streaming (RFC 8216): the list of a stream's segments, and the list of its variants.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::container {

struct MediaPlaylist {
    struct Segment {
        std::string uri;  // as written: absolute, or relative to the playlist's own
        Time duration{};
        bool discontinuity = false;  // times or codecs begin anew with it
    };
    struct Variant {
        std::string uri;
        std::int64_t bandwidth_bps = 0;  // the highest of any segment, all it needs
        std::string codecs;
        bool subtitles = false;  // those of `subtitles` belong to it
    };
    struct Subtitles {
        std::string uri;  // of a playlist of WebVTT segments
        std::string name, language;
        bool forced = false;    // needed to follow the story: shown unasked
        bool captions = false;  // tell audio_tracks, too
    };
    int version = 3;
    std::int64_t target_s = 0;          // no segment is longer, rounded to seconds
    std::uint64_t sequence = 0;         // number of the first segment
    std::uint64_t discontinuities = 0;  // before the first segment (EXT-X-DISCONTINUITY-SEQUENCE)
    bool on_demand = false;             // EXT-X-PLAYLIST-TYPE:VOD
    bool paused = false;                // nothing is added for a while (our own comment; players pass over it)
    bool ended = false;                 // nothing is added any more
    bool encrypted = false;             // segments need a key
    std::optional<Time> start;          // EXT-X-START: where players should begin; negative: so long before the end
    std::string map_uri;                // EXT-X-MAP: what comes before segments of fragmented MP4
    std::vector<Segment> segments;
    std::vector<Variant> variants;  // then it lists no segments
    std::vector<Subtitles> subtitles;

    Time duration() const;
};

// Fails (kind input) for what doesn't begin as a playlist or breaks its rules: a segment without EXTINF, numbers that
// are none, more than 100 000 segments.
Result<MediaPlaylist> parse_playlist(std::string_view text, const std::string& name);
// The text of a playlist of segments, or of variants where there are some.
std::string write_playlist(const MediaPlaylist& playlist);

}  // namespace wavecrest::container
