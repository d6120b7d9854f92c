// Undoes pulldown: film pictures that are shown for two and three fields in turn get their even film times back.
#pragma once

#include <optional>

#include "media/types.hpp"

namespace wavecrest::filter {

// Every picture goes through, none is doubled or dropped; only times change. Where the source leaves the film grid by
// more than one picture (a gap, a stretch of video), a new grid starts at the picture's own time.
class FilmTiming {
  public:
    explicit FilmTiming(Ratio film_rate) : rate_(film_rate) {}
    void apply(Picture& picture);

  private:
    Ratio rate_;
    std::optional<Time> grid_start_;
    std::int64_t index_ = 0;
};

}  // namespace wavecrest::filter
