#include "stream/service.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

#include "base/byte_source.hpp"
#include "base/printable.hpp"
#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "container/subtitle_text.hpp"
#include "net/url.hpp"
#include "render/ladder_page.hpp"
#include "source/added_text.hpp"
#include "source/input.hpp"
#include "source/share_input.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {
namespace {

// RFC 8216, 4.
constexpr std::string_view kPlaylistType = "application/vnd.apple.mpegurl";

// What an address of a stream's HLS asks for.
struct HlsAsk {
    enum class What {
        entry,             // STEM.m3u8: of segments, or of variants where there are subtitles
        film,              // STEM-film.m3u8: of segments, where there are
        segment,           // STEM-NUMBER.ts
        subtitles,         // STEM-subtitles-TRACK.m3u8: of the segments of subtitles; tracks count from 1
        subtitles_segment  // STEM-subtitles-TRACK-NUMBER.vtt
    } what = What::entry;
    std::size_t track = 0;  // from 0
    std::uint64_t number = 0;
};
constexpr std::string_view kFilm = "-film", kSubtitles = "-subtitles-";

std::optional<std::uint64_t> whole_number(std::string_view text) {
    std::uint64_t number = 0;
    const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    if (error != std::errc{} || rest != text.data() + text.size()) return std::nullopt;
    return number;
}

std::optional<HlsAsk> parse_hls(std::string_view path, std::string_view stem) {
    using What = HlsAsk::What;
    if (!path.starts_with(stem)) return std::nullopt;
    path.remove_prefix(stem.size());
    const std::size_t dot = path.rfind('.');
    if (dot == std::string_view::npos) return std::nullopt;
    const std::string_view extension = path.substr(dot);
    path = path.substr(0, dot);
    if (extension == ".m3u8" && path.empty()) return HlsAsk{};
    if (extension == ".m3u8" && path == kFilm) return HlsAsk{What::film};
    if (path.starts_with(kSubtitles)) {
        path.remove_prefix(kSubtitles.size());
        const std::size_t dash = path.find('-');
        const auto track = whole_number(path.substr(0, dash));
        if (!track || *track == 0) return std::nullopt;
        const auto index = static_cast<std::size_t>(*track - 1);
        if (dash == std::string_view::npos)
            return extension == ".m3u8" ? std::optional(HlsAsk{What::subtitles, index}) : std::nullopt;
        const auto number = whole_number(path.substr(dash + 1));
        if (!number || extension != ".vtt") return std::nullopt;
        return HlsAsk{What::subtitles_segment, index, *number};
    }
    if (extension != ".ts" || !path.starts_with("-")) return std::nullopt;
    const auto number = whole_number(path.substr(1));
    return number ? std::optional(HlsAsk{What::segment, 0, *number}) : std::nullopt;
}

// Of who joins by HLS, of who asks for a list that has not changed, and of who asks late.
constexpr std::chrono::milliseconds kLongestJoin{4000}, kLongestList{3000}, kLongestPoll{200};

// The name a player was given with its list (HlsViewers): digits.
constexpr std::string_view kViewer = "viewer";
std::string viewer_in(std::string_view query) {
    return net::query_value(query, kViewer).value_or("").substr(0, 20);
}

// Addresses in playlists are relative to the playlist's own.
std::string beside(const std::string& path) {
    return net::encode_path(path.substr(path.rfind('/') + 1));
}

net::HttpReply reply_with(Bytes body, std::string_view type, const std::string& name, std::string cache) {
    net::HttpReply reply;
    reply.media_type = std::string(type);
    reply.body = std::move(body);
    reply.name = name;
    reply.cache_control = std::move(cache);
    return reply;
}

net::HttpReply playlist_reply(std::string text, const std::string& name, bool live) {
    const ByteSpan bytes = base::as_bytes(text);
    return reply_with(Bytes(ByteVector(bytes.begin(), bytes.end())), kPlaylistType, name,
                      live ? "no-cache" : "max-age=60");
}

// What no segment takes more than: transport packets are 5 % of their payload, and tables, clocks and the ends of
// pictures' packets as much for every rate.
std::int64_t bandwidth_of(const ReadyStream& stream) {
    const std::int64_t rate = std::max(stream.curve.peak_bps(base::from_seconds(6)), stream.bitrate_bps);
    return rate + rate / 20 + 120'000;
}

// What a segment of a film takes: it is made when it has been asked for.
std::size_t estimated_bytes(const ReadyStream& stream, std::uint64_t number) {
    const Time from = number > 0 ? stream.hls->end_of(number - 1) : Time{};
    const double seconds = base::to_seconds(std::max(stream.hls->end_of(number) - from, Time{}));
    return static_cast<std::size_t>(seconds * static_cast<double>(stream.bitrate_bps) / 8);
}

// The answer of a film or a live window (FilmHls, LiveHls). `variants`: the list to enter; empty where it is that of
// the segments.
template <typename Hls>
net::HttpReply answer_hls(Hls& hls, const HlsAsk& ask, const std::string& stem, const std::string& query,
                          const container::MediaPlaylist& variants, const std::string& name, bool live) {
    const auto failed = [](const Error& error) {
        return net::HttpReply::text(error.kind == ErrorKind::usage ? 404 : 503,
                                    fmt::format("{}: {}\n", error.what, error.remedy));
    };
    const auto list = [&](Result<std::string> text) {
        return text ? playlist_reply(std::move(*text), name, live) : failed(text.error());
    };
    const auto media = [&](Result<Bytes> bytes, std::string_view type) {
        return bytes ? reply_with(std::move(*bytes), type, name, "max-age=60") : failed(bytes.error());
    };
    switch (ask.what) {
        case HlsAsk::What::entry:
            if (!variants.variants.empty()) {
                // Not before there is something to list.
                const auto segments = hls.playlist(beside(stem), query);
                return segments ? list(container::write_playlist(variants)) : failed(segments.error());
            }
            [[fallthrough]];
        case HlsAsk::What::film:
            return list(hls.playlist(beside(stem), query));
        case HlsAsk::What::segment:
            return media(hls.segment(ask.number), "video/mp2t");
        case HlsAsk::What::subtitles:
            if (ask.track >= hls.text_subtitles().size())
                return net::HttpReply::text(404, "There are no such subtitles.\n");
            return list(hls.subtitles_playlist(fmt::format("{}{}{}", beside(stem), kSubtitles, ask.track + 1), query));
        case HlsAsk::What::subtitles_segment:
            return media(hls.subtitles_segment(ask.track, ask.number), "text/vtt");
    }
    return net::HttpReply::text(404, "There is nothing here.\n");
}

void add_text_subtitles(container::MediaPlaylist& list, const std::vector<Track>& words, const std::string& stem,
                        const std::string& query) {
    for (std::size_t i = 0; i < words.size(); ++i)
        add_rendition(list, words[i], fmt::format("{}{}{}.m3u8{}", beside(stem), kSubtitles, i + 1, query));
}

}  // namespace

