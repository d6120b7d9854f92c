// The short window of a live stream for players of HTTP Live Streaming (RFC 8216): segments cut from its transport
// packets at keyframes, and the playlist that lists the last of them. Subtitles of text go in segments beside it
// (stream/words.hpp).
#pragma once

#include <deque>
#include <mutex>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "media/types.hpp"

namespace wavecrest::stream {

struct LiveHlsSettings {
    Time least = base::from_seconds(2);  // of a segment; it ends at the next keyframe
    std::size_t listed = 6;              // segments in the playlist
    std::size_t kept = 6;                // more that stay after they left it (6.2.2: a playlist's length)
};

// Pushed to by one thread, asked by any.
class LiveHls {
  public:
    // `words`: the subtitles there are, each of text.
    explicit LiveHls(LiveHlsSettings settings = {}, std::vector<Track> words = {})
        : settings_(settings), words_(std::move(words)), cues_(words_.size()) {}
    const std::vector<Track>& words() const { return words_; }

    // `start`: tables and a keyframe follow, of decoding time `group`.
    void push(ByteSpan packets, bool start, Time group);
    // A cue of one of words(), by its id; early enough, it comes with the pictures it belongs to.
    void say(const Packet& cue);
    // The stream has ended: the playlist says so.
    void finish(Time end);

    // Fails (kind wanting) before the first segment is whole. Segments' addresses are `stem`-NUMBER.ts with `query`
    // behind them.
    Result<std::string> playlist(const std::string& stem, const std::string& query = "") const;
    // The same of subtitles: segments at `stem`-NUMBER.vtt.
    Result<std::string> words_playlist(const std::string& stem, const std::string& query = "") const;
    // Both fail (kind usage) where it isn't there any more, or not yet.
    Result<Bytes> segment(std::uint64_t number) const;
    Result<Bytes> words_segment(std::size_t track, std::uint64_t number) const;  // of words()[track]
    // Of the segments so far: the most bits a second over one of them.
    std::int64_t peak_bps() const;

  private:
    struct Segment {
        Time from{}, length{};
        Bytes bytes;
    };
    void close(Time end);
    Result<std::string> list_of(const std::string& stem, const char* extension, const std::string& query) const;
    Result<const Segment*> find(std::uint64_t number) const;

    const LiveHlsSettings settings_;
    const std::vector<Track> words_;
    mutable std::mutex mutex_;
    std::deque<Segment> segments_;  // numbered from first_
    std::uint64_t first_ = 0;
    ByteVector filling_;
    std::vector<std::vector<Packet>> cues_;  // of each of words_: what may be shown in the segments, and later
    std::int64_t peak_bps_ = 0;
    bool begun_ = false, ended_ = false;
    Time from_{};
    std::int64_t target_s_ = 4;  // promised for all segments (6.2.1); larger only where keyframes are further apart
};

}  // namespace wavecrest::stream
