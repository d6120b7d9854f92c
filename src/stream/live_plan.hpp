// What a live stream plays, decided before it runs.
#pragma once

#include "stream/live.hpp"

namespace wavecrest::stream {

// What a stream plays, of the tracks that its ways out can carry. Fails as prepare_live().
Result<ReadyPlayout> find_playout(const LiveItem& item);

// Of a stream that is encoded for HLS: where its keyframes are.
void place_keyframes(LiveItem& item);

}  // namespace wavecrest::stream
