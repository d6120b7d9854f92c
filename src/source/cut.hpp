// An interval of a source, on a timeline of its own from 0.
#pragma once

#include <memory>

#include "media/flow.hpp"

namespace wavecrest::source {

// What is shown and heard from `from` until `to` (0: the end). Packets keep their meaning: pictures begin with one that
// can be decoded at or before `from`, with a negative time if it is before, and audio may overhang by less than a
// frame.
Result<std::unique_ptr<PacketSource>> cut(std::unique_ptr<PacketSource> source, Time from, Time to);

}  // namespace wavecrest::source