namespace {

// Letters of Latin alphabets (U+00C0 to U+017F) without their marks, so that they can be typed on a remote control.
std::string_view plain_letter(unsigned character) {
    static constexpr std::string_view kLatin1[] = {"a", "a", "a", "a", "a", "a", "ae", "c", "e",  "e", "e",
                                                   "e", "i", "i", "i", "i", "d", "n",  "o", "o",  "o", "o",
                                                   "o", "",  "o", "u", "u", "u", "u",  "y", "th", "ss"};
    static constexpr std::string_view kExtended =
        "aaaaaaccccccccddddeeeeeeeeeegggggggghhhhiiiiiiiiiiiijjkkklllllll"
        "lllnnnnnnnnnoooooooorrrrrrssssssssttttttuuuuuuuuuuuuwwyy";
    if (character >= 0xC0 && character <= 0xFF) return kLatin1[character == 0xFF ? 0x1D : character & 0x1F];
    if (character == 0x152 || character == 0x153) return "oe";
    if (character >= 0x100 && character <= 0x177) return kExtended.substr(character - 0x100, 1);
    if (character >= 0x179 && character <= 0x17E) return "z";
    return "";
}

}  // namespace

std::string default_path(const std::string& name, const base::Address& file) {
    std::string path = "/";
    for (std::size_t i = 0; i < name.size(); ++i) {
        const auto u = static_cast<unsigned char>(name[i]);
        const bool letter = (u >= '0' && u <= '9') || (u >= 'A' && u <= 'Z') || (u >= 'a' && u <= 'z');
        if (letter) {
            path += static_cast<char>(std::tolower(u));
        } else if (u >= 0xC3 && u <= 0xC5 && i + 1 < name.size()) {
            path += plain_letter((u & 0x1Fu) << 6 | (static_cast<unsigned char>(name[++i]) & 0x3Fu));
        } else if (u >= 0x80) {
            path += name[i];  // of other scripts: as it is, and escaped where it is an address
        } else if (path.back() != '-' && path.back() != '/') {
            path += '-';
        }
    }
    while (path.size() > 1 && path.back() == '-') path.pop_back();
    if (path.size() == 1) path += "stream";
    return path + file.extension();
}

