// Manifests of Dynamic Adaptive Streaming over HTTP (media presentation description, ISO/IEC 23009-1): one title in
// several encodes to choose from, of one period, on demand or live.
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
#include "media/types.hpp"

namespace wavecrest::container {

struct DashManifest {
    // What is at an address, or a part of it.
    struct Resource {
        std::string uri;  // absolute, or relative to the manifest's own
        std::optional<ByteRange> range;
    };
    struct Segment {
        Resource at;
        Time from{}, duration{};
    };
    struct Representation {
        std::string id;
        std::int64_t bandwidth_bps = 0;
        std::string codecs;
        base::Size size;      // 0x0: not video, or not told
        double fps = 0;       // 0: not told
        int sample_rate = 0;  // 0: not audio, or not told
        int channels = 0;     // 0: not told
        // Of fragmented MP4 with an index of its own (SegmentBase): the file, its header and the index. Segments are in
        // the index then, and `segments` is empty.
        std::optional<Resource> indexed, header, index;
        // Else one after the other; of a live one those that are there now. `header` comes in front of them.
        std::vector<Segment> segments;
        std::uint64_t first_number = 1;  // of `segments`, as their addresses have it
        Time shift{};                    // presentation time of the media's time 0 within the period, where they differ
    };
    struct AdaptationSet {
        enum class Kind { video, audio, text, other } kind = Kind::other;
        std::string media_type;  // "video/mp4"
        std::string language;
        std::string label;
        bool forced = false;           // of subtitles: needed to follow the story
        bool keyframes_alone = false;  // for moving through the title (trick mode): not to be played
        bool encrypted = false;        // segments need a key
        std::vector<Representation> representations;
    };
    bool live = false;
    Time duration{};         // 0: not known
    Time target_buffer{};    // minBufferTime
    Time longest_segment{};  // 0: not told
    // Live: milliseconds since 1970 when its first segment was there; how long segments stay; how far behind the
    // newest players should be; how often it is to be read again (0: it doesn't change any more).
    std::int64_t available_from_ms = 0;
    std::int64_t published_ms = 0;
    Time window{}, delay{}, update{};
    std::vector<AdaptationSet> sets;
};

// Fails (kind input) for what is no manifest, is too long (2 MB), has several periods, lists more than 100 000
// segments, or tells segments in a way that can't be followed (external templates, lists by XLink).  `now_ms`:
// milliseconds since 1970, for live manifests whose segments follow from the time of day.
Result<DashManifest> parse_dash_manifest(std::string_view text, const std::string& name, std::int64_t now_ms = 0);
// Its text; segments of live representations by a template and a timeline: addresses must then differ by their numbers
// only, which stand where `number_pattern` has "$Number$" ("video-$RepresentationID$-$Number$.m4s").
std::string write_dash_manifest(const DashManifest& manifest, const std::string& number_pattern = "");

}  // namespace wavecrest::container
