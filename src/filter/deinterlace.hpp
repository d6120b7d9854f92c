// Interlaced pictures made progressive, adapting to motion: lines that are missing come from the neighbouring fields
// where nothing moves, and along edges from the same field where something does.
#pragma once

#include <optional>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::filter {

class Deinterlacer {
  public:
    enum class Rate {
        frame,  // one picture for each frame, of the instant of its first field
        field,  // one for each field: motion as smooth as it was shot
    };
    explicit Deinterlacer(Rate rate) : rate_(rate) {}

    // Appends what is due; a frame comes out when the next is known. Progressive frames pass unchanged (with
    // Rate::field once, for their whole duration).
    void push(Picture picture, std::vector<Picture>& out);
    void flush(std::vector<Picture>& out);

  private:
    void emit(const Picture* next, std::vector<Picture>& out);

    Rate rate_;
    std::optional<Picture> previous_, current_;
};

}  // namespace wavecrest::filter
