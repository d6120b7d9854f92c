// A title that is there in several encodes to choose from, by whatever names them: a multivariant or media playlist of
// HLS (RFC 8216) or a manifest of DASH (ISO/IEC 23009-1). What both say is the same here: renditions, and where their
// segments are.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "base/units.hpp"
#include "container/byte_range.hpp"
#include "media/types.hpp"

namespace wavecrest::source {

struct AdaptiveTitle {
    // An address (http, https), or the path of a file; or a part of what is there.
    struct Place {
        std::string address;
        std::optional<container::ByteRange> range;

        bool operator==(const Place&) const = default;
    };
    struct Segment {
        Place at;
        Time from{}, duration{};
        std::uint64_t number = 0;  // the same after a live list was read again
    };
    struct Rendition {
        std::string name;  // "1280x720", "English", "audio"
        std::string language;
        std::int64_t peak_bps = 0;     // promised; of video of HLS with the audio that goes with it; 0: not told
        std::int64_t average_bps = 0;  // 0: not told
        std::string codecs;            // RFC 6381; of HLS with those of its audio
        base::Size size;               // 0x0: not told
        double fps = 0;
        int channels = 0;
        bool preferred = false, forced = false;
        std::size_t listed = 0;  // video: its place in the playlist or manifest
        // Known when load() has been there.
        bool loaded = false;
        std::optional<Place> header;  // comes in front of the segments
        std::vector<Segment> segments;
        Time longest{};          // promised of segments; 0: not told
        bool ended = true;       // nothing is added any more
        bool transport = false;  // MPEG-TS: audio is in it, too, and no header
        // How it is read: HLS its playlist, DASH its index, or nothing where the segments are known already.
        std::optional<Place> list;
    };
    bool dash = false, live = false, encrypted = false;
    std::string address;                        // of the playlist or manifest itself
    Time duration{};                            // 0: not known
    Time delay{};                               // live: so far behind the newest players should be; 0: not told
    Time update{};                              // live DASH: read it again so often
    std::vector<Rendition> video, audio, text;  // video by peak, going up
    bool keyframe_lists = false;                // there are lists of keyframes alone
    std::string uncertain;                      // why playing it as told may go wrong; empty: nothing
};

using FetchPlace = std::function<Result<ByteVector>(const AdaptiveTitle::Place& place)>;

// Does this name or text look like one? By the ends of names (.m3u8, .mpd), or the beginning of the text.
bool is_adaptive_name(std::string_view name);
// Parses what was found at `address` (a URL or a path). A media playlist is a title with one rendition of video. Fails
// (kind input) as the parsers do, and where nothing is to be played. `now_ms`: as parse_dash_manifest() has it.
Result<AdaptiveTitle> read_adaptive_title(std::string_view text, const std::string& address, std::int64_t now_ms = 0);
// Finds out where the segments of one of its renditions are; again, of a live one, to see what was added. Fails as
// `fetch` and the parsers do.
Status load_segments(AdaptiveTitle& title, AdaptiveTitle::Rendition& rendition, const FetchPlace& fetch);

// Fetches from files and from http:// and https:// addresses, each in a request of its own. Kind wanting or input where
// something isn't there; a file below another folder than that of `base` is refused.
FetchPlace plain_fetch(const std::string& base, const base::Path& trusted = {});

// Bytes. A web server is asked for its head alone. Fails as a fetch does.
Result<std::uint64_t> size_of_place(const AdaptiveTitle::Place& place, const base::Path& trusted = {});

// What a rendition lists and isn't there.
struct Missing {
    Error error;
    Time from{};  // of the first segment concerned

    std::string text(const AdaptiveTitle::Rendition& of) const;  // "480x270: the file is shorter... (video-270p.mp4)"
};
// Of a rendition whose segments are known. Little is read: bytes at the ends of segments that are parts of one file;
// of those that are files of their own their sizes (on a web server of three only, as each is a request).
std::optional<Missing> first_missing(const AdaptiveTitle::Rendition& rendition, const FetchPlace& fetch,
                                     const base::Path& trusted = {});

}  // namespace wavecrest::source
