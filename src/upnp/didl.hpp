// DIDL-Lite: how UPnP AV describes what can be played (ISO/IEC 29341-4-12, ContentDirectory, annex A and B).
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::upnp {

// One form in which an item is to be had.
struct Resource {
    std::string address;
    std::string protocol_info;
    std::optional<Time> duration;
    std::uint64_t size = 0;        // bytes; 0: not told
    std::int64_t bitrate_bps = 0;  // bits a second (the attribute has bytes); 0: not told
    std::string resolution;        // "1920x1080"; empty: not told
    int channels = 0;              // 0: not told
    int sample_rate = 0;           // likewise
};

struct Object {
    bool container = false;
    std::string id, parent = "-1";
    std::string title;
    std::string upnp_class = "object.item.videoItem";
    int children = -1;  // of a container; -1: not told
    std::string date;   // "2026-11-30"
    std::string creator, artist, album, genre;
    std::string series;           // of an episode
    int season = 0, episode = 0;  // 0: none
    int track = 0;                // on its album; 0: none
    std::string picture;          // its address
    std::string subtitles;        // likewise, of a text file
    std::vector<Resource> resources;
};

// "1:32:05.250", as the standard's duration is written and read (B.2.1.4): H+:MM:SS[.F+].
std::string format_duration(Time time);
std::optional<Time> parse_duration(std::string_view text);

// With these properties alone besides those that are always there (ContentDirectory, 2.3.14): "*" all, or a list such
// as "dc:date,res@size".
std::string write_didl(std::span<const Object> objects, std::string_view filter = "*");
// Fails (kind wanting) for what is none.
Result<std::vector<Object>> parse_didl(std::string_view text);

}  // namespace wavecrest::upnp
