// One stream of a server: what it plays, how it goes out, and the addresses where it is then to be had.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "device/device.hpp"
#include "net/networks.hpp"
#include "net/rtmp_client.hpp"
#include "stream/live.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::stream {

// Ways a stream goes out besides UDP.
struct Deliveries {
    bool file = false;      // the file itself over HTTP: every viewer pauses and skips for themselves
    bool hls = false;       // HLS of the file, likewise
    bool live = false;      // one endless body over HTTP: the same for everybody
    bool live_hls = false;  // HLS with a short window
    bool rtmp = false;      // for RTMP players
    // Several bit rates for HLS and DASH: of a ladder's folder on demand, of all else encoded live.
    bool ladder = false, live_ladder = false;

    bool any_live() const { return live || live_hls || rtmp || live_ladder; }
    bool any() const { return file || hls || ladder || any_live(); }
    bool by_http() const { return file || hls || live || live_hls || ladder || live_ladder; }
};
// "file", "hls", "ladder", "live", "live-hls", "rtmp". Kind usage for others. (Whether a ladder is live hangs on its
// source.)
Status add_delivery(Deliveries& deliveries, const std::string& word);
std::vector<std::string> names_of(const Deliveries& deliveries);

// TCP ports. 0: it doesn't listen for that; of a stream: it has none of its own, and is at the server's.
struct ServerPorts {
    std::uint16_t http = 0, tls = 0, rtmp = 0;
};

struct ServedStream {
    std::string name;
    std::vector<Part> parts;  // empty: what somebody publishes here by RTMP
    std::string path;         // of the URL; empty: made from the name
    ServerPorts ports;        // of its own: it is there and nowhere else
    base::Path subtitles;     // a file of text that goes with it (file and hls); empty: none
    Deliveries deliveries;
    std::vector<LiveTarget> targets;
    std::vector<net::RtmpAddress> push;  // servers it is published to
    bool loop = false;
    std::int64_t rate_bps = 0;
    std::optional<transcode::GraphSettings> transcode;         // of live ways
    std::optional<LadderTracks> ladder;                        // of a live ladder: what `transcode` makes
    std::function<Result<LiveEncode>(const Part& part)> plan;  // of what is published, for both: see LiveItem
    std::string publish_key;                                   // with it somebody may publish
    net::Networks from;                                        // who may have it; empty: everybody
    std::string key;                                           // that viewers must add as ?key=...; empty: none

    bool published() const { return parts.empty(); }
    bool is_live() const { return published() || deliveries.any_live() || !targets.empty() || !push.empty(); }
};

// RTMP streams are at rtmp://HOST/kRtmpApplication/NAME.
inline constexpr std::string_view kRtmpApplication = "house";
// The stream's name in RTMP addresses: "lanterns".
std::string rtmp_name(const std::string& path);

// Where a stream is to be had.
struct StreamAddress {
    std::string stream;
    // "file", "hls", "ladder", "ladder-dash", "subtitles", "live", "live-hls", "rtmp", "udp", "rtp"
    std::string delivery;
    std::string address;  // to enter
};

// All of one stream's. What is to be had by HTTPS and HTTP is in it twice, HTTPS first.
std::vector<StreamAddress> addresses_of(const ServedStream& item, const std::string& host, ServerPorts ports);
// The protocol it is had by: "http", "https", "hls", "rtmp", "udp" or "rtp".
std::string protocol_of(const StreamAddress& address);
// What it is packed in: "mpeg-ts", or empty where that is the file's or the protocol's own.
std::string container_of(const StreamAddress& address);
// Those of them a device is given: by protocols it takes, in containers it reads, HTTPS where it can. All of them,
// where it takes none.
std::vector<StreamAddress> addresses_for(const device::Device& device, std::vector<StreamAddress> addresses);

}  // namespace wavecrest::stream
