#include "container/media_playlist.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <optional>

namespace wavecrest::container {
namespace {

constexpr std::size_t kMostEntries = 100'000;
// 4.3.4.1.1.
constexpr std::string_view kPausedComment = "# wavecrest: paused";
constexpr std::string_view kCaptions =
    "public.accessibility.transcribes-spoken-dialog,public.accessibility.describes-music-and-audio";
constexpr std::string_view kTellsAudioTracks = "public.accessibility.describes-music-and-audio";

std::optional<double> decimal(std::string_view text) {
    double value = 0;
    const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc{} || rest == text.data() || !(value >= 0) || value > 1e6) return std::nullopt;
    return value;
}
std::optional<std::uint64_t> whole(std::string_view text) {
    std::uint64_t value = 0;
    const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc{} || rest != text.data() + text.size() || value > (std::uint64_t{1} << 53))
        return std::nullopt;
    return value;
}

// "1920x1080" (4.2, decimal-resolution).
std::optional<base::Size> resolution(std::string_view text) {
    const std::size_t by = text.find('x');
    if (by == std::string_view::npos) return std::nullopt;
    const auto width = whole(text.substr(0, by)), height = whole(text.substr(by + 1));
    if (!width || !height || *width == 0 || *height == 0 || *width > 65536 || *height > 65536) return std::nullopt;
    return base::Size{static_cast<int>(*width), static_cast<int>(*height)};
}

// "1000@2000", or "1000" where it begins behind the one before (4.3.2.2). Nothing where it can't be read.
std::optional<ByteRange> byte_range(std::string_view text, std::uint64_t behind) {
    const std::size_t at = text.find('@');
    const auto length = whole(text.substr(0, at));
    const auto offset = at == std::string_view::npos ? std::optional(behind) : whole(text.substr(at + 1));
    if (!length || *length == 0 || !offset) return std::nullopt;
    return ByteRange{*offset, *length};
}

// Quoted strings hold neither quotes nor line ends (4.2).
std::string quoted_string(std::string_view text) {
    std::string result = "\"";
    for (const char c : text) result += c == '"' ? '\'' : static_cast<unsigned char>(c) < 0x20 ? ' ' : c;
    return result + "\"";
}

// One value of an attribute list (4.2), without its quotes.
std::string attribute(std::string_view list, std::string_view name) {
    std::size_t at = 0;
    while (at < list.size()) {
        const std::size_t equals = list.find('=', at);
        if (equals == std::string_view::npos) break;
        const std::string_view key = list.substr(at, equals - at);
        std::size_t end = equals + 1;
        if (end < list.size() && list[end] == '"') {
            const std::size_t close = list.find('"', end + 1);
            if (close == std::string_view::npos) break;
            if (key == name) return std::string(list.substr(end + 1, close - end - 1));
            end = close + 1;
        } else {
            end = std::min(list.find(',', end), list.size());
            if (key == name) return std::string(list.substr(equals + 1, end - equals - 1));
        }
        at = end + 1;
        while (at < list.size() && list[at] == ' ') ++at;
    }
    return "";
}

// The offset of a byte range whose own is not written.
constexpr std::uint64_t kBehind = ~std::uint64_t{0};

// EXT-X-STREAM-INF and EXT-X-I-FRAME-STREAM-INF (4.3.4.2, 4.3.4.3). Attributes that can't be read are as if absent.
MediaPlaylist::Variant read_variant(std::string_view list) {
    MediaPlaylist::Variant variant;
    variant.uri = attribute(list, "URI");
    variant.bandwidth_bps = static_cast<std::int64_t>(whole(attribute(list, "BANDWIDTH")).value_or(0));
    variant.average_bps = static_cast<std::int64_t>(whole(attribute(list, "AVERAGE-BANDWIDTH")).value_or(0));
    variant.codecs = attribute(list, "CODECS");
    variant.size = resolution(attribute(list, "RESOLUTION"));
    variant.fps = decimal(attribute(list, "FRAME-RATE")).value_or(0);
    variant.audio = attribute(list, "AUDIO");
    variant.subtitles = !attribute(list, "SUBTITLES").empty();
    return variant;
}

