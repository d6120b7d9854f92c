// Tracks that go along as they are need all that a container says of them, which some sources learn on the way.
#pragma once

#include <vector>

#include "media/flow.hpp"

namespace wavecrest::transcode {

// Reads until every track has told its configuration; the packets read on the way are given back in `read`. Tracks that
// tell nothing within 2000 packets stay as they are.
Status complete(PacketSource& source, std::vector<Track>& tracks, std::vector<Packet>& read);

}  // namespace wavecrest::transcode
