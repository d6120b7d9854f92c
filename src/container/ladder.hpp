// A title in several encodes beside one another (a ladder; each encode of the video is a rung), as files in one folder:
// tracks by CMAF (cmaf.hpp), and what players read first: playlists of HLS and a manifest of DASH that name the same
// files.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/file.hpp"
#include "container/cmaf.hpp"
#include "container/dash_manifest.hpp"
#include "container/media_playlist.hpp"

namespace wavecrest::container {

// Names in the folder.
inline constexpr std::string_view kLadderPlaylist = "ladder.m3u8", kLadderManifest = "ladder.mpd";

struct Ladder {
    struct Rendition {
        std::string name;  // of its file, without ".mp4": "video-720p", "audio-en"
        CmafFile file;

        std::string file_name() const { return name + ".mp4"; }
        std::string playlist_name() const { return name + ".m3u8"; }
        // The file's header once more, for HLS: given as a part of the large file, some browsers fetch that from its
        // beginning at each change of rung.
        std::string head_name() const { return name + "-head.mp4"; }
        std::string keyframes_name() const { return name + "-keyframes.m3u8"; }  // of video
    };
    struct Text {
        std::string name;  // of its WebVTT file, without ".vtt"
        Track track;

        std::string file_name() const { return name + ".vtt"; }
        std::string playlist_name() const { return name + ".m3u8"; }
    };
    std::vector<Rendition> video;  // any order
    std::vector<Rendition> audio;  // the one to play unasked in front
    std::vector<Text> subtitles;

    Time duration() const;  // the longest track's
    // Bits a second that playing a rung takes: its video with the audio that needs most.
    std::int64_t peak_bps(const Rendition& rung) const;
    std::int64_t average_bps(const Rendition& rung) const;
};

// Kind input: rungs whose segments don't begin at the same times; nothing to play.
Status check_aligned(const Ladder& ladder);

// The names of its playlists and manifest. The multivariant playlist comes last: with it the ladder is there.
std::vector<std::string> text_names(const Ladder& ladder);
// One of them; nothing for other names. `query` ("?key=...") is written behind all addresses in it.
std::optional<std::string> text_of(const Ladder& ladder, std::string_view name, const std::string& query = "");

// Opens a file of a folder, by its name.
using OpenBeside = std::function<Result<std::unique_ptr<base::ByteSource>>(const std::string& name)>;
OpenBeside open_in(const base::Path& folder);
// What is in a folder, by its multivariant playlist and the files it leads to; `where` is told in errors. Fails (kind
// input) for folders that aren't of this form: those of other programs are read by source/adaptive_title.hpp.
Result<Ladder> read_ladder(const OpenBeside& open, const std::string& where);
Result<Ladder> read_ladder(const base::Path& folder);

}  // namespace wavecrest::container
