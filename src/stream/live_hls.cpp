#include "stream/live_hls.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <cmath>

#include "container/media_playlist.hpp"
#include "stream/text_subtitles.hpp"

namespace wavecrest::stream {
namespace {

constexpr Time kShortest = std::chrono::milliseconds(300);  // of a segment

}  // namespace

void LiveHls::close(Time end) {
    if (filling_.empty()) return;
    Segment segment{from_, std::max(end - from_, base::from_seconds(0.001)), Bytes(std::move(filling_))};
    filling_ = {};
    peak_bps_ = std::max(peak_bps_, static_cast<std::int64_t>(static_cast<double>(segment.bytes.size()) * 8 /
                                                              base::to_seconds(segment.length)));
    segments_.push_back(std::move(segment));
    while (segments_.size() > settings_.listed + settings_.kept) {
        segments_.pop_front();
        ++first_;
    }
    for (std::vector<Packet>& cues : cues_) forget_cues(cues, segments_.front().from);
}

void LiveHls::add_cue(const Packet& cue) {
    const base::MutexLock lock(mutex_);
    for (std::size_t i = 0; i < subtitles_.size(); ++i) {
        if (subtitles_[i].id == cue.track) cues_[i].push_back(cue);
    }
}

bool LiveHls::push(ByteSpan packets, bool start, Time group) {
    const base::MutexLock lock(mutex_);
    if (start && begun_ && group > last_start_) {
        longest_group_ = std::max(longest_group_, group - last_start_);
        last_start_ = group;
    }
    // Where somebody skipped, a keyframe comes early: a short segment is better than one that breaks the promise.
    const Time so_far = group - from_;
    const bool early = !segments_.empty() && so_far >= kShortest &&
                       so_far + longest_group_ >= base::from_seconds(static_cast<double>(target_s_) + 0.5);
    bool whole = false;
    if (start && !begun_) {
        begun_ = true;
        from_ = last_start_ = group;
    } else if (start && (so_far >= settings_.least || early)) {
        target_s_ = std::max<std::int64_t>(target_s_, std::llround(base::to_seconds(group - from_)));
        close(group);
        from_ = group;
        whole = true;
    }
    if (begun_) filling_.insert(filling_.end(), packets.begin(), packets.end());
    return whole;
}

void LiveHls::finish(Time end) {
    const base::MutexLock lock(mutex_);
    if (ended_) return;
    ended_ = true;
    if (!begun_) return;
    target_s_ = std::max<std::int64_t>(target_s_, std::llround(base::to_seconds(end - from_)));
    close(end);
}

Result<std::string> LiveHls::playlist(const std::string& stem, const std::string& query) const {
    return list_of(stem, "ts", query);
}
Result<std::string> LiveHls::subtitles_playlist(const std::string& stem, const std::string& query) const {
    return list_of(stem, "vtt", query);
}

Result<std::string> LiveHls::list_of(const std::string& stem, const char* extension, const std::string& query) const {
    const base::MutexLock lock(mutex_);
    if (!enough())
        return fail(ErrorKind::wanting, "the stream has just begun", "the playlist", "ask again in a few seconds");
    const std::size_t listed = std::min(settings_.listed, segments_.size());
    const std::size_t skipped = segments_.size() - listed;
    container::MediaPlaylist list;
    list.target_s = target_s_;
    list.sequence = first_ + skipped;
    list.ended = ended_;
    if (!ended_) {
        // Just after the beginning of the segment that is meant, so that rounding picks no other.
        Time start = std::chrono::milliseconds(-50);
        for (std::size_t i = 0; i < std::min(before_end(), listed); ++i)
            start += segments_[segments_.size() - 1 - i].length;
        list.start = -start;
    }
    // Players that knew an earlier run begin anew with the first segment of this one (4.3.3.3: the number of a run is
    // as good as that of its first segment).
    const bool first_run = settings_.first_number == 0;
    const bool has_first = first_ + skipped == settings_.first_number;
    list.discontinuities = settings_.first_number + (first_run || has_first ? 0 : 1);
    for (std::size_t i = skipped; i < segments_.size(); ++i)
        list.segments.push_back({fmt::format("{}-{}.{}{}", stem, first_ + i, extension, query), segments_[i].length,
                                 !first_run && first_ + i == settings_.first_number});
    list.paused = paused_;
    return container::write_playlist(list);
}

bool LiveHls::enough() const {
    if (segments_.empty()) return false;
    return segments_.size() >= settings_.fewest || first_ != settings_.first_number || ended_;
}

bool LiveHls::has_begun() const {
    const base::MutexLock lock(mutex_);
    return enough();
}

std::uint64_t LiveHls::newest() const {
    const base::MutexLock lock(mutex_);
    return first_ + segments_.size();
}

Time LiveHls::target() const {
    const base::MutexLock lock(mutex_);
    return std::chrono::seconds(target_s_);
}

void LiveHls::pause(bool paused) {
    const base::MutexLock lock(mutex_);
    paused_ = paused;
}

Time LiveHls::latency() const {
    const base::MutexLock lock(mutex_);
    const double segments = settings_.reaches_ahead && target_s_ > 1 ? 2.9 : 3.5;
    return base::from_seconds(segments * static_cast<double>(target_s_));
}

std::size_t LiveHls::before_end() const {
    return target_s_ > 1 && !settings_.reaches_ahead ? 2 : 3;
}

std::optional<Time> LiveHls::behind(std::uint64_t number) const {
    const base::MutexLock lock(mutex_);
    const auto found = find(number);
    if (!found) return std::nullopt;
    const Segment& newest = segments_.back();
    return newest.from + newest.length - ((*found)->from + (*found)->length);
}

Result<const LiveHls::Segment*> LiveHls::find(std::uint64_t number) const {
    if (number >= first_ && number - first_ < segments_.size())
        return &segments_[static_cast<std::size_t>(number - first_)];
    return fail(ErrorKind::usage, number < first_ ? "this segment has expired" : "this segment isn't there yet",
                fmt::format("segment {}", number), "ask for the playlist");
}

Result<Bytes> LiveHls::segment(std::uint64_t number) const {
    const base::MutexLock lock(mutex_);
    WAVECREST_TRY_ASSIGN(found, find(number));
    return found->bytes;
}

Result<Bytes> LiveHls::subtitles_segment(std::size_t track, std::uint64_t number) const {
    const base::MutexLock lock(mutex_);
    WAVECREST_TRY_ASSIGN(found, find(number));
    if (track >= subtitles_.size())
        return fail(ErrorKind::usage, fmt::format("there are no subtitles {}", track + 1), "the stream",
                    "ask for the playlist");
    return cues_between(cues_[track], found->from, found->from + found->length);
}

std::int64_t LiveHls::peak_bps() const {
    const base::MutexLock lock(mutex_);
    return peak_bps_;
}

}  // namespace wavecrest::stream