std::string stem_of(const std::string& path) {
    const std::size_t slash = path.rfind('/'), dot = path.rfind('.');
    return dot != std::string::npos && dot > slash + 1 ? path.substr(0, dot) : path;
}

std::string hls_path(const std::string& path) {
    return stem_of(path) + ".m3u8";
}
std::string subtitles_path(const std::string& path) {
    return stem_of(path) + ".vtt";
}
std::string live_path(const std::string& path) {
    return stem_of(path) + "-live.ts";
}
std::string live_hls_path(const std::string& path) {
    return stem_of(path) + "-live.m3u8";
}
std::string ladder_folder(const std::string& path) {
    return stem_of(path) + "-ladder/";
}

std::string address_for(const std::string& host, std::uint16_t port, const std::string& path, bool secure) {
    net::Url url;
    url.host = host;
    url.port = port;
    url.target = net::encode_path(path);
    url.secure = secure;
    return url.text();
}

Result<net::RemoteFile> open_on_share(const base::Address& file) {
    WAVECREST_TRY_ASSIGN(there, source::open_share(file, nullptr));
    WAVECREST_TRY_ASSIGN(bytes, there.share->read(there.path));
    return net::RemoteFile{std::move(bytes), there.entry.modified_ns};
}

Result<StreamSubtitles> read_subtitles(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(read, source::read_subtitle_file(file));
    StreamSubtitles subtitles;
    subtitles.language = read.language;
    const std::string text = container::write_web_vtt_segment(read.cues, Time{});
    const ByteSpan bytes = base::as_bytes(text);
    subtitles.web_vtt = Bytes(ByteVector(bytes.begin(), bytes.end()));
    return subtitles;
}

Result<std::vector<ReadyStream>> prepare(const std::vector<StreamItem>& items) {
    std::vector<ReadyStream> ready;
    for (const StreamItem& item : items) {
        if (item.ladder) {
            WAVECREST_TRY_ASSIGN(ladder, FilmLadder::open(item.file));
            ReadyStream stream;
            stream.name = item.name;
            stream.file = item.file;
            stream.path = item.path.empty() ? default_path(item.name, item.file) : item.path;
            stream.duration = ladder->duration();
            stream.size_bytes = ladder->size_bytes();
            stream.whole = false;
            stream.ladder = std::move(ladder);
            ready.push_back(std::move(stream));
            continue;
        }
        WAVECREST_TRY_ASSIGN(input, source::open_input(item.file));
        if (input->is_disc()) {
            return fail(ErrorKind::input,
                        fmt::format("a disc can't be offered as {}", item.hls && item.whole ? "file or hls"
                                                                     : item.hls             ? "hls"
                                                                                            : "file"),
                        item.file.text(),
                        "offer it live, live-hls or rtmp only; or convert it first (wavecrest convert) and stream the "
                        "file it makes");
        }
        const source::Title& title = input->titles().front();
        ReadyStream stream;
        stream.name = item.name;
        stream.file = base::without_links(item.file);
        stream.path = item.path.empty() ? default_path(item.name, item.file) : item.path;
        stream.container = input->container();
        stream.duration = title.duration;
        stream.size_bytes = title.size_bytes;
        if (title.duration.count() > 0)
            stream.bitrate_bps =
                static_cast<std::int64_t>(static_cast<double>(title.size_bytes) * 8 / base::to_seconds(title.duration));
        if (const auto pieces = input->rate(title.number)) stream.curve = measure::RateCurve(*pieces);
        stream.whole = item.whole;
        if (item.hls) {
            WAVECREST_TRY_ASSIGN(hls, FilmHls::open(item.file, item.choice));
            stream.hls = std::move(hls);
        }
        if (!item.subtitles.empty()) {
            WAVECREST_TRY_ASSIGN(subtitles, read_subtitles(item.subtitles));
            stream.subtitles = std::move(subtitles);
        }
        ready.push_back(std::move(stream));
    }
    return ready;
}

