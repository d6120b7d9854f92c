#include "container/mp4_edits.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <optional>

namespace wavecrest::container::mp4 {
namespace {

// An interval of media and where it is presented, all in the track's ticks.
struct TimeRange {
    std::int64_t from = 0, to = 0;  // of the media; of a dwell, `to` is one tick on
    std::int64_t at = 0;            // of the presentation
    std::int64_t lasts = 0;         // there
    bool dwell = false;
};

// Edits that follow on from each other in the media are one interval.
struct Plan {
    std::vector<TimeRange> intervals;
    Time end{};
};

Plan plan(const std::vector<Edit>& edits, std::int64_t movie_timescale, std::int64_t timescale) {
    Plan result;
    std::int64_t shown = 0;  // movie ticks
    for (std::size_t i = 0; i < edits.size(); ++i) {
        const Edit& edit = edits[i];
        const auto ticks = [&](std::int64_t movie_ticks) {
            return base::to_ticks(base::from_ticks(movie_ticks, movie_timescale), timescale);
        };
        const bool open = edit.duration == 0 && i + 1 == edits.size();
        const std::int64_t at = ticks(shown);
        shown += edit.duration;
        if (edit.media_time < 0) continue;
        TimeRange interval;
        interval.from = edit.media_time;
        interval.at = at;
        interval.lasts = open ? INT64_MAX / 4 : ticks(shown) - at;
        interval.dwell = edit.dwell;
        interval.to = edit.dwell ? edit.media_time + 1 : edit.media_time + interval.lasts;
        if (interval.lasts <= 0) continue;
        // Rounding to the movie's ticks may part what belongs together.
        const std::int64_t grain = timescale / movie_timescale + 1;
        if (!result.intervals.empty() && !edit.dwell) {
            TimeRange& last = result.intervals.back();
            if (!last.dwell && std::abs(last.to - interval.from) <= grain && last.at + last.lasts == interval.at) {
                last.to = interval.to;
                last.lasts += interval.lasts;
                continue;
            }
        }
        result.intervals.push_back(interval);
    }
    result.end = base::from_ticks(shown, movie_timescale);
    if (!edits.empty() && edits.back().duration == 0) result.end = Time::max();
    return result;
}

// Goes through the media once per interval and writes the samples down anew.
class Cutter {
  public:
    explicit Cutter(const Mp4Track& track) : track_(track), index_(track.samples.index) {
        std::size_t next = 0;
        for (auto cursor = index_.begin(); !cursor.done(); ++cursor) {
            earliest_ = std::min(earliest_, cursor->composition);
            if (cursor->key && cursor.position() >= next) {
                marks_.push_back({cursor->pts(), cursor.position()});
                next = cursor.position() + kBetweenMarks;
            }
        }
    }

    // False when the edits ask for more work than any honest list does.
    bool cut(const TimeRange& interval, bool first, bool last) {
        if (marks_.empty()) return true;
        switch (track_.info.kind) {
            case TrackKind::video:
                return cut_pictures(interval, first);
            case TrackKind::audio:
                return cut_audio(interval, first, last);
            case TrackKind::subtitle:
                return cut_text(interval);
        }
        return true;
    }
    SampleIndex take() { return std::move(made_); }

  private:
    static constexpr std::size_t kBetweenMarks = 256;
    struct Mark {
        std::int64_t pts;
        std::size_t sample;
    };
    bool worked() { return ++steps_ < 20'000'000 + 8 * index_.size(); }

    // The last mark at or before a media time.
    SampleIndex::Cursor near(std::int64_t time) const {
        const auto after = std::upper_bound(marks_.begin(), marks_.end(), time,
                                            [](std::int64_t t, const Mark& mark) { return t < mark.pts; });
        return index_.at(after == marks_.begin() ? marks_.front().sample : std::prev(after)->sample);
    }

    void add(const SampleIndex::Sample& s, bool hidden) {
        // Chunks are begun where the next sample doesn't follow by itself.
        if (s.offset != next_offset_ || s.dts != next_dts_ || made_.empty()) made_.begin_chunk(s.offset, s.dts);
        const auto composition =
            static_cast<std::int32_t>(std::clamp<std::int64_t>(s.composition, INT32_MIN, INT32_MAX));
        made_.add(s.size, s.key, s.duration, composition, hidden);
        next_offset_ = s.offset + s.size;
        next_dts_ = s.dts + s.duration;
        latest_dts_ = s.dts;
    }

    // A sample with a new presentation time; its decoding time never goes back, nor behind the presentation.
    static SampleIndex::Sample moved(SampleIndex::Sample s, std::int64_t pts, std::int64_t dts, std::int64_t duration) {
        s.dts = dts;
        s.composition = pts - dts;
        s.duration = static_cast<std::uint32_t>(std::clamp<std::int64_t>(duration, 0, UINT32_MAX));
        return s;
    }
    std::int64_t not_back(std::int64_t dts) const { return made_.empty() ? dts : std::max(dts, latest_dts_); }

