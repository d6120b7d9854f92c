#include "verify/seeks.hpp"

#include <algorithm>
#include <utility>

namespace wavecrest::verify {

ReadRuns::Run& ReadRuns::at(std::uint64_t offset, std::uint64_t through) {
    const auto holds = [&](const Run& run) { return run.from <= offset && offset <= run.to; };
    const Run& now = runs_[reading_];
    if (now.to < offset && offset - now.to < through) return runs_[reading_];
    reading_ = static_cast<std::size_t>(std::find_if(runs_.begin(), runs_.end(), holds) - runs_.begin());
    if (reading_ == runs_.size()) runs_.push_back({offset, offset});
    return runs_[reading_];
}

namespace {

class SegmentSeeks {
  public:
    SegmentSeeks(const SegmentedFilm& film, const device::Playing& playing, Clock& clock, const Cancel& cancel)
        : film_(film), playing_(playing), clock_(clock), cancel_(cancel) {}

    Result<std::vector<SeekOrder>> run() {
        std::vector<SeekOrder> seeks;
        WAVECREST_TRY(go_to(Time{}));
        Time before = kBeforeFirstSeek;
        for (const double part : kSeeks) {
            const Time ordered = clock_.now() + std::exchange(before, kBeforeNextSeek);
            WAVECREST_TRY(play_until(ordered));
            SeekOrder seek;
            seek.to = base::from_seconds(base::to_seconds(film_.ends.back()) * part);
            seek.landed = playing_.seeks_exactly ? seek.to : begin_of(segment_at(seek.to));
            WAVECREST_TRY(go_to(seek.landed));
            seek.first_picture = clock_.now() - ordered;
            seeks.push_back(seek);
        }
        return seeks;
    }

  private:
    Time begin_of(std::size_t number) const { return number > 0 ? film_.ends[number - 1] : Time{}; }
    std::size_t segment_at(Time time) const {
        const auto found = std::upper_bound(film_.ends.begin(), film_.ends.end(), time);
        return std::min(static_cast<std::size_t>(found - film_.ends.begin()), film_.ends.size() - 1);
    }
    // Fetches from the segment that holds `place` on, until it can be played from there.
    Status go_to(Time place) {
        const Time wanted = std::min(place + playing_.start_buffer, film_.ends.back());
        next_ = segment_at(place);
        for (have_ = begin_of(next_); have_ < wanted;) {
            WAVECREST_TRY(fetch_next([&](Time come) { return playing_.whole_segments || come < wanted; }));
        }
        place_ = place;
        went_on_ = clock_.now();
        return {};
    }
    // Plays until then, fetching on.
    Status play_until(Time end) {
        const auto room = [&] { return have_ - (place_ + clock_.now() - went_on_) < playing_.hls_buffer; };
        while (clock_.now() < end && next_ < film_.ends.size() && room())
            WAVECREST_TRY(fetch_next([&](Time) { return playing_.finishes_segment || clock_.now() < end; }));
        clock_.wait_until(end);
        return {};
    }
    // `keep_on` is asked with how far the film has come.
    Status fetch_next(const std::function<bool(Time)>& keep_on) {
        if (cancel_.requested()) return base::interrupted();
        const Time from = begin_of(next_), length = film_.ends[next_] - from;
        have_ = from;
        WAVECREST_TRY_ASSIGN(whole, film_.fetch(next_, [&](double part) {
            have_ = from + base::from_seconds(base::to_seconds(length) * std::clamp(part, 0.0, 1.0));
            return keep_on(have_);
        }));
        if (whole) have_ = film_.ends[next_];
        ++next_;
        return {};
    }

    const SegmentedFilm& film_;
    const device::Playing& playing_;
    Clock& clock_;
    const Cancel& cancel_;
    std::size_t next_ = 0;  // segment to be fetched
    Time have_{};           // of the film
    Time place_{};          // where it went on,
    Time went_on_{};        // and when
};

}  // namespace

Result<std::vector<SeekOrder>> seek_in_segments(const SegmentedFilm& film, const device::Playing& playing, Clock& clock,
                                                const Cancel& cancel) {
    if (film.ends.empty() || film.ends.back() <= Time{}) return std::vector<SeekOrder>{};
    return SegmentSeeks(film, playing, clock, cancel).run();
}

}  // namespace wavecrest::verify