Result<std::unique_ptr<Service>> Service::start(std::vector<ReadyStream> streams, const ServiceSettings& settings) {
    auto service = std::unique_ptr<Service>(new Service(std::move(streams), settings));
    net::HttpServerSettings http;
    http.address = settings.address;
    http.port = settings.port;
    http.further = settings.further;
    http.body_memory = settings.body_memory;
    http.on_event = settings.on_event;
    http.fan_out = settings.fan_out;
    Service* s = service.get();
    for (const auto& [prefix, answer] : settings.pages)
        s->router_.add(prefix, answer, [s](const net::HttpRequest& request) { return s->is_here("", request); });
    s->router_.add("", [s](const net::HttpRequest& request) { return s->answer(request); });
    http.answer = [s](const net::HttpRequest& request) { return s->router_.answer(request); };
    WAVECREST_TRY_ASSIGN(server, net::HttpServer::start(std::move(http)));
    service->server_ = std::move(server);
    return service;
}

net::HttpReply Service::nothing_there(const net::HttpRequest& request) const {
    std::string list = "No stream at this address. Streams on this port that need no key:\n";
    const auto is_listed = [&](const std::string& name) {
        return is_here(name, request) && (!settings_.is_listed || settings_.is_listed(name, request));
    };
    for (const ReadyStream& s : streams_) {
        if (!is_listed(s.name)) continue;
        if (s.whole) list += "  " + net::encode_path(s.path) + "\n";
        if (s.hls) list += "  " + net::encode_path(hls_path(s.path)) + "\n";
        if (s.ladder)
            list += "  " + net::encode_path(ladder_folder(s.path) + std::string(container::kLadderPlaylist)) + "\n";
        if (s.subtitles) list += "  " + net::encode_path(subtitles_path(s.path)) + "\n";
    }
    for (const auto& [path, name] : settings_.live_paths) {
        if (!is_listed(name)) continue;
        if (settings_.live->http_broadcast(name)) list += "  " + net::encode_path(live_path(path)) + "\n";
        if (settings_.live->hls(name)) list += "  " + net::encode_path(live_hls_path(path)) + "\n";
        if (settings_.live->ladder(name))
            list += "  " + net::encode_path(ladder_folder(path) + std::string(container::kLadderPlaylist)) + "\n";
    }
    return net::HttpReply::text(404, list);
}

net::HttpReply Service::answer(const net::HttpRequest& request) const {
    if (request.method != "GET") return net::HttpReply::text(405, "Only GET and HEAD are supported.\n");
    for (const ReadyStream& s : streams_) {
        if (!is_here(s.name, request)) continue;
        if (auto reply = answer_film(s, request)) return std::move(*reply);
        if (auto reply = answer_ladder(s, request)) return std::move(*reply);
    }
    for (const auto& [path, name] : settings_.live_paths) {
        if (!is_here(name, request)) continue;
        if (auto reply = answer_live(path, name, request)) return std::move(*reply);
        if (auto reply = answer_live_ladder(path, name, request)) return std::move(*reply);
    }
    return nothing_there(request);
}

