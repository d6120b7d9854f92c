// Resizes 4:2:0 pictures of 8 or 10 bits with zimg.
#pragma once

#include <memory>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

class Scaler {
  public:
    // To width x height (even numbers); times, colour and field data are carried over, the pixel aspect is set. Frame
    // packing goes along where it is still true: not where samples of both views alternate.
    static Result<std::unique_ptr<Scaler>> create(int from_width, int from_height, int to_width, int to_height,
                                                  Ratio pixel_aspect, int bit_depth = 8);
    ~Scaler();
    Result<Picture> apply(const Picture& picture);

  private:
    struct State;
    explicit Scaler(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::filter
