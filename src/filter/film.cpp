#include "filter/film.hpp"

namespace wavecrest::filter {

void FilmTiming::apply(Picture& picture) {
    const Time one = base::frames_to_time(1, rate_), half_field = one / 5;
    const Time more = picture.fields == 3 ? half_field : Time{};
    if (!offset_) offset_ = -more;
    picture.pts += *offset_ + more;
    picture.duration = one;
    picture.fields = 2;
}

void MarkedFilmTiming::apply(Picture& picture) {
    // (Where an edit broke the rhythm, it begins again with the next picture of three fields.)
    if (picture.fields == latest_fields_) timing_.reset();
    if (!timing_ && (picture.fields == 3 || (expected_ && latest_fields_ == 0))) timing_.emplace(rate_);
    latest_fields_ = picture.fields;
    if (timing_) timing_->apply(picture);
}

}  // namespace wavecrest::filter
