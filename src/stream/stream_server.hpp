// All of a house's streams at work in one process: files and HLS on demand, live streams by HTTP, HLS, UDP, RTP and
// RTMP, and what others publish here. Prepared before anything listens; watched and steered while it runs.
#pragma once

#include <functional>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "net/http_server.hpp"
#include "net/rtmp_server.hpp"
#include "net/tls.hpp"
#include "stream/live.hpp"
#include "stream/service.hpp"
#include "stream/stream_item.hpp"

namespace wavecrest::stream {

struct StreamServerSettings {
    std::string address;  // to listen on; empty: all
    std::uint16_t http_port = net::kDefaultHttpPort;
    bool http = true;  // else it listens on loopback only, for its controls
    std::uint16_t rtmp_port = net::kDefaultRtmpPort;
    std::optional<net::CertificateFiles> certificate;  // with it, what goes by HTTP goes by HTTPS, too
    std::uint16_t tls_port = net::kDefaultTlsPort;
    net::UdpSettings udp;
    // Bytes that connections may hold in all: two thirds for bodies of segments on their way, one for RTMP messages
    // that aren't complete.
    std::size_t memory = 144 << 20;
    std::string announced;  // the address devices are told, where it is said: the controls answer to it, too
    std::string token;      // for controls; empty: there are none
    // Pages beside the streams and the controls: each answers its path and all below it.
    std::vector<std::pair<std::string, net::HttpAnswer>> pages;
    std::function<void(const std::string& line)> on_line;  // for people, from any thread, one at a time
};
// Keys are no shorter: characters.
inline constexpr std::size_t kShortestKey = 8;
// A key in a file of its own: the first line, without blanks around it.
Result<std::string> read_key(const base::Path& file);

struct ViewerStatus : Viewer {
    double rate_bps = 0;     // in the last seconds
    std::size_t stalls = 0;  // of those who fetch a film for themselves, as far as can be seen from here
    Time stalled{};
};
struct StreamStatus {
    std::string name;
    bool live = false;
    LiveStatus status;    // of live ones
    double rate_bps = 0;  // made (live) or sent (others), in the last seconds
    double rate_minute_bps = 0;
    bool published = false;         // its source is what somebody publishes here
    std::string published_by;       // the address; empty: nobody publishes
    std::vector<std::string> push;  // "rtmp://...: publishing since ...", one for each server
};
struct StreamServerStatus {
    Time uptime{};
    std::uint64_t sent = 0;
    std::uint64_t requests = 0;
    std::size_t connections = 0;
    double processor = 0;  // of one core, in the last seconds
    std::vector<StreamStatus> streams;
    std::vector<ViewerStatus> viewers;
    Time late_99{}, latest{};  // of datagrams
    bool real_time = false;
    std::vector<host::HungDisk> hung;  // drives and shares that don't answer
};

struct ReadyServer {
    std::vector<ServedStream> items;
    std::vector<ReadyStream> on_demand;
    std::vector<ReadyLive> live;
};
// Opens every source; errors as of prepare() and prepare_live().
Result<ReadyServer> prepare_server(std::vector<ServedStream> items);

class StreamServer {
  public:
    static Result<std::unique_ptr<StreamServer>> start(ReadyServer ready, StreamServerSettings settings);
    // Ends everything at once.
    ~StreamServer();

    std::uint16_t http_port() const;  // of its controls, at least
    ServerPorts ports() const;
    const std::string& announced_host() const;
    const std::vector<ServedStream>& items() const;
    const std::vector<ReadyStream>& on_demand() const;  // of them
    std::vector<StreamAddress> addresses(const std::string& host) const;
    StreamServerStatus status() const;
    // How those fare or fared who fetch films for themselves.
    std::vector<measure::Viewing> viewings() const;
    // Every live stream has ended and nothing else is served.
    bool ended() const;

    // These act for everybody who watches; false where there is no live stream of this name that runs.
    // How long viewers of a stream's live HLS see what is sent to others after them, as far as it can be told; 0 where
    // there is none.
    Time hls_latency(const std::string& name) const;
    bool pause(const std::string& name, bool paused);
    bool order_seek(const std::string& name, const Playout::SeekOrder& seek);
    bool stop(const std::string& name);

  private:
    struct State;
    explicit StreamServer(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::stream
