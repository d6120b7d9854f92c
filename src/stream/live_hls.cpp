#include "stream/live_hls.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "container/media_playlist.hpp"

namespace wavecrest::stream {

void LiveHls::close(Time end) {
    if (filling_.empty()) return;
    Segment segment{from_, std::max(end - from_, base::from_seconds(0.001)), Bytes(std::move(filling_))};
    filling_ = {};
    segments_.push_back(std::move(segment));
    while (segments_.size() > settings_.listed + settings_.kept) {
        segments_.pop_front();
        ++first_;
    }
}

void LiveHls::push(ByteSpan packets, bool start, Time group) {
    const std::lock_guard lock(mutex_);
    if (start && !begun_) {
        begun_ = true;
        from_ = group;
    } else if (start && group - from_ >= settings_.least) {
        // The target duration is promised with the first playlist; what is longer later is an honest exception.
        target_s_ = std::max<std::int64_t>(target_s_, std::llround(base::to_seconds(group - from_)));
        close(group);
        from_ = group;
    }
    if (begun_) filling_.insert(filling_.end(), packets.begin(), packets.end());
}

void LiveHls::finish(Time end) {
    const std::lock_guard lock(mutex_);
    if (ended_) return;
    ended_ = true;
    if (!begun_) return;
    target_s_ = std::max<std::int64_t>(target_s_, std::llround(base::to_seconds(end - from_)));
    close(end);
}

std::optional<std::string> LiveHls::playlist(const std::string& stem, const std::string& query) const {
    const std::lock_guard lock(mutex_);
    if (segments_.empty()) return std::nullopt;
    const std::size_t listed = std::min(settings_.listed, segments_.size());
    const std::size_t skipped = segments_.size() - listed;
    container::MediaPlaylist list;
    list.target_s = target_s_;
    list.sequence = first_ + skipped;
    list.ended = ended_;
    for (std::size_t i = skipped; i < segments_.size(); ++i)
        list.segments.push_back({fmt::format("{}-{}.ts{}", stem, first_ + i, query), segments_[i].length, false});
    return container::write_playlist(list);
}

std::optional<Bytes> LiveHls::segment(std::uint64_t number) const {
    const std::lock_guard lock(mutex_);
    if (number < first_ || number - first_ >= segments_.size()) return std::nullopt;
    return segments_[static_cast<std::size_t>(number - first_)].bytes;
}

}  // namespace wavecrest::stream