// EXT-X-MEDIA (4.3.4.1).
void read_media(std::string_view media, MediaPlaylist& list) {
    const std::string type = attribute(media, "TYPE");
    if (type == "SUBTITLES")
        list.subtitles.push_back({attribute(media, "URI"), attribute(media, "NAME"), attribute(media, "LANGUAGE"),
                                  attribute(media, "FORCED") == "YES",
                                  attribute(media, "CHARACTERISTICS").find(kTellsAudioTracks) != std::string::npos});
    if (type != "AUDIO") return;
    MediaPlaylist::Audio audio;
    audio.group = attribute(media, "GROUP-ID");
    audio.uri = attribute(media, "URI");
    audio.name = attribute(media, "NAME");
    audio.language = attribute(media, "LANGUAGE");
    audio.preferred = attribute(media, "DEFAULT") == "YES";
    const std::string channels = attribute(media, "CHANNELS");
    audio.channels =
        static_cast<int>(std::min<std::uint64_t>(whole(channels.substr(0, channels.find('/'))).value_or(0), 1024));
    list.audio.push_back(std::move(audio));
}

std::string write_variant(const MediaPlaylist::Variant& one) {
    std::string text = fmt::format("BANDWIDTH={}", one.bandwidth_bps);
    if (one.average_bps > 0) text += fmt::format(",AVERAGE-BANDWIDTH={}", one.average_bps);
    if (!one.codecs.empty()) text += fmt::format(",CODECS={}", quoted_string(one.codecs));
    if (one.size) text += fmt::format(",RESOLUTION={}x{}", one.size->width, one.size->height);
    return text;
}

std::string write_variants(const MediaPlaylist& playlist) {
    std::string text;
    for (const MediaPlaylist::Audio& one : playlist.audio)
        text += fmt::format(
            "#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID={},NAME={}{},DEFAULT={},AUTOSELECT=YES{}{}\n", quoted_string(one.group),
            quoted_string(one.name), one.language.empty() ? "" : ",LANGUAGE=" + quoted_string(one.language),
            one.preferred ? "YES" : "NO", one.channels > 0 ? fmt::format(",CHANNELS=\"{}\"", one.channels) : "",
            one.uri.empty() ? "" : ",URI=" + quoted_string(one.uri));
    for (const MediaPlaylist::Subtitles& one : playlist.subtitles)
        text +=
            fmt::format("#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"subtitles\",NAME={}{},AUTOSELECT=YES{}{},URI={}\n",
                        quoted_string(one.name), one.language.empty() ? "" : ",LANGUAGE=" + quoted_string(one.language),
                        one.forced ? ",FORCED=YES" : "",
                        one.captions ? fmt::format(",CHARACTERISTICS=\"{}\"", kCaptions) : "", quoted_string(one.uri));
    for (const MediaPlaylist::Variant& one : playlist.variants)
        text += fmt::format("#EXT-X-STREAM-INF:{}{}{}{}\n{}\n", write_variant(one),
                            one.fps > 0 ? fmt::format(",FRAME-RATE={:.3f}", one.fps) : "",
                            one.audio.empty() ? "" : ",AUDIO=" + quoted_string(one.audio),
                            one.subtitles ? ",SUBTITLES=\"subtitles\"" : "", one.uri);
    for (const MediaPlaylist::Variant& one : playlist.keyframe_variants)
        text += fmt::format("#EXT-X-I-FRAME-STREAM-INF:{},URI={}\n", write_variant(one), quoted_string(one.uri));
    return text;
}

std::string write_range(const ByteRange& range) {
    return fmt::format("{}@{}", range.length, range.offset);
}

// Takes the lines of a playlist one after the other (RFC 8216, 4.3).
class PlaylistParser {
  public:
    // Says what is wrong with a line; nothing (empty) of one that is right, or makes no difference here.
    std::string_view take(std::string_view line) {
        if (line.empty() || (line.front() == '#' && !line.starts_with("#EXT") && line != kPausedComment)) return {};
        const std::string_view wrong = line.front() == '#' ? take_tag(line) : take_address(line);
        if (!wrong.empty()) return wrong;
        const std::size_t entries = list.segments.size() + list.variants.size() + list.keyframe_variants.size() +
                                    list.audio.size() + list.subtitles.size();
        return entries > kMostEntries ? "the playlist is too long" : "";
    }

    MediaPlaylist list;

