// Frames at even times: of those that come too close together some are left out, others are repeated.
#pragma once

#include <optional>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::filter {

class ConstantRate {
  public:
    // Frames come out at the first one's time and whole periods of `rate` behind it, each showing what is to be seen in
    // the middle of its period.
    explicit ConstantRate(Ratio rate) : rate_(rate) {}
    void push(Picture picture, std::vector<Picture>& out);
    void flush(std::vector<Picture>& out);

  private:
    void give_until(Time end, std::vector<Picture>& out);

    // A gap isn't filled for longer than this: a broken timestamp would give frames without end.
    static constexpr int kLongestGap = 60;  // seconds

    Ratio rate_;
    std::optional<Picture> showing_;
    Time start_{};
    std::int64_t next_ = 0;  // number of the frame that is due
};

}  // namespace wavecrest::filter
