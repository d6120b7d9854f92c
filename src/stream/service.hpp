// What is served over HTTP: files, HLS made of them, and live streams; checked before anything listens, then served,
// with figures while it runs.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/file.hpp"
#include "base/result.hpp"
#include "measure/rate.hpp"
#include "measure/viewing.hpp"
#include "net/http_router.hpp"
#include "net/http_server.hpp"
#include "stream/film_hls.hpp"
#include "stream/film_ladder.hpp"
#include "stream/hls_viewers.hpp"
#include "stream/live.hpp"

namespace wavecrest::stream {

struct StreamItem {
    std::string name;
    base::Address file;
    std::string path;      // of the URL; empty: made from the name and the file's extension
    bool whole = true;     // the file itself
    bool hls = false;      // HLS on demand
    bool ladder = false;   // `file` is a ladder's folder, and that is all
    base::Path subtitles;  // a file of text beside it; empty: none
    TrackChoice choice;    // of HLS
};

// Subtitles that go with a stream.
struct StreamSubtitles {
    std::string language;  // as the file's name tells it ("lake.en.srt"); empty: not told
    Bytes web_vtt;
};
// Reads an SRT or WebVTT file. Errors as of container::open_media(), and kind input for anything else.
Result<StreamSubtitles> read_subtitles(const base::Path& file);

// A file on a share, for net::HttpReply::open_remote.
Result<net::RemoteFile> open_on_share(const base::Address& file);

// A stream that was found fit to be served.
struct ReadyStream {
    std::string name;
    base::Address file;
    std::string path;
    std::string container;
    Time duration{};
    std::uint64_t size_bytes = 0;
    std::int64_t bitrate_bps = 0;  // mean
    measure::RateCurve curve;      // bytes over the title's time
    bool whole = true;
    std::shared_ptr<FilmHls> hls;        // null: not offered
    std::shared_ptr<FilmLadder> ladder;  // null: it is none
    std::optional<StreamSubtitles> subtitles;
};

// The path a stream gets when none is given: "/lanterns.mp4".
std::string default_path(const std::string& name, const base::Address& file);
// A path without its extension.
std::string stem_of(const std::string& path);
// The paths of a stream's other forms, by that of its file: "/lanterns.m3u8", "/lanterns-live.ts",
// "/lanterns-live.m3u8".
std::string hls_path(const std::string& path);
std::string subtitles_path(const std::string& path);  // "/lanterns.vtt"
std::string live_path(const std::string& path);
std::string live_hls_path(const std::string& path);
std::string ladder_folder(const std::string& path);  // "/lanterns-ladder/"
// The address to enter on a device.
std::string address_for(const std::string& host, std::uint16_t port, const std::string& path, bool secure = false);

// Opens every file and reads its index. Fails on the first that is missing, unreadable or no media file.
Result<std::vector<ReadyStream>> prepare(const std::vector<StreamItem>& items);

struct ServiceSettings {
    std::string address;  // to listen on; empty: all
    std::uint16_t port = net::kDefaultHttpPort;
    std::vector<std::uint16_t> further;  // ports to listen at, too
    std::size_t body_memory = 96 << 20;  // as of HttpServerSettings
    std::function<void(const net::ServerEvent&)> on_event;
    // Live streams that are given over HTTP, by the path of their file's form; what they are is asked of `live`, which,
    // with the fan-out, must outlive the service.
    std::vector<std::pair<std::string, std::string>> live_paths;  // path, name
    const LiveService* live = nullptr;
    net::FanOut* fan_out = nullptr;
    // Whether a stream (its name empty: the pages) is at the port a request came to; null: all are at all.
    std::function<bool(const std::string& name, const net::HttpRequest& request)> is_here;
    // Whether a request may have a stream; null: all may.
    std::function<bool(const std::string& name, const net::HttpRequest& request)> lets_in;
    // Whether a stream is named to a request for what isn't there; null: all are.
    std::function<bool(const std::string& name, const net::HttpRequest& request)> is_listed;
    // Pages beside the streams: each answers its path and all below it ("/control").
    std::vector<std::pair<std::string, net::HttpAnswer>> pages;
};
inline constexpr std::string_view kControlPath = "/control";

inline constexpr std::uint64_t kFirstHlsViewer = std::uint64_t{1} << 60;

// A client with its place in the title.
struct Viewer {
    std::uint64_t id = 0;  // of its connection: of live ones, of the others; of HLS beyond kFirstHlsViewer
    std::string address;
    std::string stream;
    Time position{};  // up to which it was sent; some of it still waits in the network's and the player's buffers
    Time duration{};
    std::uint64_t sent = 0;
    bool hls = false;         // it fetches segments
    bool live = false;        // then position and duration are the stream's, and are not told here
    Time lag{};               // behind the newest that is sent (live)
    std::uint64_t skips = 0;  // how often it was too slow and moved on (live)
    Time connected{};
};

struct ServiceStatus {
    Time uptime{};
    std::uint64_t sent = 0;
    std::uint64_t requests = 0;
    std::size_t connections = 0;
    std::vector<Viewer> viewers;  // connections a body is being sent on
    std::vector<host::HungDisk> hung;
};

class Service {
  public:
    static Result<std::unique_ptr<Service>> start(std::vector<ReadyStream> streams, const ServiceSettings& settings);
    std::uint16_t port() const { return server_->port(); }
    net::HttpServer& server() { return *server_; }
    const std::vector<ReadyStream>& streams() const { return streams_; }
    ServiceStatus status() const;
    // What those have on their way who fetch a film for themselves (measure/viewing.hpp).
    std::vector<measure::ViewerSight> sights() const;

  private:
    Service(std::vector<ReadyStream> streams, ServiceSettings settings)
        : streams_(std::move(streams)), settings_(std::move(settings)) {}
    net::HttpReply answer(const net::HttpRequest& request) const;
    bool is_here(const std::string& name, const net::HttpRequest& request) const {
        return !settings_.is_here || settings_.is_here(name, request);
    }
    // The reply, where who asks may have the stream.
    net::HttpReply let_in(const std::string& name, const net::HttpRequest& request,
                          const std::function<net::HttpReply()>& reply) const;
    std::optional<net::HttpReply> answer_film(const ReadyStream& stream, const net::HttpRequest& request) const;
    std::optional<net::HttpReply> answer_ladder(const ReadyStream& stream, const net::HttpRequest& request) const;
    std::optional<net::HttpReply> answer_live_ladder(const std::string& path, const std::string& name,
                                                     const net::HttpRequest& request) const;
    std::optional<net::HttpReply> answer_live(const std::string& path, const std::string& name,
                                              const net::HttpRequest& request) const;
    net::HttpReply nothing_there(const net::HttpRequest& request) const;
    void name_viewer(std::string& query) const;
    net::HttpReply answer_live_hls(LiveHls& hls, const std::string& path, const std::string& name,
                                   const net::HttpRequest& request) const;

    std::vector<ReadyStream> streams_;
    ServiceSettings settings_;
    net::HttpRouter router_;
    mutable HlsViewers hls_viewers_;
    std::unique_ptr<net::HttpServer> server_;
};

}  // namespace wavecrest::stream
