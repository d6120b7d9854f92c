// Brings pictures to one size, though their own may change on the way: broadcasts change between programmes, and who
// publishes a live stream may come back with another camera.
#pragma once

#include <memory>
#include <optional>

#include "base/result.hpp"
#include "base/units.hpp"
#include "filter/scale.hpp"
#include "media/types.hpp"

namespace wavecrest::filter {

class Fitter {
  public:
    // Pictures of the size `planned` fill the size `to` (even numbers), whose pixels have `pixel_aspect`. What follows
    // the first of them in another size or with another pixel aspect is shown in its own shape, as large as it fits,
    // in the middle of black.
    Fitter(base::Size planned, base::Size to, Ratio pixel_aspect)
        : planned_(planned), to_(to), pixel_aspect_(pixel_aspect) {}
    // A picture that fits already passes as it is. Fails as Scaler does.
    Result<Picture> apply(Picture picture);

  private:
    base::Size room_for(const Picture& picture);

    const base::Size planned_, to_;
    const Ratio pixel_aspect_;
    std::optional<double> shape_;  // width by height, as shown, of what fills all
    // For pictures of `from_` and `depth_`, which come out as `room_`.
    std::unique_ptr<Scaler> scaler_;
    base::Size from_{}, room_{};
    int depth_ = 0;
};

}  // namespace wavecrest::filter
