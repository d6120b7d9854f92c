// Keeps sound without gaps: missing stretches become silence, overlaps are trimmed. Pictures are never shifted for it.
#pragma once

#include <optional>

#include "media/types.hpp"

namespace wavecrest::filter {

class SoundTimeline {
  public:
    // Makes `sound` follow what came before exactly; it may come back empty.
    void apply(Sound& sound);
    // Samples of silence put in so far (per channel).
    std::int64_t filled() const { return filled_; }

  private:
    std::optional<Time> start_;
    std::int64_t frames_ = 0;
    std::int64_t filled_ = 0;
};

}  // namespace wavecrest::filter
