// Live streams: files, discs and lists played on a clock of their own, the same moment for everybody. One reading (or
// one encode) serves all ways a stream goes out: transport packets in UDP datagrams, plain or as RTP; one endless body
// over HTTP; HLS with a short window; RTMP.
//
// One thread sends datagrams for all streams, one publishes to connected clients, one per stream reads and multiplexes
// ahead of them.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "base/time.hpp"
#include "media/types.hpp"
#include "net/fan_out.hpp"
#include "net/udp.hpp"
#include "stream/live_hls.hpp"
#include "stream/live_ladder.hpp"
#include "stream/playout.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::stream {

struct LiveTarget {
    net::UdpAddress to;
    bool rtp = false;  // RFC 2250; else plain datagrams
};

// The address to enter on a device: "udp://239.20.0.1:5004", "rtp://...".
std::string address_for(const LiveTarget& target);

// The tracks of a live ladder (stream/live_ladder.hpp), each an output of the graph that encodes them.
struct LadderTracks {
    Time segment{};  // length of segments: the keyframes of all rungs lie so far apart
    struct Entry {
        std::string name;  // "video-720p", "audio-en"
        std::size_t output = 0;
        std::int64_t peak_bps = 0;
    };
    std::vector<Entry> entries;
    std::optional<std::size_t> transport;  // the output that goes the other ways, if there are some
    std::string told;                      // for people: which rungs, and why not more
};

// How a stream is encoded on the way.
struct LiveEncode {
    transcode::GraphSettings graph;
    std::optional<LadderTracks> ladder;
};

struct LiveItem {
    std::string name;
    std::vector<Part> parts;  // none, or one that is opened by a function: it waits until that has something
    bool loop = false;
    std::vector<LiveTarget> targets;
    bool http = false;          // one endless body
    bool hls = false;           // a playlist that moves on
    bool rtmp = false;          // for players of the RTMP server
    std::int64_t rate_bps = 0;  // of transport streams: constant, null packets filling it; 0: as the material needs
    // Encoded anew on the way, once for all; the caller planned it for the first part's tracks.
    std::optional<transcode::GraphSettings> transcode;
    std::optional<LadderTracks> ladder{};  // with `transcode`
    // Of a stream that waits and is to be encoded: gives the two above, once there is something to be opened. Its
    // failure is told, and it is asked again.
    std::function<Result<LiveEncode>(const Part& part)> plan{};
};

// A stream that was found fit to be sent.
struct ReadyLive {
    LiveItem item;
    ReadyPlayout playout;
};
// Opens every part, but for those of a stream that waits. Fails on the first that is missing or has no picture or audio
// that its ways out can carry (kind input), and on two streams to one address (kind usage).
Result<std::vector<ReadyLive>> prepare_live(const std::vector<LiveItem>& items);

struct LiveStatus {
    enum class State { starting, playing, paused, lost, waiting, ended };  // waiting: for a publisher

    std::string name;
    State state = State::starting;
    std::string part;                        // its name
    std::size_t part_number = 1, parts = 0;  // which one, and how many there are
    Time position{};                         // in the part
    Time duration{};                         // of it; 0: not known
    std::uint64_t rounds = 0;                // how often it began anew
    std::uint64_t datagrams = 0, bytes = 0;  // of transport packets, to each target
    std::uint64_t refused = 0;               // datagrams the system didn't take: no way there, no room
    std::uint64_t stalls = 0;                // times that the source came too late
    std::uint64_t made = 0;                  // bytes of the stream so far, however many take it
    bool ended = false;
    std::string error;  // that ended it, or why its source is lost
    std::string rungs;  // of a ladder: which there are, and why not more
};
std::string_view short_name(LiveStatus::State state);

struct LiveFigures {
    std::vector<LiveStatus> streams;
    Time late_99{}, latest{};  // how late datagrams were sent: the 99th percentile and the worst
    bool real_time = false;    // the system granted real-time scheduling
};

class LiveService {
  public:
    // `fan_out` (not null where an item is sent over HTTP or RTMP) must outlive the service.
    static Result<std::unique_ptr<LiveService>> start(std::vector<ReadyLive> streams, const net::UdpSettings& udp,
                                                      net::FanOut* fan_out = nullptr);
    // Ends at once.
    ~LiveService();
    LiveFigures figures() const;
    bool ended() const;  // all streams are
    // Forgets how late datagrams were so far: starting isn't running.
    void restart_lateness();

    // What clients of a stream are given; null where it doesn't go out that way.
    std::shared_ptr<net::Broadcast> http_broadcast(const std::string& name) const;
    std::shared_ptr<net::Broadcast> rtmp_broadcast(const std::string& name) const;
    std::shared_ptr<LiveHls> hls(const std::string& name) const;
    // Somebody joins by HLS: whether the list is now what should be given. Ask until it is, for a second or two; of a
    // file it then reaches further ahead for a moment, so that who begins three target durations before its end is
    // only two to two and two thirds behind what is read, where orders act.
    bool listed_for_join(const std::string& name) const;
    // The same for a player that asks for the list again, long after its newest segment was listed: it would come later
    // and later, since players ask every target duration and segments are a little shorter. It is given the next one,
    // too, and asks the next time before there is another.
    bool listed_for_poll(const std::string& name) const;
    std::shared_ptr<LiveLadder> ladder(const std::string& name) const;

    // Controls act for everybody who watches. False where there is no stream of this name (or it has ended).
    bool pause(const std::string& name, bool paused);
    bool order_seek(const std::string& name, const Playout::SeekOrder& seek);
    bool stop(const std::string& name);

  private:
    struct State;
    explicit LiveService(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::stream
