#include "filter/film.hpp"

#include <chrono>

namespace wavecrest::filter {

void FilmTiming::apply(Picture& picture) {
    const Time one = base::frames_to_time(1, rate_);
    Time even = grid_start_ ? *grid_start_ + base::frames_to_time(index_, rate_) : picture.pts;
    if (!grid_start_ || std::chrono::abs(even - picture.pts) >= one) {
        grid_start_ = even = picture.pts;
        index_ = 0;
    }
    picture.pts = even;
    picture.duration = one;
    picture.fields = 2;
    ++index_;
}

}  // namespace wavecrest::filter
