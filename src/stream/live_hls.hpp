// The short window of a live stream for players of HTTP Live Streaming (RFC 8216): segments cut from its transport
// packets at keyframes, and the playlist that lists the last of them. Subtitles of text go in segments beside it
// (stream/text_subtitles.hpp).
#pragma once

#include <deque>
#include <optional>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/mutex.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "media/types.hpp"

namespace wavecrest::stream {

struct LiveHlsSettings {
    Time least = base::from_seconds(0.8);  // of a segment; it ends at the next keyframe
    std::size_t listed = 8;                // segments in the playlist
    std::size_t kept = 8;                  // more that stay after they left it (6.2.2: a playlist's length)
    std::size_t fewest = 3;                // in the first playlist: players don't begin with less
    // Who joins is given a list that reaches further than what is due (LiveService::listed_for_join): players begin
    // three target durations before its end.
    bool reaches_ahead = false;
    // Number of the first segment. One that only grows from run to run (seconds of the wall clock do, where segments
    // last longer) lets players that have waited for a server see that it goes on.
    std::uint64_t first_number = 0;
};

// Pushed to by one thread, asked by any.
class LiveHls {
  public:
    // `subtitles`: the subtitles there are, each of text.
    explicit LiveHls(LiveHlsSettings settings = {}, std::vector<Track> subtitles = {})
        : settings_(settings),
          subtitles_(std::move(subtitles)),
          first_(settings.first_number),
          cues_(subtitles_.size()) {}
    const std::vector<Track>& text_subtitles() const { return subtitles_; }

    // `start`: tables and a keyframe follow, of decoding time `group`. True when a segment has become whole by it.
    bool push(ByteSpan packets, bool start, Time group);
    // A cue of one of text_subtitles(), by its id; early enough, it comes with the pictures it belongs to.
    void add_cue(const Packet& cue);
    // The stream has ended: the playlist says so.
    void finish(Time end);

    // The pictures stand still until the next push: a comment in the playlist says so to whoever verifies it.
    void pause(bool paused);
    // Fails (kind wanting) before enough segments are whole. Segments' addresses are `stem`-NUMBER.ts with `query`
    // behind them.
    Result<std::string> playlist(const std::string& stem, const std::string& query = "") const;
    // The same of subtitles: segments at `stem`-NUMBER.vtt.
    Result<std::string> subtitles_playlist(const std::string& stem, const std::string& query = "") const;
    // Both fail (kind usage) where it isn't there any more, or not yet.
    Result<Bytes> segment(std::uint64_t number) const;
    Result<Bytes> subtitles_segment(std::size_t track, std::uint64_t number) const;  // of text_subtitles()[track]
    // How far the end of a segment lies behind the newest; nothing for one that isn't there.
    std::optional<Time> behind(std::uint64_t number) const;
    // How far behind the newest players are at most: three target durations (6.3.3: some don't begin where EXT-X-START
    // asks them to), and half a segment is being filled, or what the list reached ahead is taken off.
    Time latency() const;
    // What no segment is longer than, so far, in whole seconds.
    Time target() const;
    bool has_begun() const;        // there is a playlist
    std::uint64_t newest() const;  // number of the segment listed last, and 1; grows
    // Of the segments so far: the most bits a second over one of them.
    std::int64_t peak_bps() const;

  private:
    struct Segment {
        Time from{}, length{};
        Bytes bytes;
    };
    // How many segments before the end players should begin (EXT-X-START): three, as 6.3.3 has it, where segments are
    // short. Of longer ones two: the next is whole within one target duration, and a list that has not changed is asked
    // for again within half of one, so that half a target duration is left at the worst. 4.3.5.2 advises against less
    // than three; viewers of something that happens now are a third less behind. Where the list reaches ahead, they are
    // that by it.
    std::size_t before_end() const REQUIRES(mutex_);
    void close(Time end) REQUIRES(mutex_);
    bool enough() const REQUIRES(mutex_);
    Result<std::string> list_of(const std::string& stem, const char* extension, const std::string& query) const;
    Result<const Segment*> find(std::uint64_t number) const REQUIRES(mutex_);

    const LiveHlsSettings settings_;
    const std::vector<Track> subtitles_;
    mutable base::Mutex mutex_;
    std::deque<Segment> segments_ GUARDED_BY(mutex_);  // numbered from first_
    std::uint64_t first_ GUARDED_BY(mutex_);
    ByteVector filling_ GUARDED_BY(mutex_);
    std::vector<std::vector<Packet>> cues_
        GUARDED_BY(mutex_);  // of each of subtitles_: what may be shown in the segments, and later
    std::int64_t peak_bps_ GUARDED_BY(mutex_) = 0;
    bool begun_ GUARDED_BY(mutex_) = false, ended_ GUARDED_BY(mutex_) = false, paused_ GUARDED_BY(mutex_) = false;
    Time from_{};
    Time last_start_{}, longest_group_{};  // the latest keyframe; how far they lie apart at most
    std::int64_t target_s_ = 1;  // promised for all segments (6.2.1); what is longer later is an honest exception
};

}  // namespace wavecrest::stream