  private:
    std::string_view take_tag(std::string_view line) {
        struct Valued {
            std::string_view tag;
            std::string_view (PlaylistParser::*take)(std::string_view value);
        };
        static constexpr Valued kValued[] = {
            {"#EXTINF:", &PlaylistParser::take_duration},
            {"#EXT-X-BYTERANGE:", &PlaylistParser::take_range},
            {"#EXT-X-TARGETDURATION:", &PlaylistParser::take_target},
            {"#EXT-X-MEDIA-SEQUENCE:", &PlaylistParser::take_sequence},
            {"#EXT-X-STREAM-INF:", &PlaylistParser::take_variant},
            {"#EXT-X-START:", &PlaylistParser::take_start},
            {"#EXT-X-MAP:", &PlaylistParser::take_map},
        };
        for (const Valued& one : kValued) {
            if (line.starts_with(one.tag)) return (this->*one.take)(line.substr(one.tag.size()));
        }
        const auto value = [&](std::string_view tag) -> std::optional<std::string_view> {
            return line.starts_with(tag) ? std::optional(line.substr(tag.size())) : std::nullopt;
        };
        if (const auto version = value("#EXT-X-VERSION:")) list.version = static_cast<int>(whole(*version).value_or(1));
        if (const auto keyframes = value("#EXT-X-I-FRAME-STREAM-INF:"))
            list.keyframe_variants.push_back(read_variant(*keyframes));
        if (const auto media = value("#EXT-X-MEDIA:")) read_media(*media, list);
        if (const auto key = value("#EXT-X-KEY:")) list.encrypted = attribute(*key, "METHOD") != "NONE";
        if (const auto before = value("#EXT-X-DISCONTINUITY-SEQUENCE:"))
            list.discontinuities = whole(*before).value_or(0);
        const std::pair<std::string_view, bool*> flags[] = {{kPausedComment, &list.paused},
                                                            {"#EXT-X-DISCONTINUITY", &discontinuity_},
                                                            {"#EXT-X-INDEPENDENT-SEGMENTS", &list.independent},
                                                            {"#EXT-X-I-FRAMES-ONLY", &list.keyframes_only},
                                                            {"#EXT-X-ENDLIST", &list.ended},
                                                            {"#EXT-X-PLAYLIST-TYPE:VOD", &list.on_demand}};
        for (const auto& [tag, flag] : flags) {
            if (line == tag) *flag = true;
        }
        return {};
    }

    std::string_view take_duration(std::string_view value) {
        const auto seconds = decimal(value.substr(0, value.find(',')));
        if (!seconds) return "a segment duration isn't a number";
        duration_ = base::from_seconds(*seconds);
        return {};
    }
    std::string_view take_range(std::string_view value) {
        // One without an offset goes on behind the segment before, of the same file: known when its address is.
        range_ = byte_range(value, kBehind);
        return range_ ? "" : "a byte range can't be read";
    }
    std::string_view take_target(std::string_view value) {
        const auto number = whole(value);
        if (!number) return "the target duration isn't a number";
        list.target_s = static_cast<std::int64_t>(*number);
        return {};
    }
    std::string_view take_sequence(std::string_view value) {
        const auto number = whole(value);
        if (!number) return "the media sequence number isn't a number";
        list.sequence = *number;
        return {};
    }
    std::string_view take_variant(std::string_view value) {
        variant_ = read_variant(value);
        return variant_->bandwidth_bps > 0 ? "" : "a variant doesn't tell its BANDWIDTH";
    }
    std::string_view take_start(std::string_view value) {
        const std::string offset = attribute(value, "TIME-OFFSET");
        const bool from_end = offset.starts_with('-');
        if (const auto seconds = decimal(std::string_view(offset).substr(from_end ? 1 : 0)))
            list.start = base::from_seconds(from_end ? -*seconds : *seconds);
        return {};
    }
    std::string_view take_map(std::string_view value) {
        const std::string uri = attribute(value, "URI"), of = attribute(value, "BYTERANGE");
        if (uri.empty()) return "the initialization section has no URI";
        const auto part = of.empty() ? std::nullopt : byte_range(of, 0);
        if (!of.empty() && !part) return "a byte range can't be read";
        if (list.map_uri.empty()) {
            list.map_uri = uri;
            list.map_range = part;
        }
        list.several_maps = list.several_maps || list.map_uri != uri || list.map_range != part;
        return {};
    }

    // Of a variant or a segment, which the tags before it describe.
    std::string_view take_address(std::string_view line) {
        if (variant_) {
            variant_->uri = std::string(line);
            list.variants.push_back(std::move(*variant_));
            variant_.reset();
            return {};
        }
        if (!duration_) return "a segment has no duration (EXTINF)";
        if (range_ && range_->offset == kBehind) {
            const bool same = !list.segments.empty() && list.segments.back().range && list.segments.back().uri == line;
            if (!same) return "a byte range has no offset, and nothing of this file is in front of it";
            range_->offset = list.segments.back().range->end();
        }
        list.segments.push_back({std::string(line), *duration_, discontinuity_, range_});
        duration_.reset();
        range_.reset();
        discontinuity_ = false;
        return {};
    }

