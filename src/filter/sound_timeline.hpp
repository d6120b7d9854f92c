// Keeps sound without gaps: missing stretches become silence, overlaps are trimmed. Pictures are never shifted for it.
#pragma once

#include <optional>

#include "media/types.hpp"

namespace wavecrest::filter {

class SoundTimeline {
  public:
    // Makes `sound` follow what came before: trims what overlaps (it may come back empty) and sets its time. Gives how
    // many sample frames of silence go before it.
    std::int64_t follow_on(Sound& sound);

  private:
    std::optional<Time> start_;
    std::int64_t frames_ = 0;
};

}  // namespace wavecrest::filter