net::HttpReply Service::let_in(const std::string& name, const net::HttpRequest& request,
                               const std::function<net::HttpReply()>& reply) const {
    if (settings_.lets_in && !settings_.lets_in(name, request))
        return net::HttpReply::text(403, "Access to this stream is denied.\n");
    return reply();
}

// Nothing where the request isn't for this stream.
std::optional<net::HttpReply> Service::answer_film(const ReadyStream& s, const net::HttpRequest& request) const {
    // Players keep a playlist's query to themselves: its segments get it written behind them.
    const std::string query = request.query.empty() ? "" : "?" + request.query;
    if (s.whole && request.path == s.path) {
        return let_in(s.name, request, [&] {
            net::HttpReply reply;
            reply.file = s.file;
            if (s.file.is_share()) reply.open_remote = [file = s.file] { return open_on_share(file); };
            reply.media_type = container::media_type(s.container);
            reply.name = s.name;
            return reply;
        });
    }
    if (s.subtitles && request.path == subtitles_path(s.path))
        return let_in(s.name, request,
                      [&] { return reply_with(s.subtitles->web_vtt, "text/vtt", s.name, "max-age=60"); });
    if (!s.hls) return std::nullopt;
    const std::string stem = stem_of(s.path);
    const std::string words = stem + "-subtitles.m3u8";
    if (s.subtitles && request.path == words) {
        return let_in(s.name, request, [&] {
            container::MediaPlaylist list;
            list.on_demand = list.ended = true;
            list.target_s = static_cast<std::int64_t>(std::ceil(base::to_seconds(s.duration)));
            list.segments.push_back({beside(subtitles_path(s.path)) + query, s.duration, false});
            return playlist_reply(container::write_playlist(list), s.name, false);
        });
    }
    const auto ask = parse_hls(request.path, stem);
    if (!ask) return std::nullopt;
    // With subtitles, the address is that of a list of both.
    container::MediaPlaylist list;
    if (s.subtitles) {
        Track beside_it;
        beside_it.kind = TrackKind::subtitle;
        beside_it.language = s.subtitles->language;
        add_rendition(list, beside_it, beside(words) + query);
    }
    add_text_subtitles(list, s.hls->text_subtitles(), stem, query);
    if (!list.subtitles.empty())
        list.variants.push_back({fmt::format("{}{}.m3u8{}", beside(stem), kFilm, query), bandwidth_of(s), "", true});
    if (ask->what == HlsAsk::What::film && list.variants.empty()) return std::nullopt;
    return let_in(s.name, request, [&] {
        net::HttpReply reply;
        reply.later = [hls = s.hls, ask = *ask, stem, query, list, name = s.name] {
            return answer_hls(*hls, ask, stem, query, list, name, false);
        };
        if (ask->what == HlsAsk::What::segment)
            hls_viewers_.asked({request.address, "", s.name, false}, "", ask->number, estimated_bytes(s, ask->number),
                               std::chrono::steady_clock::now(),
                               base::printable(request.field("User-Agent").substr(0, 200)));
        reply.later_from = s.file;
        return reply;
    });
}

// Pages and scripts of others may read a ladder: players in pages fetch it by script.
std::optional<net::HttpReply> Service::answer_ladder(const ReadyStream& s, const net::HttpRequest& request) const {
    const std::string folder = ladder_folder(s.path);
    if (!s.ladder || !request.path.starts_with(folder)) return std::nullopt;
    const std::string file = request.path.substr(folder.size());
    const std::string query = request.query.empty() ? "" : "?" + request.query;
    const auto found = s.ladder->answer(file, query);
    if (!found) return std::nullopt;
    return let_in(s.name, request, [&] {
        net::HttpReply reply;
        if (!found->file) {
            reply.later = [ladder = s.ladder, name = s.name, file, query] {
                const Status looked = ladder->look_again();
                const auto answer = ladder->answer(file, query);
                if (!looked || !answer)
                    return net::HttpReply::text(
                        looked ? 404 : 503, looked ? "There is nothing here any more.\n" : looked.error().what + "\n");
                return reply_with(Bytes(ByteVector(answer->text.begin(), answer->text.end())), answer->media_type, name,
                                  "no-cache");
            };
            reply.later_from = s.file;
        } else {
            reply.file = found->file;
            if (found->file->is_share()) reply.open_remote = [file = *found->file] { return open_on_share(file); };
            reply.media_type = found->media_type;
            reply.name = s.name;
        }
        return reply;
    });
}

