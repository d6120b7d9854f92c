#include "stream/service.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>
#include <cmath>

#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "container/subtitle_text.hpp"
#include "container/ts_mux.hpp"
#include "media/language.hpp"
#include "net/http_client.hpp"
#include "source/input.hpp"

namespace wavecrest::stream {
namespace {

std::string media_type(const std::string& container) {
    static constexpr std::pair<std::string_view, std::string_view> kTypes[] = {
        {"mp4", "video/mp4"},      {"matroska", "video/x-matroska"}, {"webm", "video/webm"}, {"mpeg-ts", "video/mp2t"},
        {"mpeg-ps", "video/mpeg"}, {"avi", "video/x-msvideo"},       {"flv", "video/x-flv"}, {"ogg", "application/ogg"},
        {"mp3", "audio/mpeg"},     {"flac", "audio/flac"},           {"wav", "audio/wav"},   {"adts", "audio/aac"}};
    for (const auto& [name, type] : kTypes) {
        if (name == container) return std::string(type);
    }
    return "application/octet-stream";
}

// RFC 8216, 4.
constexpr std::string_view kPlaylistType = "application/vnd.apple.mpegurl";

// The number in "STEM-12.ts".
std::optional<std::uint64_t> segment_number(const std::string& path, const std::string& stem) {
    if (!path.starts_with(stem + "-") || !path.ends_with(".ts")) return std::nullopt;
    const char* const from = path.data() + stem.size() + 1;
    const char* const end = path.data() + path.size() - 3;
    std::uint64_t number = 0;
    const auto [rest, error] = std::from_chars(from, end, number);
    if (error != std::errc{} || rest != end || from == end) return std::nullopt;
    return number;
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

}  // namespace

std::string default_path(const std::string& name, const base::Path& file) {
    std::string path = "/";
    for (const char c : name) {
        const auto u = static_cast<unsigned char>(c);
        if (std::isalnum(u) != 0) {
            path += static_cast<char>(std::tolower(u));
        } else if (path.back() != '-' && path.back() != '/') {
            path += '-';
        }
    }
    while (path.size() > 1 && path.back() == '-') path.pop_back();
    return path + file.extension().string();
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

std::string address_for(const std::string& host, std::uint16_t port, const std::string& path, bool secure) {
    net::Url url;
    url.host = host;
    url.port = port;
    url.target = net::encode_path(path);
    url.secure = secure;
    return url.text();
}

Result<StreamSubtitles> read_subtitles(const base::Path& file) {
    WAVECREST_TRY_ASSIGN(opened, base::FileSource::open(file));
    WAVECREST_TRY_ASSIGN(media, container::open_media(std::make_shared<base::FileSource>(std::move(opened))));
    if (media.container != "srt" && media.container != "webvtt")
        return fail(ErrorKind::input, "these are no subtitles of text", file.string(), "name an SRT or WebVTT file");
    StreamSubtitles subtitles;
    const std::string before = file.stem().extension().string();
    if (before.size() == 3 || before.size() == 4) subtitles.language = before.substr(1);
    std::vector<Packet> cues;
    while (true) {
        WAVECREST_TRY_ASSIGN(cue, media.source->read());
        if (!cue) break;
        cues.push_back(std::move(*cue));
    }
    std::string text = container::write_web_vtt(cues);
    // Where the text's clock stands on that of the transport packets (RFC 8216, 3.5).
    text.insert(text.find('\n') + 1, fmt::format("X-TIMESTAMP-MAP=MPEGTS:{},LOCAL:00:00:00.000\n",
                                                 base::to_ticks(container::kTransportStart, 90'000)));
    const ByteSpan bytes = base::as_bytes(text);
    subtitles.web_vtt = Bytes(ByteVector(bytes.begin(), bytes.end()));
    return subtitles;
}

Result<std::vector<ReadyStream>> prepare(const std::vector<StreamItem>& items) {
    std::vector<ReadyStream> ready;
    for (const StreamItem& item : items) {
        WAVECREST_TRY_ASSIGN(input, source::open_input(item.file));
        if (input->is_disc()) {
            return fail(ErrorKind::input, "a disc rip can't be streamed as it is", item.file.string(),
                        "convert it first (wavecrest convert), then stream the file it makes");
        }
        const source::Title& title = input->titles().front();
        ReadyStream stream;
        stream.name = item.name;
        stream.file = item.file;
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
            WAVECREST_TRY_ASSIGN(hls, FilmHls::open(item.file, item.sound));
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
    http.on_event = settings.on_event;
    http.fan_out = settings.fan_out;
    http.answer = [s = service.get()](const net::HttpRequest& request) { return s->answer(request); };
    WAVECREST_TRY_ASSIGN(server, net::HttpServer::start(std::move(http)));
    service->server_ = std::move(server);
    return service;
}

net::HttpReply Service::nothing_there(const net::HttpRequest& request) const {
    std::string list = "There is no stream at this address. Those at this port:\n";
    for (const ReadyStream& s : streams_) {
        if (!is_here(s.name, request)) continue;
        if (s.whole) list += "  " + net::encode_path(s.path) + "\n";
        if (s.hls) list += "  " + net::encode_path(hls_path(s.path)) + "\n";
        if (s.subtitles) list += "  " + net::encode_path(subtitles_path(s.path)) + "\n";
    }
    for (const auto& [path, name] : settings_.live_paths) {
        if (!is_here(name, request)) continue;
        if (settings_.live->http_flow(name)) list += "  " + net::encode_path(live_path(path)) + "\n";
        if (settings_.live->hls(name)) list += "  " + net::encode_path(live_hls_path(path)) + "\n";
    }
    return net::HttpReply::text(404, list);
}

net::HttpReply Service::answer(const net::HttpRequest& request) const {
    if (settings_.control && is_here("", request) &&
        (request.path == kControlPath || request.path.starts_with(std::string(kControlPath) + "/")))
        return settings_.control(request);
    if (request.method != "GET") return net::HttpReply::text(405, "This server only serves: GET and HEAD.\n");
    const auto may = [&](const std::string& name) { return !settings_.lets_in || settings_.lets_in(name, request); };
    // Players keep a playlist's query to themselves: its segments get it written behind them.
    const std::string query = request.query.empty() ? "" : "?" + request.query;
    const auto refuse = [] { return net::HttpReply::text(403, "This stream is not for this device.\n"); };
    for (const ReadyStream& s : streams_) {
        if (!is_here(s.name, request)) continue;
        if (s.whole && request.path == s.path) {
            if (!may(s.name)) return refuse();
            net::HttpReply reply;
            reply.file = s.file;
            reply.media_type = media_type(s.container);
            reply.name = s.name;
            return reply;
        }
        const std::string stem = stem_of(s.path);
        if (s.subtitles && request.path == subtitles_path(s.path))
            return may(s.name) ? reply_with(s.subtitles->web_vtt, "text/vtt", s.name, "max-age=60") : refuse();
        if (!s.hls) continue;
        // With subtitles, the address is that of a list of both.
        const std::string film = s.subtitles ? stem + "-film.m3u8" : hls_path(s.path);
        const std::string words = stem + "-subtitles.m3u8";
        if (s.subtitles && (request.path == hls_path(s.path) || request.path == words)) {
            if (!may(s.name)) return refuse();
            const auto name_of = [&](const std::string& path) {
                return net::encode_path(path.substr(path.rfind('/') + 1)) + query;
            };
            container::MediaPlaylist list;
            if (request.path == words) {
                list.on_demand = list.ended = true;
                list.target_s = static_cast<std::int64_t>(std::ceil(base::to_seconds(s.duration)));
                list.segments.push_back({name_of(subtitles_path(s.path)), s.duration, false});
            } else {
                // Packing into transport packets takes a tenth at most.
                const std::int64_t rate = std::max(s.curve.peak_bps(base::from_seconds(6)), s.bitrate_bps);
                list.variants.push_back({name_of(film), std::max<std::int64_t>(rate + rate / 10, 1), "", true});
                const std::string language =
                    s.subtitles->language.empty() ? "Subtitles" : media::language_name(s.subtitles->language);
                list.subtitles.push_back({name_of(words), language, s.subtitles->language});
            }
            return playlist_reply(container::write_playlist(list), s.name, false);
        }
        const auto failed = [](const Error& error) {
            return net::HttpReply::text(error.kind == ErrorKind::usage ? 404 : 503, error.what + "\n");
        };
        if (request.path == film) {
            if (!may(s.name)) return refuse();
            net::HttpReply reply;
            reply.later = [hls = s.hls, name = s.name, stem, query, failed] {
                auto text = hls->playlist(net::encode_path(stem.substr(stem.rfind('/') + 1)), query);
                return text ? playlist_reply(std::move(*text), name, false) : failed(text.error());
            };
            return reply;
        }
        if (const auto number = segment_number(request.path, stem)) {
            if (!may(s.name)) return refuse();
            net::HttpReply reply;
            reply.later = [hls = s.hls, name = s.name, number = *number, failed] {
                auto bytes = hls->segment(static_cast<std::size_t>(number));
                return bytes ? reply_with(std::move(*bytes), "video/mp2t", name, "max-age=60") : failed(bytes.error());
            };
            return reply;
        }
    }
    for (const auto& [path, name] : settings_.live_paths) {
        if (!is_here(name, request)) continue;
        if (request.path == live_path(path)) {
            if (auto flow = settings_.live->http_flow(name)) {
                if (!may(name)) return refuse();
                net::HttpReply reply;
                reply.flow = std::move(flow);
                reply.media_type = "video/mp2t";
                reply.name = name;
                reply.cache_control = "no-store";
                return reply;
            }
        }
        const auto hls = settings_.live->hls(name);
        if (!hls) continue;
        const std::string stem = stem_of(live_hls_path(path));
        if ((request.path == live_hls_path(path) || segment_number(request.path, stem)) && !may(name)) return refuse();
        if (request.path == live_hls_path(path)) {
            auto text = hls->playlist(net::encode_path(stem.substr(stem.rfind('/') + 1)), query);
            if (text) return playlist_reply(std::move(*text), name, true);
            return net::HttpReply::text(503, "The stream has just begun: ask again in a few seconds.\n");
        }
        if (const auto number = segment_number(request.path, stem)) {
            const auto bytes = hls->segment(*number);
            if (bytes) return reply_with(*bytes, "video/mp2t", name, "max-age=60");
            return net::HttpReply::text(404, "This segment is gone: ask for the playlist.\n");
        }
    }
    return nothing_there(request);
}

ServiceStatus Service::status() const {
    const net::ServerStatus server = server_->status();
    ServiceStatus status{server.uptime, server.sent, server.requests, server.clients.size(), {}};
    if (settings_.fan_out != nullptr) {
        status.sent += settings_.fan_out->sent();
        for (const net::FanOutClient& client : settings_.fan_out->clients())
            status.viewers.push_back({client.id,
                                      client.address,
                                      client.name,
                                      {},
                                      {},
                                      client.sent,
                                      true,
                                      client.lag,
                                      client.skips,
                                      client.connected});
    }
    for (const net::ClientStatus& client : server.clients) {
        if (client.name.empty() || client.live) continue;
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
            // The index comes first in the file, then pictures and sound in the order of their times.
            const std::uint64_t media = stream->curve.bytes();
            const std::uint64_t index = stream->size_bytes > media ? stream->size_bytes - media : 0;
            viewer.position = stream->curve.time_of(client.offset > index ? client.offset - index : 0);
        }
        status.viewers.push_back(std::move(viewer));
    }
    return status;
}

}  // namespace wavecrest::stream
