#include "disc/title_assembler.hpp"

#include <algorithm>
#include <chrono>

#include "codec/pgs.hpp"

namespace wavecrest::disc {
namespace {

namespace mpeg2 = bitstream::mpeg2;

constexpr std::size_t kLargestSubtitle = 4 << 20;
constexpr std::int64_t kStampRange = 1ll << 33;

// Stamps closer to where the samples before them end than this say the same.
constexpr std::chrono::milliseconds kAudioTolerance{2};
// At a new clock the timestamp counts to the sample.
constexpr std::chrono::microseconds kJoinTolerance{15};
// A hole in the audio that is worth telling.
constexpr std::chrono::milliseconds kAudioHole{50};

}  // namespace

TitleAssembler::TitleAssembler(const std::vector<Track>& tracks) {
    for (const Track& track : tracks) {
        switch (track.kind) {
            case TrackKind::video:
                if (video_track_ >= 0) break;
                if (track.codec == Codec::mpeg1 || track.codec == Codec::mpeg2) {
                    video_track_ = track.id;
                } else if (track.codec == Codec::h264 || track.codec == Codec::h265 || track.codec == Codec::vc1) {
                    video_track_ = track.id;
                    other_video_.emplace(track);
                }
                break;
            case TrackKind::audio: {
                // A TrueHD track's packets are those of its AC-3 core.
                const Codec framing = track.codec == Codec::truehd ? Codec::ac3 : track.codec;
                audio_.emplace(track.id, AudioState{track, bitstream::AudioFrameSplitter(framing), false, false, {}});
                break;
            }
            case TrackKind::subtitle:
                subtitles_.emplace(track.id, SubtitleState{track, {}, {}});
                break;
        }
    }
}

void TitleAssembler::start_clock(std::int64_t timestamp, Time at) {
    has_clock_ = true;
    clock_stamp_ = timestamp;
    clock_time_ = at;
    for (auto& [id, state] : audio_) state.rejoin = true;
}

Time TitleAssembler::time_of(std::int64_t timestamp) const {
    std::int64_t distance = timestamp - clock_stamp_;
    if (distance < -kStampRange / 2) distance += kStampRange;
    if (distance > kStampRange / 2) distance -= kStampRange;
    return clock_time_ + base::from_ticks(distance, 90000);
}

TitleAssembler::Stamp TitleAssembler::on_timeline(Stamp timestamp) const {
    if (!timestamp || !has_clock_) return std::nullopt;
    return base::to_ticks(time_of(*timestamp), 90000);
}

void TitleAssembler::video(ByteSpan piece, Stamp pts, Stamp dts) {
    if (video_track_ < 0) return;
    if (other_video_) {
        other_video_->push(piece, on_timeline(pts), on_timeline(dts));
        take_other_video();
        return;
    }
    splitter_.push(piece, on_timeline(pts), on_timeline(dts), 0, units_);
    take_units();
}

void TitleAssembler::take_units() {
    for (mpeg2::AccessUnit& unit : units_) {
        if (!splitter_.sequence()) continue;  // pictures before the first sequence header can't be decoded
        if (wait_for_key_) {
            if (unit.picture.coding_type != 1 || !unit.starts_group) continue;
            wait_for_key_ = false;
            skip_leading_ = !unit.closed_group;
        } else if (skip_leading_) {
            // Shown before the first picture, and made with one that was lost.
            if (unit.picture.coding_type == 3) continue;
            skip_leading_ = false;
        }
        timer_.push(std::move(unit), *splitter_.sequence(), timed_);
        take_timed();
    }
    units_.clear();
}

void TitleAssembler::take_other_video() {
    auto& from = other_video_->ready();
    while (!from.empty()) {
        Packet packet = std::move(from.front());
        from.pop_front();
        if (seen_picture_ && packet.pts > video_end_ + 20 * packet.duration)
            report("video is missing", video_end_, packet.pts);
        seen_picture_ = true;
        video_end_ = std::max(video_end_, packet.pts + packet.duration);
        ready_.push_back(std::move(packet));
    }
}

void TitleAssembler::take_timed() {
    for (mpeg2::TimedUnit& timed : timed_) {
        Packet packet;
        packet.track = video_track_;
        packet.pts = timed.pts;
        packet.dts = timed.dts;
        packet.duration = timed.duration;
        packet.key = timed.unit.picture.coding_type == 1 && timed.unit.starts_group;
        packet.data = Bytes(std::move(timed.unit.data));
        // Reordering moves a picture by a few; farther ahead means that those in between are lost.
        if (packet.pts > video_end_ + (seen_picture_ ? 6 : 0) * packet.duration)
            if (seen_picture_) report("video is missing", video_end_, packet.pts);
        seen_picture_ = true;
        video_end_ = std::max(video_end_, packet.pts + packet.duration);
        ready_.push_back(std::move(packet));
    }
    timed_.clear();
}

bool TitleAssembler::audio_begun(TrackId track) const {
    const auto found = audio_.find(track);
    return found != audio_.end() && found->second.begun;
}

void TitleAssembler::audio(TrackId track, ByteSpan piece, Stamp pts) {
    const auto found = audio_.find(track);
    if (found == audio_.end() || !has_clock_) return;
    found->second.splitter.push(piece, on_timeline(pts), frames_);
    take_frames(found->second);
}

void TitleAssembler::take_frames(AudioState& state) {
    for (bitstream::AudioFrame& frame : frames_) {
        std::optional<Time> stamped;
        if (frame.pts) stamped = base::from_ticks(*frame.pts, 90000);
        append_audio(state, stamped, base::from_ticks(frame.header.samples, std::max(1, frame.header.sample_rate)),
                     Bytes(std::move(frame.data)));
    }
    frames_.clear();
}

void TitleAssembler::samples(TrackId track, ByteVector data, std::int64_t frames, int rate, Stamp pts) {
    const auto found = audio_.find(track);
    if (found == audio_.end() || !has_clock_ || frames <= 0) return;
    std::optional<Time> stamped;
    if (pts) stamped = time_of(*pts);
    append_audio(found->second, stamped, base::from_ticks(frames, rate), Bytes(std::move(data)));
}

void TitleAssembler::append_audio(AudioState& state, std::optional<Time> stamped, Time duration, Bytes data) {
    if (!state.begun) {
        if (!stamped) return;
        state.begun = true;
        state.next = *stamped;
    } else if (stamped) {
        const Time off = std::chrono::abs(*stamped - state.next);
        if (off > kAudioTolerance || (state.rejoin && off > kJoinTolerance)) {
            if (*stamped - state.next > kAudioHole) report("audio is missing", state.next, *stamped);
            state.next = *stamped;
        }
    }
    if (stamped) state.rejoin = false;
    Packet packet;
    packet.track = state.track.id;
    packet.pts = packet.dts = state.next;
    packet.duration = duration;
    packet.key = true;
    packet.data = std::move(data);
    state.next += duration;
    ready_.push_back(std::move(packet));
}

void TitleAssembler::subtitle(TrackId track, ByteSpan piece, Stamp pts) {
    const auto found = subtitles_.find(track);
    if (found == subtitles_.end() || !has_clock_) return;
    SubtitleState& state = found->second;
    const bool segments = state.track.codec == Codec::pgs;
    if (pts && (!segments || (!piece.empty() && piece[0] == codec::pgs::kComposition))) {
        state.unit.clear();
        state.pts = time_of(*pts);
    }
    if (!state.pts) return;
    state.unit.insert(state.unit.end(), piece.begin(), piece.end());
    if (state.unit.size() > kLargestSubtitle) {
        state.unit.clear();
        state.pts.reset();
        return;
    }
    bool whole = false;
    if (segments) {
        std::size_t at = 0;
        while (at + 3 <= state.unit.size()) {
            const std::size_t next = at + 3 + (state.unit[at + 1] << 8u | state.unit[at + 2]);
            if (next > state.unit.size()) break;
            whole = state.unit[at] == codec::pgs::kEnd;
            at = next;
        }
    } else if (state.unit.size() >= 2) {
        const std::size_t size = static_cast<std::size_t>(state.unit[0]) << 8 | state.unit[1];
        whole = state.unit.size() >= size;
        if (whole) state.unit.resize(size);
    }
    if (!whole) return;
    Packet packet;
    packet.track = track;
    packet.pts = packet.dts = *state.pts;
    packet.key = true;
    packet.data = Bytes(std::move(state.unit));
    state.unit = {};
    state.pts.reset();
    ready_.push_back(std::move(packet));
}

void TitleAssembler::lost() {
    if (other_video_) other_video_->lost();
    splitter_.reset();
    timer_.flush(timed_);
    take_timed();
    wait_for_key_ = true;
    skip_leading_ = false;
    for (auto& [id, state] : audio_) state.splitter.reset();
    for (auto& [id, state] : subtitles_) {
        state.unit.clear();
        state.pts.reset();
    }
}

void TitleAssembler::lost(TrackId track) {
    if (track == video_track_ && other_video_) {
        other_video_->lost();
    } else if (track == video_track_) {
        splitter_.reset();
        timer_.flush(timed_);
        take_timed();
        wait_for_key_ = true;
        skip_leading_ = false;
    } else if (const auto audio = audio_.find(track); audio != audio_.end()) {
        audio->second.splitter.reset();
    } else if (const auto subtitle = subtitles_.find(track); subtitle != subtitles_.end()) {
        subtitle->second.unit.clear();
        subtitle->second.pts.reset();
    }
}

void TitleAssembler::join() {
    finish();
    for (auto& [id, state] : subtitles_) {
        state.unit.clear();
        state.pts.reset();
    }
}

void TitleAssembler::restart(Time time) {
    ready_.clear();
    units_.clear();
    timed_.clear();
    splitter_.reset();
    timer_.reset();
    if (other_video_) other_video_->restart();
    wait_for_key_ = skip_leading_ = seen_picture_ = has_clock_ = false;
    video_end_ = time;
    for (auto& [id, state] : audio_) {
        state.splitter.reset();
        state.begun = state.rejoin = false;
    }
    for (auto& [id, state] : subtitles_) {
        state.unit.clear();
        state.pts.reset();
    }
}

void TitleAssembler::finish() {
    if (other_video_) {
        other_video_->flush();
        take_other_video();
    }
    splitter_.flush(units_);
    take_units();
    timer_.flush(timed_);
    take_timed();
    for (auto& [id, state] : audio_) {
        state.splitter.flush(frames_);
        take_frames(state);
    }
}

std::optional<Packet> TitleAssembler::take() {
    if (ready_.empty()) return std::nullopt;
    Packet packet = std::move(ready_.front());
    ready_.pop_front();
    return packet;
}

void TitleAssembler::report(std::string what, Time from, Time to) {
    // The same hole is met by every audio track, and in pieces.
    for (auto it = problems_.rbegin(); it != problems_.rend() && it - problems_.rbegin() < 8; ++it) {
        if (it->what == what && from <= it->to + kAudioHole && to + kAudioHole >= it->from) {
            it->from = std::min(it->from, from);
            it->to = std::max(it->to, to);
            return;
        }
    }
    problems_.push_back({std::move(what), from, to});
}

}  // namespace wavecrest::disc