std::optional<net::HttpReply> Service::answer_live_ladder(const std::string& path, const std::string& name,
                                                          const net::HttpRequest& request) const {
    const std::string folder = ladder_folder(path);
    if (!request.path.starts_with(folder)) return std::nullopt;
    const auto ladder = settings_.live->ladder(name);
    if (!ladder) return std::nullopt;
    return let_in(name, request, [&] {
        const std::string wanted = request.path.substr(folder.size());
        if (wanted == "index.html") {
            const auto page = render::ladder_page(name, std::string(container::kLadderPlaylist),
                                                  std::string(container::kLadderManifest));
            return page ? reply_with(Bytes(ByteVector(page->begin(), page->end())), "text/html; charset=utf-8", name,
                                     "no-cache")
                        : net::HttpReply::text(500, page.error().what + "\n");
        }
        const HlsViewers::Player player{request.address, viewer_in(request.query), name, true};
        const auto newest = ladder->newest(wanted);
        if (newest && !request.waited && hls_viewers_.has_listed(player, wanted, *newest)) {
            net::HttpReply waits;
            waits.wait_until = [ladder, wanted, newest] { return ladder->newest(wanted) != newest; };
            waits.wait_most = kLongestList;
            return waits;
        }
        std::string query = request.query.empty() ? "" : "?" + request.query;
        if (player.name.empty() && wanted == container::kLadderPlaylist) name_viewer(query);
        auto answer = ladder->answer(wanted, query);
        if (!answer)
            return net::HttpReply::text(answer.error().kind == ErrorKind::usage ? 404 : 503,
                                        fmt::format("{}: {}\n", answer.error().what, answer.error().remedy));
        const auto now = std::chrono::steady_clock::now();
        if (newest) hls_viewers_.listed(player, wanted, *newest, now);
        if (const auto segment = ladder->segment_of(wanted))
            hls_viewers_.asked(player, segment->playlist, segment->number, answer->body.size(), now);
        return reply_with(std::move(answer->body), answer->media_type, name,
                          answer->changes ? "no-cache" : "max-age=60");
    });
}

// A name for a player, in all addresses that its playlist leads to.
void Service::name_viewer(std::string& query) const {
    query += fmt::format("{}{}={}", query.empty() ? "?" : "&", kViewer, hls_viewers_.new_name());
}

// Nothing where the request isn't for this stream.
std::optional<net::HttpReply> Service::answer_live(const std::string& path, const std::string& name,
                                                   const net::HttpRequest& request) const {
    if (request.path == live_path(path)) {
        if (auto broadcast = settings_.live->http_broadcast(name)) {
            return let_in(name, request, [&] {
                net::HttpReply reply;
                reply.broadcast = std::move(broadcast);
                reply.media_type = "video/mp2t";
                reply.name = name;
                reply.cache_control = "no-store";
                return reply;
            });
        }
    }
    const auto hls = settings_.live->hls(name);
    if (!hls || !parse_hls(request.path, stem_of(live_hls_path(path)))) return std::nullopt;
    return let_in(name, request, [&] { return answer_live_hls(*hls, path, name, request); });
}

