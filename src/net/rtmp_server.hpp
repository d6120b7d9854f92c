// An RTMP server (Adobe RTMP Specification 1.0, plain handshake): players are given broadcasts by a fan-out,
// publishers' messages are handed on.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "net/fan_out.hpp"
#include "net/rtmp_chunks.hpp"

namespace wavecrest::net {

// The port registered for it (IANA: macromedia-fcs).
inline constexpr std::uint16_t kDefaultRtmpPort = 1935;

// What a publisher sends. Ended by destruction.
class RtmpPublication {
  public:
    virtual ~RtmpPublication() = default;
    // Audio, video and data messages, in their order.
    virtual void take(const rtmp::Message& message) = 0;
};

struct RtmpEvent {
    enum class Kind { playing, publishing, refused, left } kind = Kind::playing;
    std::string address;
    std::string what;
};

// What somebody who has connected wants.
struct RtmpRequest {
    std::string application, name;
    std::string query;       // behind the name's "?", without it
    std::string address;     // the client's
    std::uint16_t port = 0;  // of this machine, that it came to
};

struct RtmpServerSettings {
    std::string address;                    // to listen on; empty: all
    std::uint16_t port = kDefaultRtmpPort;  // 0: any free one
    std::vector<std::uint16_t> further;     // ports it listens at, too
    FanOut* fan_out = nullptr;              // must outlive the server
    // What a player gets; null: there is no such stream for it. The broadcast's blocks are chunks of
    // kRtmpBroadcastChunk for message stream 1, each message with a full header.
    std::function<std::shared_ptr<Broadcast>(const RtmpRequest& request)> play;
    // Who may publish: null refuses. `why` is told to the publisher.
    std::function<std::unique_ptr<RtmpPublication>(const RtmpRequest& request, std::string& why)> publish;
    std::function<void(const RtmpEvent&)> on_event;
    // A connection that neither plays nor publishes is closed after this, whatever it sends.
    Time idle_limit = base::from_seconds(30);
    // A publisher that sends no audio, video or data for so long is closed, and its key is free.
    Time silence_limit = base::from_seconds(10);
    // Connections that neither play nor publish: of one address, and in all. The oldest gives way to a new one.
    std::size_t most_unproven_of_address = 320, most_unproven = 512;
    // Bytes that all connections together may hold of messages that aren't complete (each: see rtmp::ChunkReader). The
    // one that goes beyond is closed.
    std::size_t memory = 48 << 20;
};
// Large, so that most messages are one chunk; readers are known that hold no chunk size of more than 15 bits.
inline constexpr std::uint32_t kRtmpBroadcastChunk = 32'000;

class RtmpServer {
  public:
    // Errors as of HttpServer.
    static Result<std::unique_ptr<RtmpServer>> start(RtmpServerSettings settings);
    ~RtmpServer();
    std::uint16_t port() const;

  private:
    struct State;
    explicit RtmpServer(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

// The same chunks for another message stream (for players that have several on one connection). `chunks` are whole
// messages with full headers, cut at kRtmpBroadcastChunk.
Bytes for_message_stream(const Bytes& chunks, std::uint32_t stream);
// The same for one player, called with what it gets in order: times begin near 0 with the first frame, whenever it
// joined (players show the time, and some wait for it to come from 0).
std::function<Bytes(const Bytes& chunks)> for_player(std::uint32_t stream);

}  // namespace wavecrest::net
