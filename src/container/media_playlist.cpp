#include "container/media_playlist.hpp"

#include <fmt/format.h>

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

}  // namespace

Time MediaPlaylist::duration() const {
    Time sum{};
    for (const Segment& segment : segments) sum += segment.duration;
    return sum;
}

Result<MediaPlaylist> parse_playlist(std::string_view text, const std::string& name) {
    int line_number = 0;
    const auto refuse = [&](std::string what) {
        return fail(ErrorKind::input, std::move(what), fmt::format("{}, line {}", name, line_number),
                    "check what the server sends at this address");
    };
    MediaPlaylist list;
    std::optional<Time> duration;
    bool discontinuity = false;
    std::optional<MediaPlaylist::Variant> variant;
    std::size_t at = 0;
    if (text.starts_with("\xEF\xBB\xBF")) at = 3;
    while (at < text.size()) {
        const std::size_t end = std::min(text.find('\n', at), text.size());
        std::string_view line = text.substr(at, end - at);
        at = end + 1;
        ++line_number;
        while (!line.empty() && (line.back() == '\r' || line.back() == ' ')) line.remove_suffix(1);
        if (line_number == 1 && line != "#EXTM3U") return refuse("not an HLS playlist: it does not begin with #EXTM3U");
        const auto value = [&](std::string_view tag) -> std::optional<std::string_view> {
            if (!line.starts_with(tag)) return std::nullopt;
            return line.substr(tag.size());
        };
        if (line.empty()) continue;
        if (const auto v = value("#EXTINF:")) {
            const auto seconds = decimal(v->substr(0, v->find(',')));
            if (!seconds) return refuse("a segment duration isn't a number");
            duration = base::from_seconds(*seconds);
        } else if (const auto target = value("#EXT-X-TARGETDURATION:")) {
            const auto number = whole(*target);
            if (!number) return refuse("the target duration isn't a number");
            list.target_s = static_cast<std::int64_t>(*number);
        } else if (const auto sequence = value("#EXT-X-MEDIA-SEQUENCE:")) {
            const auto number = whole(*sequence);
            if (!number) return refuse("the media sequence number isn't a number");
            list.sequence = *number;
        } else if (const auto version = value("#EXT-X-VERSION:")) {
            list.version = static_cast<int>(whole(*version).value_or(1));
        } else if (const auto stream = value("#EXT-X-STREAM-INF:")) {
            variant.emplace();
            variant->bandwidth_bps = static_cast<std::int64_t>(whole(attribute(*stream, "BANDWIDTH")).value_or(0));
            variant->codecs = attribute(*stream, "CODECS");
            variant->subtitles = !attribute(*stream, "SUBTITLES").empty();
        } else if (const auto media = value("#EXT-X-MEDIA:")) {
            if (attribute(*media, "TYPE") == "SUBTITLES")
                list.subtitles.push_back(
                    {attribute(*media, "URI"), attribute(*media, "NAME"), attribute(*media, "LANGUAGE"),
                     attribute(*media, "FORCED") == "YES",
                     attribute(*media, "CHARACTERISTICS").find(kTellsAudioTracks) != std::string::npos});
        } else if (const auto start = value("#EXT-X-START:")) {
            const std::string offset = attribute(*start, "TIME-OFFSET");
            const bool from_end = offset.starts_with('-');
            if (const auto seconds = decimal(std::string_view(offset).substr(from_end ? 1 : 0)))
                list.start = base::from_seconds(from_end ? -*seconds : *seconds);
        } else if (const auto map = value("#EXT-X-MAP:")) {
            list.map_uri = attribute(*map, "URI");
        } else if (const auto key = value("#EXT-X-KEY:")) {
            list.encrypted = attribute(*key, "METHOD") != "NONE";
        } else if (const auto before = value("#EXT-X-DISCONTINUITY-SEQUENCE:")) {
            list.discontinuities = whole(*before).value_or(0);
        } else if (line == kPausedComment) {
            list.paused = true;
        } else if (line == "#EXT-X-DISCONTINUITY") {
            discontinuity = true;
        } else if (line == "#EXT-X-ENDLIST") {
            list.ended = true;
        } else if (line == "#EXT-X-PLAYLIST-TYPE:VOD") {
            list.on_demand = true;
        } else if (line.starts_with("#")) {
            continue;  // comments, and tags that make no difference here
        } else if (variant) {
            variant->uri = std::string(line);
            list.variants.push_back(std::move(*variant));
            variant.reset();
        } else {
            if (!duration) return refuse("a segment has no duration (EXTINF)");
            list.segments.push_back({std::string(line), *duration, discontinuity});
            duration.reset();
            discontinuity = false;
        }
        if (list.segments.size() + list.variants.size() + list.subtitles.size() > kMostEntries)
            return refuse("the playlist is too long");
    }
    if (line_number == 0) return refuse("not an HLS playlist: it is empty");
    return list;
}

std::string write_playlist(const MediaPlaylist& playlist) {
    std::string text = fmt::format("#EXTM3U\n#EXT-X-VERSION:{}\n", playlist.version);
    for (const MediaPlaylist::Subtitles& one : playlist.subtitles)
        text += fmt::format(
            "#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID=\"subtitles\",NAME=\"{}\"{},AUTOSELECT=YES{}{},URI=\"{}\"\n",
            one.name, one.language.empty() ? "" : fmt::format(",LANGUAGE=\"{}\"", one.language),
            one.forced ? ",FORCED=YES" : "", one.captions ? fmt::format(",CHARACTERISTICS=\"{}\"", kCaptions) : "",
            one.uri);
    for (const MediaPlaylist::Variant& one : playlist.variants)
        text += fmt::format("#EXT-X-STREAM-INF:BANDWIDTH={}{}{}\n{}\n", one.bandwidth_bps,
                            one.codecs.empty() ? "" : fmt::format(",CODECS=\"{}\"", one.codecs),
                            one.subtitles ? ",SUBTITLES=\"subtitles\"" : "", one.uri);
    if (!playlist.variants.empty()) return text;
    if (playlist.on_demand) text += "#EXT-X-PLAYLIST-TYPE:VOD\n";
    text += fmt::format("#EXT-X-TARGETDURATION:{}\n#EXT-X-MEDIA-SEQUENCE:{}\n", playlist.target_s, playlist.sequence);
    if (playlist.discontinuities > 0)
        text += fmt::format("#EXT-X-DISCONTINUITY-SEQUENCE:{}\n", playlist.discontinuities);
    if (playlist.start) text += fmt::format("#EXT-X-START:TIME-OFFSET={:.3f}\n", base::to_seconds(*playlist.start));
    if (playlist.paused) text += fmt::format("{}\n", kPausedComment);
    if (!playlist.map_uri.empty()) text += fmt::format("#EXT-X-MAP:URI=\"{}\"\n", playlist.map_uri);
    for (const MediaPlaylist::Segment& segment : playlist.segments) {
        if (segment.discontinuity) text += "#EXT-X-DISCONTINUITY\n";
        text += fmt::format("#EXTINF:{:.5f},\n{}\n", base::to_seconds(segment.duration), segment.uri);
    }
    if (playlist.ended) text += "#EXT-X-ENDLIST\n";
    return text;
}

}  // namespace wavecrest::container
