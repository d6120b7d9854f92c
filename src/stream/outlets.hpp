// Where the packets of a live stream end: multiplexed for UDP, HTTP and HLS, cut into messages for RTMP, and handed
// over to be sent when they are due.
#pragma once

#include <algorithm>
#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "container/ts_mux.hpp"
#include "media/flow.hpp"
#include "stream/live_channel.hpp"
#include "stream/live_queue.hpp"

namespace wavecrest::stream {

class Outlets : public PacketSink {
  public:
    // Takes what is ready; false when the service ends. The buffers of `datagrams` may be exchanged for spent ones.
    using Push = std::function<bool(std::vector<Datagram>& datagrams, std::size_t count, std::vector<Pending>& blocks,
                                    Time last_due)>;

    Outlets(LiveChannel& channel, std::vector<Track> tracks, Push push);

    Status write(const Packet& packet) override;
    Status finish() override;

  private:
    bool has(TrackKind kind) const;  // by RTMP
    Status take(const container::MuxedPacket& packet);
    Status take_message(const Packet& packet);
    // Handed over several at a time: the sender shouldn't meet a lock for each.
    Status tick(Time due);
    void give_datagram();
    void give_transport();
    void give_rtmp();
    bool hand_over();

    LiveChannel& channel_;
    const std::vector<Track> tracks_;
    std::vector<Track> rtmp_tracks_;
    Push push_;
    container::TransportMux mux_;
    Datagram next_;
    std::vector<Datagram> ready_;  // its places keep their buffers
    std::size_t filled_ = 0;
    std::vector<Pending> blocks_;
    ByteVector block_, messages_;
    Time block_due_{}, block_group_{}, messages_due_{};
    bool block_start_ = false, messages_start_ = false;
    std::optional<Time> handed_;
    Time last_due_ = Time::min();
};

}  // namespace wavecrest::stream
