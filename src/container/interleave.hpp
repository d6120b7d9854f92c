// Puts packets of several tracks in the order of their decoding times, whatever the order they come in.
#pragma once

#include <deque>
#include <map>
#include <vector>

#include "media/flow.hpp"

namespace wavecrest::container {

class Interleaver {
  public:
    // Packets of one track follow one another for up to `run` (0: strictly by time). Subtitles are not waited for.
    Interleaver(PacketSink& sink, const std::vector<Track>& tracks, Time run);
    Status write(Packet packet);
    // Nothing more comes of a track: it isn't waited for any more.
    Status end(TrackId track);
    // Passes on all that waits; doesn't finish the sink.
    Status drain();

  private:
    struct TrackState {
        bool awaited = false;
        std::deque<Packet> waiting;
    };
    Status pass(bool all);

    PacketSink& sink_;
    Time run_;
    std::map<TrackId, TrackState> track_states_;
    std::size_t bytes_ = 0;
};

}  // namespace wavecrest::container
