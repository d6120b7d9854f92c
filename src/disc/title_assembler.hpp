// Elementary streams as discs carry them, turned into timed packets on one continuous timeline. DVD and Blu-ray title
// sources feed it with what they find in packs and transport packets.
#pragma once

#include <deque>
#include <map>
#include <optional>
#include <vector>

#include "bitstream/audio_frames.hpp"
#include "bitstream/mpeg2.hpp"
#include "container/elementary.hpp"
#include "media/types.hpp"

namespace wavecrest::disc {

class TitleAssembler {
  public:
    using Stamp = std::optional<std::int64_t>;  // 90 kHz, as the stream carries it (32 or 33 bits)

    // Only these tracks' data is taken: MPEG, H.264, H.265 or VC-1 video, framed or LPCM audio, subtitles.
    explicit TitleAssembler(const std::vector<Track>& tracks);

    // From now on `timestamp` of the stream's clock is `at` of the title. Exact: no rounding adds up over many cells.
    void start_clock(std::int64_t timestamp, Time at);
    bool has_clock() const { return has_clock_; }
    Time time_of(std::int64_t timestamp) const;

    void video(ByteSpan piece, Stamp pts, Stamp dts);
    // AC-3, DTS, MPEG audio: pieces of the elementary stream.
    void audio(TrackId track, ByteSpan piece, Stamp pts);
    // LPCM: plain samples (bitstream/lpcm.hpp) of `frames` sample frames at `rate` Hz; `pts` is that of the first.
    void samples(TrackId track, ByteVector data, std::int64_t frames, int rate, Stamp pts);
    bool audio_begun(TrackId track) const;
    // Subpicture units and PGS segments, in pieces.
    void subtitle(TrackId track, ByteSpan piece, Stamp pts);

    // Data is missing here: what is incomplete is dropped, pictures go on with the next one that needs no other.
    void lost();
    // The same for one track alone, where the stream tells which (continuity counters).
    void lost(TrackId track);
    // What follows does not continue the streams (another clip): gives what is complete so far.
    void join();
    // After a skip to `time`: nothing before counts.
    void restart(Time time);
    // The title ends: gives what is left.
    void finish();

    std::optional<Packet> take();
    // A packet that was taken, put behind those that wait.
    void give_back(Packet packet) { ready_.push_back(std::move(packet)); }
    const std::vector<Problem>& problems() const { return problems_; }
    void report(std::string what, Time from, Time to);
    // What H.264, H.265 and VC-1 video has told of itself, its decoder configuration above all; null before.
    const Track* video_description() const {
        return other_video_ && other_video_->described() ? &other_video_->track() : nullptr;
    }
    // Up to which pictures have come.
    Time video_end() const { return video_end_; }

  private:
    struct AudioState {
        Track track;
        bitstream::AudioFrameSplitter splitter;
        bool begun = false;
        bool rejoin = false;  // the clock has started anew
        Time next{};          // presentation time of the next sample
    };
    struct SubtitleState {
        Track track;
        ByteVector unit;
        std::optional<Time> pts;
    };
    Stamp on_timeline(Stamp timestamp) const;
    void take_units();
    void take_timed();
    void take_frames(AudioState& state);
    void append_audio(AudioState& state, std::optional<Time> stamped, Time duration, Bytes data);

    void take_other_video();

    TrackId video_track_ = -1;
    std::optional<container::ElementaryStream> other_video_;  // what is not MPEG-1 or MPEG-2
    std::map<TrackId, AudioState> audio_;
    std::map<TrackId, SubtitleState> subtitles_;

    bool has_clock_ = false;
    std::int64_t clock_stamp_ = 0;
    Time clock_time_{};

    bitstream::mpeg2::AccessUnitSplitter splitter_;
    bitstream::mpeg2::PictureTimer timer_;
    std::vector<bitstream::mpeg2::AccessUnit> units_;
    std::vector<bitstream::mpeg2::TimedUnit> timed_;
    std::vector<bitstream::AudioFrame> frames_;
    bool wait_for_key_ = false;
    bool skip_leading_ = false;
    bool seen_picture_ = false;  // since the start or the last skip
    Time video_end_{};
    std::deque<Packet> ready_;
    std::vector<Problem> problems_;
};

}  // namespace wavecrest::disc
