// Elementary streams as discs carry them, turned into timed packets on a title's timeline: the tables say where a clock
// of the streams lies on it. DVD and Blu-ray title sources feed it with what they find in packs and transport packets.
#pragma once

#include <deque>
#include <map>
#include <optional>
#include <vector>

#include "container/elementary.hpp"
#include "container/timing.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

class TitleAssembler {
  public:
    using Timestamp = std::optional<std::int64_t>;  // 90 kHz, as the stream carries it (32 or 33 bits)

    // Only these tracks' data is taken: MPEG, H.264, H.265 or VC-1 video (the first such track), framed or LPCM audio,
    // subtitles.
    explicit TitleAssembler(const std::vector<Track>& tracks);

    // From now on `timestamp` of the stream's clock is `at` of the title. Exact: no rounding adds up over many cells.
    void start_clock(std::int64_t timestamp, Time at);
    bool has_clock() const { return has_clock_; }
    Time time_of(std::int64_t timestamp) const;

    // A piece of a track's elementary stream, as PES packets carry it; timestamps belong to the first unit that begins
    // in it. Audio and subtitles are dropped until there is a clock.
    void push(TrackId track, ByteSpan piece, Timestamp pts, Timestamp dts = {});
    // LPCM of DVD-Video: plain samples (bitstream/lpcm.hpp) of `frames` sample frames at `rate` Hz; `pts` is that of
    // the first.
    void samples(TrackId track, ByteVector data, std::int64_t frames, int rate, Timestamp pts);
    // Whether samples() of this track have a time that later ones can follow.
    bool samples_begun(TrackId track) const;

    // Data is missing here: what is incomplete is dropped, pictures go on with the next one that needs no other.
    void lost();
    // The same for one track alone, where the stream tells which (continuity counters).
    void lost(TrackId track);
    // The title ends, or what follows does not continue the streams (another clip): gives what is complete so far.
    void finish();
    // After a seek to `time`: nothing before counts.
    void restart(Time time);

    std::optional<Packet> take();
    // A packet that was taken, put behind those that wait.
    void give_back(Packet packet) { ready_.push_back(std::move(packet)); }
    const std::vector<Problem>& problems() const { return problems_; }
    void report(std::string what, Time from, Time to);
    // What the video stream has told of itself, its decoder configuration above all; null before, and for MPEG-1 and
    // MPEG-2, which have no configuration apart.
    const Track* video_description() const;
    // Up to which pictures have come.
    Time video_end() const { return video_end_; }

  private:
    struct TrackState {
        container::ElementaryStream stream;
        std::optional<container::AudioClock> samples;  // of what comes by samples()
        std::optional<Time> end;                       // of the audio so far; what begins later than that leaves a hole
    };
    std::optional<Time> on_timeline(Timestamp timestamp) const;
    void collect(TrackState& state);
    void note_video(const Packet& packet, Codec codec);
    void emit_audio(TrackState& state, Packet packet);

    std::map<TrackId, TrackState> tracks_;
    TrackId video_track_ = -1;

    bool has_clock_ = false;
    std::int64_t clock_timestamp_ = 0;
    Time clock_time_{};

    bool seen_picture_ = false;  // since the start or the last seek
    Time video_end_{};
    std::deque<Packet> ready_;
    std::vector<Problem> problems_;
};

}  // namespace wavecrest::disc
