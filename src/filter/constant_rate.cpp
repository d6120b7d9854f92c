#include "filter/constant_rate.hpp"

#include <chrono>

namespace wavecrest::filter {

void ConstantRate::push(Picture picture, std::vector<Picture>& out) {
    if (!showing_) {
        start_ = picture.pts;
        next_ = 0;
    } else if (std::chrono::abs(picture.pts - showing_->pts) > std::chrono::seconds(kLongestGap)) {
        flush(out);
        start_ = picture.pts;
        next_ = 0;
    } else {
        give_until(picture.pts, out);
    }
    showing_ = std::move(picture);
}

void ConstantRate::flush(std::vector<Picture>& out) {
    if (showing_) give_until(showing_->pts + showing_->duration, out);
    showing_.reset();
}

void ConstantRate::give_until(Time end, std::vector<Picture>& out) {
    const Time half = base::frames_to_time(1, rate_) / 2;
    while (true) {
        const Time at = start_ + base::frames_to_time(next_, rate_);
        if (at + half > end) return;
        Picture picture = *showing_;
        picture.pts = at;
        picture.duration = start_ + base::frames_to_time(++next_, rate_) - at;
        picture.fields = 2;
        out.push_back(std::move(picture));
    }
}

}  // namespace wavecrest::filter