// The address of a live window is that of a list with one variant, in whose address a player finds a name of its own:
// its playlist and segments carry it on.
net::HttpReply Service::answer_live_hls(LiveHls& hls, const std::string& path, const std::string& name,
                                        const net::HttpRequest& request) const {
    const std::string stem = stem_of(live_hls_path(path));
    const HlsAsk ask = *parse_hls(request.path, stem);
    const HlsViewers::Player player{request.address, viewer_in(request.query), name, true};
    if (player.name.empty() && ask.what == HlsAsk::What::entry && !request.waited) {
        net::HttpReply waits;
        waits.wait_until = [live = settings_.live, name] { return live->listed_for_join(name); };
        waits.wait_most = kLongestJoin;
        return waits;
    }
    if (ask.what == HlsAsk::What::film) {
        // A player that has the list as it is gets the next one when there is one: asking every target duration it
        // would hear of a segment up to so much later.
        const std::uint64_t newest = hls.newest();
        net::HttpReply waits;
        if (!request.waited && hls_viewers_.has_listed(player, "", newest)) {
            waits.wait_until = [held = settings_.live->hls(name), newest] { return held->newest() != newest; };
            waits.wait_most = kLongestList;
            return waits;
        }
        if (!request.waited && hls_viewers_.is_known(player) && !settings_.live->listed_for_poll(name)) {
            waits.wait_until = [live = settings_.live, name] { return live->listed_for_poll(name); };
            waits.wait_most = kLongestPoll;
            return waits;
        }
        hls_viewers_.listed(player, "", newest, std::chrono::steady_clock::now());
    }
    std::string query = request.query.empty() ? "" : "?" + request.query;
    if (player.name.empty() && ask.what == HlsAsk::What::entry) name_viewer(query);
    container::MediaPlaylist list;
    add_text_subtitles(list, hls.text_subtitles(), stem, query);
    list.variants.push_back({fmt::format("{}{}.m3u8{}", beside(stem), kFilm, query),
                             std::max<std::int64_t>(hls.peak_bps(), 1), "", !list.subtitles.empty()});
    net::HttpReply reply = answer_hls(hls, ask, stem, query, list, name, true);
    if (ask.what == HlsAsk::What::segment && reply.status == 200)
        hls_viewers_.asked(player, "", ask.number, reply.body.size(), std::chrono::steady_clock::now());
    return reply;
}

namespace {

// Up to which a film is there that has arrived so far.
Time time_at(const ReadyStream& stream, std::uint64_t offset) {
    // The index comes first in the file, then pictures and audio in the order of their times.
    const std::uint64_t media = stream.curve.bytes();
    const std::uint64_t index = stream.size_bytes > media ? stream.size_bytes - media : 0;
    return stream.curve.time_of(offset > index ? offset - index : 0);
}

}  // namespace

std::vector<measure::ViewerSight> Service::sights() const {
    const net::ServerStatus server = server_->status();
    std::vector<measure::ViewerSight> all;
    const auto stream_of = [&](const std::string& name) {
        return std::find_if(streams_.begin(), streams_.end(), [&](const ReadyStream& s) { return s.name == name; });
    };
    for (const net::ClientStatus& client : server.clients) {
        const auto stream = client.of_file && !client.live ? stream_of(client.latest) : streams_.end();
        // (Subtitles and the like are files, too, but not of this size.)
        if (stream == streams_.end() || client.size != stream->size_bytes) continue;
        measure::ViewerSight sight{client.address, client.agent, stream->name};
        const std::uint64_t arrived = client.offset - std::min(client.offset, client.waiting);
        sight.from = time_at(*stream, client.first);
        sight.until = time_at(*stream, std::max(arrived, client.first));
        sight.is_active = !client.name.empty() || client.waiting > 0;
        sight.wants = sight.is_active && (client.takes || client.waiting == 0);
        sight.duration = stream->duration;
        all.push_back(std::move(sight));
    }
    for (const HlsViewers::One& one : hls_viewers_.watching(std::chrono::steady_clock::now())) {
        const auto stream = one.live ? streams_.end() : stream_of(one.stream);
        if (stream == streams_.end() || !stream->hls) continue;
        measure::ViewerSight sight{one.address, one.agent, one.stream};
        sight.hls = true;
        // A segment is there when nothing is on its way to this address any more.
        sight.wants = std::any_of(server.clients.begin(), server.clients.end(), [&](const net::ClientStatus& client) {
            return client.address == one.address && client.latest == one.stream && !client.of_file &&
                   (!client.name.empty() || client.waiting > 0);
        });
        // (It is made first, which takes a moment in which nothing is sent yet.)
        sight.wants = sight.wants || one.quiet < base::from_seconds(0.3);
        const auto before = [&](std::uint64_t number) { return number > 0 ? stream->hls->end_of(number - 1) : Time{}; };
        sight.from = before(one.first);
        sight.until = sight.wants ? before(one.segment) : stream->hls->end_of(one.segment);
        sight.is_active = sight.wants || one.quiet < base::from_seconds(1);
        sight.duration = stream->duration;
        all.push_back(std::move(sight));
    }
    if (settings_.fan_out == nullptr) return all;
    const LiveFigures figures = settings_.live != nullptr ? settings_.live->figures() : LiveFigures{};
    for (const net::FanOutClient& client : settings_.fan_out->clients()) {
        if (!client.from) continue;
        measure::ViewerSight sight{client.address, client.agent, client.name};
        sight.live = client.id;
        sight.from = *client.from;
        sight.until = client.until;
        sight.lag = client.lag;
        sight.skips = client.skips;
        // Who is sent all there is of a stream that stands still isn't short of anything.
        sight.wants =
            !client.paused && std::none_of(figures.streams.begin(), figures.streams.end(), [&](const LiveStatus& one) {
                return one.name == client.name && (one.state == LiveStatus::State::paused || one.ended);
            });
        all.push_back(std::move(sight));
    }
    return all;
}

