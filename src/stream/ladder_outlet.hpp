// Where one track of a live ladder ends: cut into segments (container/cmaf.hpp), and handed over to be listed.
#pragma once

#include <memory>
#include <vector>

#include "container/cmaf.hpp"
#include "stream/live_channel.hpp"
#include "stream/outlets.hpp"

namespace wavecrest::stream {

class LadderOutlet : public PacketSink {
  public:
    // `number`: the track's in the channel's ladder.
    static Result<std::unique_ptr<PacketSink>> create(LiveChannel& channel, std::size_t number, const Track& track,
                                                      Time segment, Outlets::Push push);
    Status write(const Packet& packet) override;
    Status finish() override;

  private:
    LadderOutlet(LiveChannel& channel, std::size_t number, Outlets::Push push)
        : channel_(channel), number_(number), push_(std::move(push)) {}
    Status hand_over();

    LiveChannel& channel_;
    const std::size_t number_;
    Outlets::Push push_;
    std::unique_ptr<container::CmafTrack> segments_;
    std::vector<Datagram> none_;
    std::vector<Pending> blocks_;
    Time last_due_ = Time::min();
    std::optional<Time> handed_;
};

}  // namespace wavecrest::stream
