// The other end of an RTMP connection: plays a stream, or publishes one. Blocking, with a time limit on every wait.
#pragma once

#include <chrono>
#include <cstdint>
#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "net/rtmp_chunks.hpp"

namespace wavecrest::net {

// Whether a host's name is found, or it is an address. Asks the system's resolver, which may take seconds.
bool can_resolve(const std::string& host);

struct RtmpAddress {
    std::string host;
    std::uint16_t port = 1935;
    std::string application;  // the first part of the path
    std::string name;         // the rest: the stream, or its key

    std::string text() const;
    // Without the name, which is a key where somebody publishes: "rtmp://host/application".
    std::string endpoint() const;
};
// "rtmp://192.168.1.10/house/lanterns". Kind usage.
Result<RtmpAddress> parse_rtmp_address(const std::string& text);

class RtmpClient {
  public:
    // Connects and shakes hands. Errors (kind wanting): nothing answers, or what answers doesn't speak RTMP.
    static Result<std::unique_ptr<RtmpClient>> connect(const RtmpAddress& address, Time limit = base::from_seconds(10));
    ~RtmpClient();

    // Asks to play the address's stream; fails (kind wanting) when the server has none, with what it said.
    Status play();
    // Asks to publish under the address's name; fails (kind wanting) when the server won't have it.
    Status publish();
    // Messages of audio, video, data and status commands, after waiting for at most so long; empty when none came.
    // Answers what the protocol wants answered. Fails (kind wanting) when the connection has ended.
    Result<std::vector<rtmp::Message>> receive(std::chrono::milliseconds wait);
    // How often the server has asked whether this client is still there (user control, ping request): it does so while
    // it has nothing to send.
    std::uint64_t pings() const;
    // The code of a status command ("NetStream.Play.Stop"); empty for other messages.
    static std::string status_code(const rtmp::Message& message);

    // For a fan-out that writes from here on: chunks of kRtmpBroadcastChunk for stream(). What the protocol wants
    // answered is then handed to `write`, since two may not write to one connection.
    void write_by(std::function<void(ByteVector)> write);
    int socket() const;
    std::uint32_t stream() const;

  private:
    struct State;
    explicit RtmpClient(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::net
