// Playlists and clip information of Blu-ray discs, parsed from bytes. The specification is not public; the layouts are
// those of its published descriptions. All numbers are big-endian; times count 45 kHz.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::disc::blu_ray {

inline constexpr std::int64_t kClock = 45000;

struct StreamInfo {
    int pid = 0;
    int coding = 0;  // stream_coding_type
    int format = 0;  // video_format, or audio_presentation_type
    int rate = 0;    // frame rate, or sample rate
    std::string language = {};
    int dynamic_range = 0;  // of H.265: dynamic_range_type, 1 HDR10
    int colour_space = 0;   // of H.265: 1 BT.709, 2 BT.2020
};
// A track as the tables describe it; kind subtitle for graphics. `aspect_code` of clip information, 0 when not known.
Track describe(const StreamInfo& stream);

// A playlist: PLAYLIST/nnnnn.mpls.
struct Playlist {
    struct Item {
        std::vector<std::string> clips;  // by angle: "00012"
        bool seamless = false;           // follows the item before without a break (connection condition 5 or 6)
        std::uint32_t in_time = 0, out_time = 0;
        std::vector<StreamInfo> video, audio, graphics;
    };
    struct Mark {
        int item = 0;  // from 0
        std::uint32_t time = 0;
    };
    std::vector<Item> items;
    std::vector<Mark> chapters;
};

// Clip information: CLIPINF/nnnnn.clpi.
struct ClipInfo {
    struct Entry {
        std::uint32_t time = 0;    // of a picture that can be decoded alone
        std::uint32_t packet = 0;  // source packet where it begins
    };
    std::uint32_t packets = 0;  // in the clip
    std::uint32_t start_time = 0, end_time = 0;
    std::vector<StreamInfo> streams;
    std::vector<Entry> entries;  // of the first video stream, ascending
};

// `name` is used in errors. Fail (kind input, with the byte offset) when the mark is not there or a table points
// outside the bytes.
Result<Playlist> parse_playlist(ByteSpan bytes, const std::string& name);
Result<ClipInfo> parse_clip_info(ByteSpan bytes, const std::string& name);

// The other way, for sample discs. Streams of all items are alike.
ByteVector write_playlist(const Playlist& playlist);
ByteVector write_clip_info(const ClipInfo& clip, int pmt_pid, int pcr_pid, std::uint32_t bytes_per_second);

}  // namespace wavecrest::disc::blu_ray