ServiceStatus Service::status() const {
    const net::ServerStatus server = server_->status();
    ServiceStatus status{server.uptime, server.sent, server.requests, server.clients.size(), {}, server_->hung_disks()};
    if (settings_.fan_out != nullptr) {
        status.sent += settings_.fan_out->sent();
        for (const net::FanOutClient& client : settings_.fan_out->clients())
            status.viewers.push_back({client.id,
                                      client.address,
                                      client.name,
                                      {},
                                      {},
                                      client.sent,
                                      false,
                                      true,
                                      client.lag,
                                      client.skips,
                                      client.connected});
    }
    for (const HlsViewers::One& one : hls_viewers_.watching(std::chrono::steady_clock::now())) {
        Viewer viewer;
        viewer.id = kFirstHlsViewer + one.id;
        viewer.address = one.address;
        viewer.stream = one.stream;
        viewer.sent = one.sent;
        viewer.live = one.live;
        viewer.hls = true;
        viewer.connected = one.connected;
        const auto stream =
            std::find_if(streams_.begin(), streams_.end(), [&](const ReadyStream& s) { return s.name == one.stream; });
        if (one.live && settings_.live != nullptr) {
            if (const auto hls = settings_.live->hls(one.stream)) {
                viewer.lag = hls->behind(one.segment).value_or(Time{});
            } else if (const auto ladder = settings_.live->ladder(one.stream)) {
                viewer.lag = ladder->behind(one.segment).value_or(Time{});
            }
        } else if (stream != streams_.end() && stream->hls) {
            viewer.position = stream->hls->end_of(one.segment);
            viewer.duration = stream->duration;
        }
        status.viewers.push_back(std::move(viewer));
    }
    for (const net::ClientStatus& client : server.clients) {
        // (Segments are fetched by those above.)
        if (client.name.empty() || client.live || !client.of_file) continue;
        const auto stream =
            std::find_if(streams_.begin(), streams_.end(), [&](const ReadyStream& s) { return s.name == client.name; });
        Viewer viewer;
        viewer.id = client.id;
        viewer.address = client.address;
        viewer.stream = client.name;
        viewer.sent = client.sent;
        viewer.connected = client.connected;
        if (stream != streams_.end() && client.size > 0) {
            viewer.duration = stream->duration;
            viewer.position =
                stream->ladder ? stream->ladder->time_at(client.size, client.offset) : time_at(*stream, client.offset);
        }
        status.viewers.push_back(std::move(viewer));
    }
    return status;
}

}  // namespace wavecrest::stream
