// Playlists of HTTP Live Streaming (RFC 8216): the list of a stream's segments (media playlist), and the list of its
// variants with the audio and subtitles that go with them (multivariant playlist).
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "base/units.hpp"
#include "container/byte_range.hpp"

namespace wavecrest::container {

struct MediaPlaylist {
    struct Segment {
        std::string uri;  // as written: absolute, or relative to the playlist's own
        Time duration{};
        bool discontinuity = false;        // times or codecs begin anew with it
        std::optional<ByteRange> range{};  // EXT-X-BYTERANGE: of what is at `uri`; nothing: all of it
    };
    struct Variant {
        std::string uri;
        std::int64_t bandwidth_bps = 0;  // the highest of any segment, all it needs
        std::string codecs;
        bool subtitles = false;            // those of `subtitles` belong to it
        std::int64_t average_bps = 0;      // of all segments (AVERAGE-BANDWIDTH); 0: not told
        std::optional<base::Size> size{};  // RESOLUTION: the best picture in it
        double fps = 0;                    // FRAME-RATE: the highest; 0: not told
        std::string audio{};               // group of `audio` that is heard with it; empty: in its own segments
    };
    struct Audio {
        std::string group, uri;  // no address: it is in the variant's own segments
        std::string name, language;
        bool preferred = false;  // DEFAULT: played unless somebody chooses another
        int channels = 0;        // 0: not told
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
    std::optional<ByteRange> map_range;
    bool several_maps = false;    // it changes on the way (`map_uri` is the first); read only
    bool independent = false;     // every segment can be decoded alone (EXT-X-INDEPENDENT-SEGMENTS)
    bool keyframes_only = false;  // each segment is one keyframe (EXT-X-I-FRAMES-ONLY)
    std::vector<Segment> segments;
    std::vector<Variant> variants;           // then it lists no segments
    std::vector<Variant> keyframe_variants;  // EXT-X-I-FRAME-STREAM-INF: playlists of keyframes alone
    std::vector<Audio> audio;
    std::vector<Subtitles> subtitles;

    Time duration() const;
};

// Fails (kind input) for what doesn't begin as a playlist or breaks its rules: a segment without EXTINF, numbers that
// are none, an attribute list or a byte range that can't be read, more than 100 000 segments.
Result<MediaPlaylist> parse_playlist(std::string_view text, const std::string& name);
// Puts the best variant of at most 2 Mbit/s (peak), else the lowest, in front of the others: many players begin with
// the variant that is listed first (RFC 8216 leaves it to them), which should start at once over nearly every link.
void list_moderate_first(MediaPlaylist& playlist);
// The text of a playlist of segments, or of variants where there are some.
std::string write_playlist(const MediaPlaylist& playlist);

}  // namespace wavecrest::container
