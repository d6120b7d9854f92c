// The short window of a live stream for players of HTTP Live Streaming (RFC 8216): segments cut from its transport
// packets at keyframes, and the playlist that lists the last of them.
#pragma once

#include <deque>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"

namespace wavecrest::stream {

struct LiveHlsSettings {
    Time least = base::from_seconds(2);  // of a segment; it ends at the next keyframe
    std::size_t listed = 6;              // segments in the playlist
    std::size_t kept = 6;                // more that stay after they left it (6.2.2: a playlist's length)
};

// Pushed to by one thread, asked by any.
class LiveHls {
  public:
    explicit LiveHls(LiveHlsSettings settings = {}) : settings_(settings) {}

    // `start`: tables and a keyframe follow, of decoding time `group`.
    void push(ByteSpan packets, bool start, Time group);
    // The stream has ended: the playlist says so.
    void finish(Time end);

    // Nothing before the first segment is whole. Segments' addresses are `stem`-NUMBER.ts with `query` behind them.
    std::optional<std::string> playlist(const std::string& stem, const std::string& query = "") const;
    // Nothing where it isn't there any more, or not yet.
    std::optional<Bytes> segment(std::uint64_t number) const;

  private:
    struct Segment {
        Time from{}, length{};
        Bytes bytes;
    };
    void close(Time end);

    const LiveHlsSettings settings_;
    mutable std::mutex mutex_;
    std::deque<Segment> segments_;  // numbered from first_
    std::uint64_t first_ = 0;
    ByteVector filling_;
    bool begun_ = false, ended_ = false;
    Time from_{};
    std::int64_t target_s_ = 4;  // promised for all segments (6.2.1); larger only where keyframes are further apart
};

}  // namespace wavecrest::stream