    bool cut_pictures(const TimeRange& interval, bool first) {
        // Decoding begins at the last keyframe shown by then.
        SampleIndex::Cursor begin = near(interval.from);
        for (SampleIndex::Cursor c = begin; !c.done() && c->dts + earliest_ <= interval.from; ++c) {
            if (!worked()) return false;
            if (c->key && c->pts() <= interval.from) begin = c;
        }
        const std::int64_t move = interval.at - interval.from;
        std::vector<SampleIndex::Sample> waiting;  // not shown; left out unless one that is shown follows
        for (SampleIndex::Cursor c = begin; !c.done() && c->dts + earliest_ < interval.to; ++c) {
            if (!worked()) return false;
            const std::int64_t pts = c->pts(), end = pts + std::max<std::int64_t>(c->duration, 1);
            if (pts >= interval.to || end <= interval.from) {
                waiting.push_back(*c);
                continue;
            }
            for (const SampleIndex::Sample& s : waiting) {
                // Before the very first picture times are negative, as with a single interval: nothing else is there.
                const bool lead = first && interval.at == 0 && s.pts() < interval.from;
                add(moved(s, s.pts() + move, not_back(s.dts + move), lead ? s.duration : 0), !lead);
            }
            waiting.clear();
            const std::int64_t shown = std::max(pts, interval.from) + move;
            const std::int64_t lasts =
                interval.dwell ? interval.lasts : std::min(end, interval.to) - std::max(pts, interval.from);
            add(moved(*c, shown, std::min(not_back(c->dts + move), shown), lasts), false);
        }
        return true;
    }

    bool cut_audio(const TimeRange& interval, bool first, bool last) {
        if (interval.dwell) return true;  // no audio stands still
        // What a decoder needs before the very first sample keeps its negative times.
        const std::int64_t lead = first && interval.at == 0 ? track_.samples.timescale / 4 : 0;
        const std::int64_t move = interval.at - interval.from;
        for (SampleIndex::Cursor c = near(interval.from - lead); !c.done() && c->dts < interval.to; ++c) {
            if (!worked()) return false;
            SampleIndex::Sample s = *c;
            const std::int64_t begin = s.pts(), end = begin + s.duration;
            if (track_.info.codec == Codec::lpcm && s.duration > 0 && s.size % s.duration == 0) {
                const std::int64_t from = std::max(begin, interval.from), to = std::min(end, interval.to);
                if (from >= to) continue;
                const std::uint32_t frame = s.size / s.duration;
                s.offset += static_cast<std::uint64_t>(from - begin) * frame;
                s.size = static_cast<std::uint32_t>(to - from) * frame;
                add(moved(s, from + move, from + move, to - from), false);
                continue;
            }
            const std::int64_t middle = begin + s.duration / 2;
            const bool begun = lead > 0 ? end > interval.from - lead : middle >= interval.from;
            const bool over = last ? begin >= interval.to : middle >= interval.to;
            if (!begun || over) continue;
            add(moved(s, begin + move, std::min(not_back(begin + move), begin + move), s.duration), false);
        }
        return true;
    }

    bool cut_text(const TimeRange& interval) {
        if (interval.dwell) return true;
        const std::int64_t move = interval.at - interval.from;
        // A cue may have begun long before: all are looked at.
        for (SampleIndex::Cursor c = index_.begin(); !c.done() && c->dts < interval.to; ++c) {
            if (!worked()) return false;
            const std::int64_t from = std::max(c->pts(), interval.from),
                               to = std::min(c->pts() + c->duration, interval.to);
            if (from < to) add(moved(*c, from + move, from + move, to - from), false);
        }
        return true;
    }

    const Mp4Track& track_;
    const SampleIndex& index_;
    std::vector<Mark> marks_;
    std::int64_t earliest_ = 0;  // the least composition offset, 0 or below
    SampleIndex made_;
    std::uint64_t next_offset_ = 0;
    std::int64_t next_dts_ = 0, latest_dts_ = 0;
    std::size_t steps_ = 0;
};

}  // namespace

Presentation apply_edits(const std::vector<Edit>& edits, std::int64_t movie_timescale, bool whole, Mp4Track& track) {
    Presentation result;
    Mp4Samples& samples = track.samples;
    const Plan list = plan(edits, movie_timescale, samples.timescale);
    if (list.intervals.empty()) {
        // Nothing but emptiness, or no list: media and presentation are one.
        return result;
    }
    const auto shift_by_first = [&] {
        const TimeRange& first = list.intervals.front();
        samples.shift = base::from_ticks(first.at, samples.timescale) - base::from_ticks(first.from, samples.timescale);
    };
    if (list.intervals.size() == 1 && !list.intervals.front().dwell) {
        shift_by_first();
        result.end = list.end;
        return result;
    }
    Cutter cutter(track);
    bool followed = whole;
    for (std::size_t i = 0; followed && i < list.intervals.size(); ++i)
        followed = cutter.cut(list.intervals[i], i == 0, i + 1 == list.intervals.size());
    if (!followed) {
        shift_by_first();
        result.note =
            fmt::format("track {} has an edit list of {} entries, which {}: ignored", track.info.id,
                        list.intervals.size(), whole ? "is too long" : "needs seeking, which piped input can't");
        return result;
    }
    samples.index = cutter.take();
    samples.shift = Time{};
    samples.edited = true;
    result.end = list.end;
    return result;
}

}  // namespace wavecrest::container::mp4
