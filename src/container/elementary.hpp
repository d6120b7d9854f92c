// Elementary streams as MPEG's program and transport streams carry them, in files and on discs, cut into timed packets:
// what their readers share. Timestamps come in on a continuous timeline: in files TimestampClock makes it, on discs the
// tables do (disc/title_assembler.hpp).
#pragma once

#include <deque>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "bitstream/audio_frames.hpp"
#include "bitstream/mpeg2.hpp"
#include "bitstream/nal.hpp"
#include "container/timing.hpp"
#include "media/types.hpp"

namespace wavecrest::container {

// Timestamps of 33 bits that wrap, jump and are told by several tracks, on one continuous timeline. Where a track's
// timestamps jump, a new interval begins at the latest time reached; the other tracks join it with their own jump.
class TimestampClock {
  public:
    // The interval a track is in, and its last timestamp.
    struct TrackState {
        std::size_t interval = 0;
        std::optional<std::int64_t> last;  // unwrapped
    };
    struct Times {
        std::optional<Time> pts, dts;
    };
    // Those of a PES packet (90 kHz, 33 bits), on the continuous timeline; without a decoding timestamp `dts` is `pts`,
    // without any there is none.
    Times on_timeline(TrackState& track_state, std::optional<std::int64_t> pts, std::optional<std::int64_t> dts);
    // After a seek, or at the start: the next timestamp belongs to an interval in which `timestamp` is at `at`.
    void restart(std::int64_t timestamp, Time at);

    struct Jump {
        Time at{};  // of the continuous timeline
        Time by{};  // what the timestamps jumped by
    };
    // Since the last call.
    std::vector<Jump> take_jumps() { return std::exchange(jumps_, {}); }

  private:
    struct TimeRange {
        std::int64_t timestamp = 0;  // unwrapped, of some moment in it
        Time at{};                   // where that moment is
        std::int64_t newest = 0;     // unwrapped timestamp
    };
    Time place(TrackState& track_state, std::int64_t timestamp);

    std::vector<TimeRange> intervals_;
    Time reached_{};  // how far the timeline has been filled
    std::vector<Jump> jumps_;
};

class ElementaryStream {
  public:
    // `track` has codec and identifier; the rest is told by the stream itself.
    explicit ElementaryStream(Track track);
    ~ElementaryStream();
    ElementaryStream(ElementaryStream&&) noexcept;
    ElementaryStream& operator=(ElementaryStream&&) noexcept;

    // What the stream has told of itself so far; complete once described() is true.
    const Track& track() const { return track_; }
    Track& track() { return track_; }
    bool described() const { return described_; }

    // A piece of PES payload; timestamps belong to the first unit that begins in it.
    void push(ByteSpan piece, std::optional<Time> pts, std::optional<Time> dts);
    // A piece is missing here: what is incomplete is dropped.
    void lost();
    // The stream ends: gives what is left.
    void flush();
    // After a seek.
    void restart();
    // The timestamps come from another clock from here on, on the same timeline.
    void rejoin();
    // Whole packets, in decoding order; the caller takes them out.
    std::deque<Packet>& ready() { return ready_; }
    // Packets before the first one that decoding can start at are left out; how many.
    int left_out() const { return left_out_; }

  private:
    struct Framing;
    void take_pictures();
    void take_mpeg2();
    void take_frames();
    void take_whole(ByteSpan unit, std::optional<Time> pts);
    void push_subtitle(ByteSpan piece, std::optional<Time> pts);
    void push_lpcm(ByteSpan piece, std::optional<Time> pts);
    void emit_picture(bitstream::nal::AccessUnit unit);
    void emit(Packet packet);
    void describe(ByteSpan data);

    Track track_;
    bool described_ = false;
    bool seen_key_ = false, skip_leading_ = false;
    int left_out_ = 0;
    std::unique_ptr<Framing> framing_;
    std::optional<AudioClock> clock_;
    std::optional<PictureGrid> pts_grid_, dts_grid_;
    std::optional<Packet> held_;  // a picture waits for the next to tell its duration
    Time next_dts_{};
    std::deque<Packet> ready_;
};

}  // namespace wavecrest::container
