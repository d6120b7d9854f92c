#include "filter/whole_frames.hpp"

#include <algorithm>
#include <chrono>

namespace wavecrest::filter {
namespace {

constexpr std::size_t kGroup = 5;    // frames that hold four film pictures
constexpr std::size_t kAhead = 10;   // frames looked at behind a group
constexpr std::size_t kBehind = 10;  // and before it
constexpr int kFewestMoving = 3;     // frames that tell anything
constexpr int kCombed = 700;         // points per million, as in cadence.cpp

int count_of(std::string_view run, Belongs what) {
    return static_cast<int>(std::count(run.begin(), run.end(), static_cast<char>(what)));
}

}  // namespace

WholeFrames::WholeFrames(const Settings& settings)
    : settings_(settings),
      pulldown_possible_(can_have_pulldown(settings.frame_rate)),
      film_rate_(base::reduced({settings.frame_rate.num * 4, settings.frame_rate.den * 5})),
      interval_(settings.first),
      usual_combing_(1 << 20),
      marked_film_(film_rate_, settings.marked_film),
      deinterlacer_(settings.video) {}

void WholeFrames::push(Picture picture, std::vector<Picture>& out) {
    const bool follows = previous_ && previous_->width == picture.width && previous_->height == picture.height &&
                         std::chrono::abs(picture.pts - (previous_->pts + previous_->duration)) <= picture.duration / 4;
    if (picture.progressive) {
        end_run(out);
        previous_ = picture;
        if (pulldown_possible_) marked_film_.apply(picture);
        deinterlace(std::move(picture), out);
        return;
    }
    marked_film_.cut();
    if (previous_ && !follows) end_run(out);
    Waiting frame;
    frame.follows = follows;
    if (follows) {
        frame.before = *previous_;
        frame.belongs = fields_belong(*previous_, picture);
    }
    previous_ = picture;
    frame.picture = std::move(picture);
    waiting_.push_back(std::move(frame));
    if (waiting_.size() >= kGroup + kAhead) release(kGroup, out);
}

void WholeFrames::flush(std::vector<Picture>& out) {
    end_run(out);
    std::vector<Picture> left;
    deinterlacer_.flush(left);
    give(left, out);
    if (held_) out.push_back(std::move(*held_));
    held_.reset();
    previous_.reset();
}

void WholeFrames::end_run(std::vector<Picture>& out) {
    while (!waiting_.empty()) release(std::min(kGroup, waiting_.size()), out);
    history_.clear();
    film_from_.reset();
    last_matched_.reset();
}

// What the next `count` frames are, by what lies around them.
WholeFrames::TimeRange WholeFrames::judge(std::size_t count) const {
    std::string ahead;
    for (const Waiting& frame : waiting_) ahead += static_cast<char>(frame.belongs);
    const std::string_view group = std::string_view(ahead).substr(0, count);
    const std::string context = history_ + ahead;
    const int moving = static_cast<int>(context.size()) - count_of(context, Belongs::unknown);
    const int neither = count_of(context, Belongs::neither), here = count_of(group, Belongs::neither);
    if (here >= 2) return TimeRange::video;
    if (moving < kFewestMoving) return interval_;
    if (neither * 2 >= moving) return TimeRange::video;
    const std::string until = history_ + std::string(group);
    if (pulldown_possible_ &&
        (has_pulldown_rhythm(ahead) || has_pulldown_rhythm(until) || has_pulldown_rhythm(context)))
        return TimeRange::pulldown;
    // Slow film tells its rhythm in few frames.
    const bool few = count_of(context, Belongs::own) + count_of(context, Belongs::previous) < 6;
    return few && interval_ == TimeRange::pulldown && here == 0 ? TimeRange::pulldown : TimeRange::matched;
}

// The frame with its fields as they belong; not progressive where they belong to nothing.
Picture WholeFrames::matched(const Waiting& frame) {
    const Picture& picture = frame.picture;
    if (!frame.follows) {
        Picture own = picture;
        own.progressive = true;
        return own;
    }
    const int first = picture.top_field_first ? 0 : 1;
    const int own = combing(picture, first, picture), with_previous = combing(picture, first, frame.before);
    // Neither goes, and both comb much more than what went before: video in between, left to the deinterlacer.
    const int least = std::min(own, with_previous);
    const bool comb_alike = frame.belongs == Belongs::neither || frame.belongs == Belongs::unknown;
    const bool video = comb_alike && least > 3 * usual_combing_ + kCombed;
    usual_combing_ = least < usual_combing_ ? least : usual_combing_ + usual_combing_ / 20 + 1;
    if (video) return picture;
    if (frame.belongs == Belongs::own || frame.belongs == Belongs::previous) phase_ = frame.belongs;
    const bool from_previous = frame.belongs == Belongs::neither ? with_previous < own : phase_ == Belongs::previous;
    if (!from_previous) {
        Picture whole = picture;
        whole.progressive = true;
        return whole;
    }
    // It is seen from the second field of the frame before on.
    Picture whole = weave_fields(picture, first, frame.before);
    whole.pts = picture.pts - picture.duration / 2;
    return whole;
}

void WholeFrames::release(std::size_t count, std::vector<Picture>& out) {
    interval_ = judge(count);
    if (interval_ != TimeRange::pulldown) film_from_.reset();
    std::vector<Matched> film;
    for (std::size_t i = 0; i < count; ++i) {
        Waiting& frame = waiting_.front();
        if (interval_ == TimeRange::video) {
            deinterlace(std::move(frame.picture), out);
            last_matched_.reset();
        } else {
            Picture picture = interval_ == TimeRange::pulldown && frame.belongs == Belongs::unknown && frame.follows
                                  ? [&] {
                                        // The frame that repeats a field goes with itself.
                                        Picture own = frame.picture;
                                        own.progressive = true;
                                        return own;
                                    }()
                                  : matched(frame);
            const int first = picture.top_field_first ? 0 : 1;
            const bool comparable = last_matched_ && last_matched_->width == picture.width;
            const std::int64_t change =
                comparable ? field_difference(*last_matched_, picture, first) : std::int64_t{1} << 40;
            last_matched_ = picture;
            if (interval_ == TimeRange::pulldown) {
                film.push_back({std::move(picture), change});
            } else {
                deinterlace(std::move(picture), out);
            }
        }
        history_ += static_cast<char>(frame.belongs);
        waiting_.pop_front();
    }
    if (history_.size() > kBehind) history_.erase(0, history_.size() - kBehind);
    if (!film.empty()) release_pulldown(std::move(film), out);
}

// The repeated frame goes, the others get even times.
void WholeFrames::release_pulldown(std::vector<Matched> group, std::vector<Picture>& out) {
    const auto repeated = std::min_element(group.begin(), group.end(),
                                           [](const Matched& a, const Matched& b) { return a.change < b.change; });
    std::int64_t others = 0;
    for (const Matched& frame : group) others = &frame == &*repeated ? others : std::max(others, frame.change);
    // An edit may have set the rhythm off: a frame that is none of the others' double stays. In a still one all do.
    const bool still = others < kMoves;
    const bool leave_out =
        group.size() == kGroup ? still || repeated->change * 2 < others : !still && repeated->change * 4 < others;
    if (leave_out) group.erase(repeated);
    // How far the group lies from the grid, in the middle: an edit moves it.
    const auto on_grid = [&](std::size_t i) {
        return *film_from_ + base::frames_to_time(film_index_ + static_cast<std::int64_t>(i), film_rate_);
    };
    const auto off = [&] {
        Time sum{};
        for (std::size_t i = 0; i < group.size(); ++i) sum += group[i].picture.pts - on_grid(i);
        return sum / static_cast<std::int64_t>(group.size());
    };
    const Time one = base::frames_to_time(1, film_rate_);
    if (!film_from_ || std::chrono::abs(off()) > one / 4) {
        film_from_ = group.front().picture.pts;
        film_index_ = 0;
        *film_from_ += off();
    }
    for (std::size_t i = 0; i < group.size(); ++i) {
        Picture& picture = group[i].picture;
        picture.pts = on_grid(i);
        picture.duration = one;
        picture.fields = 2;
        deinterlace(std::move(picture), out);
    }
    film_index_ += static_cast<std::int64_t>(group.size());
}

void WholeFrames::deinterlace(Picture picture, std::vector<Picture>& out) {
    std::vector<Picture> whole;
    deinterlacer_.push(std::move(picture), whole);
    give(whole, out);
}

// Where one kind of interval follows another, times may meet: the later frame ends the one before, or takes its place.
void WholeFrames::give(std::vector<Picture>& pictures, std::vector<Picture>& out) {
    for (Picture& picture : pictures) {
        if (held_) {
            const Time least = base::frames_to_time(1, settings_.frame_rate) / 4;
            const Time step = picture.pts - held_->pts;
            if (step >= least) {
                const Time over = std::chrono::abs(held_->duration - step);
                if (held_->duration > step || over < 2 * least) held_->duration = step;
                out.push_back(std::move(*held_));
            } else if (step.count() < 0) {
                picture.duration += step;
                picture.pts = held_->pts;
            }
        }
        held_ = std::move(picture);
    }
}

}  // namespace wavecrest::filter
