// Undoes pulldown: film pictures that are shown for two and three fields in turn get their even film times back.
#pragma once

#include <optional>

#include "media/types.hpp"

namespace wavecrest::filter {

// Every picture goes through, none is doubled or dropped; only times change, by half a field at most. So nothing adds
// up where the rhythm is broken: at an edit, a gap, the seam of a loop.
class FilmTiming {
  public:
    explicit FilmTiming(Ratio film_rate) : rate_(film_rate) {}
    void apply(Picture& picture);

  private:
    Ratio rate_;
    std::optional<Time> offset_;  // of pictures shown for two fields; those for three have half a field more
};

// The same in a title that also holds other pictures: only where two and three fields alternate, times change.
class MarkedFilmTiming {
  public:
    // `expected`: there is film, so that an interval may begin with it.
    MarkedFilmTiming(Ratio film_rate, bool expected) : rate_(film_rate), expected_(expected) {}
    void apply(Picture& picture);
    // Another kind of picture comes in between.
    void cut() {
        timing_.reset();
        latest_fields_ = 0;
    }

  private:
    Ratio rate_;
    bool expected_;
    std::optional<FilmTiming> timing_;
    int latest_fields_ = 0;
};

}  // namespace wavecrest::filter