    std::optional<MediaPlaylist::Variant> variant_;
    std::optional<Time> duration_;
    std::optional<ByteRange> range_;
    bool discontinuity_ = false;
};

}  // namespace

Time MediaPlaylist::duration() const {
    Time sum{};
    for (const Segment& segment : segments) sum += segment.duration;
    return sum;
}

Result<MediaPlaylist> parse_playlist(std::string_view text, const std::string& name) {
    int line_number = 0;
    const auto refuse = [&](std::string_view what) {
        return fail(ErrorKind::input, std::string(what), fmt::format("{}, line {}", name, line_number),
                    "check what the server sends at this address");
    };
    PlaylistParser parser;
    std::size_t at = text.starts_with("\xEF\xBB\xBF") ? 3 : 0;
    while (at < text.size()) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        std::string_view line = text.substr(at, end - at);
        at = end + 1;
        ++line_number;
        while (!line.empty() && (line.back() == '\r' || line.back() == ' ')) line.remove_suffix(1);
        if (line_number == 1 && line != "#EXTM3U") return refuse("not an HLS playlist: it does not begin with #EXTM3U");
        if (const std::string_view wrong = parser.take(line); !wrong.empty()) return refuse(wrong);
    }
    if (line_number == 0) return refuse("not an HLS playlist: it is empty");
    return std::move(parser.list);
}

void list_moderate_first(MediaPlaylist& playlist) {
    constexpr std::int64_t kModerate = 2'000'000;  // bit/s
    auto& all = playlist.variants;
    const auto first =
        std::max_element(all.begin(), all.end(), [](const MediaPlaylist::Variant& a, const MediaPlaylist::Variant& b) {
            const bool a_fits = a.bandwidth_bps <= kModerate, b_fits = b.bandwidth_bps <= kModerate;
            if (a_fits != b_fits) return b_fits;
            return a_fits ? a.bandwidth_bps < b.bandwidth_bps : a.bandwidth_bps > b.bandwidth_bps;
        });
    if (first != all.end()) std::rotate(all.begin(), first, first + 1);
}

std::string write_playlist(const MediaPlaylist& playlist) {
    std::string text = fmt::format("#EXTM3U\n#EXT-X-VERSION:{}\n", playlist.version);
    if (playlist.independent) text += "#EXT-X-INDEPENDENT-SEGMENTS\n";
    text += write_variants(playlist);
    if (!playlist.variants.empty()) return text;
    if (playlist.on_demand) text += "#EXT-X-PLAYLIST-TYPE:VOD\n";
    text += fmt::format("#EXT-X-TARGETDURATION:{}\n#EXT-X-MEDIA-SEQUENCE:{}\n", playlist.target_s, playlist.sequence);
    if (playlist.discontinuities > 0)
        text += fmt::format("#EXT-X-DISCONTINUITY-SEQUENCE:{}\n", playlist.discontinuities);
    if (playlist.start) text += fmt::format("#EXT-X-START:TIME-OFFSET={:.3f}\n", base::to_seconds(*playlist.start));
    if (playlist.paused) text += fmt::format("{}\n", kPausedComment);
    if (playlist.keyframes_only) text += "#EXT-X-I-FRAMES-ONLY\n";
    if (!playlist.map_uri.empty())
        text +=
            fmt::format("#EXT-X-MAP:URI={}{}\n", quoted_string(playlist.map_uri),
                        playlist.map_range ? fmt::format(",BYTERANGE=\"{}\"", write_range(*playlist.map_range)) : "");
    for (const MediaPlaylist::Segment& segment : playlist.segments) {
        if (segment.discontinuity) text += "#EXT-X-DISCONTINUITY\n";
        text += fmt::format("#EXTINF:{:.5f},\n", base::to_seconds(segment.duration));
        if (segment.range) text += fmt::format("#EXT-X-BYTERANGE:{}\n", write_range(*segment.range));
        text += segment.uri + "\n";
    }
    if (playlist.ended) text += "#EXT-X-ENDLIST\n";
    return text;
}

}  // namespace wavecrest::container
