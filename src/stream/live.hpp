// Files sent as live streams: transport packets in UDP datagrams, plain or as RTP, on the clock of the material.
// One thread sends for all streams; one per stream reads and multiplexes ahead of it.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "media/types.hpp"
#include "net/udp.hpp"

namespace wavecrest::stream {

struct LiveTarget {
    net::UdpAddress to;
    bool rtp = false;  // RFC 2250; else plain datagrams
};

// The address to enter on a device: "udp://239.20.0.1:5004", "rtp://...".
std::string address_for(const LiveTarget& target);

struct LiveItem {
    std::string name;
    base::Path file;
    std::vector<LiveTarget> targets;
    bool loop = false;
    std::int64_t rate_bps = 0;  // constant, null packets filling it; 0: as the material needs
};

// A stream that was found fit to be sent.
struct ReadyLive {
    LiveItem item;
    Time duration{};                 // of the material; 0: not known
    std::vector<Track> tracks;       // that are sent
    std::vector<std::string> notes;  // what is left out and why
};
// Opens every file. Fails on the first that is missing or has no picture or sound that transport streams hold (kind
// input), and on two streams to one address (kind usage).
Result<std::vector<ReadyLive>> prepare_live(const std::vector<LiveItem>& items);

struct LiveStatus {
    std::string name;
    Time position{};                         // in the material
    std::uint64_t rounds = 0;                // how often it began anew
    std::uint64_t datagrams = 0, bytes = 0;  // of transport packets, to each target
    std::uint64_t refused = 0;               // datagrams the system didn't take: no way there, no room
    std::uint64_t stalls = 0;                // times that the source came too late
    bool ended = false;
    std::string error;  // that ended it; empty
};
struct LiveFigures {
    std::vector<LiveStatus> streams;
    Time late_99{}, latest{};  // how late datagrams were sent: the 99th percentile and the worst
    bool real_time = false;    // the system granted real-time scheduling
};

class LiveService {
  public:
    static Result<std::unique_ptr<LiveService>> start(std::vector<ReadyLive> streams, const net::UdpSettings& udp);
    // Ends at once.
    ~LiveService();
    LiveFigures figures() const;
    bool ended() const;  // all streams are
    // Forgets how late datagrams were so far: starting isn't running.
    void restart_lateness();

  private:
    struct State;
    explicit LiveService(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::stream
