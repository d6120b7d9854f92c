#include "disc/title_assembler.hpp"

#include <algorithm>
#include <chrono>

namespace wavecrest::disc {
namespace {

constexpr std::int64_t kTimestampRange = std::int64_t{1} << 33;
// Timestamps of samples closer to where those before them end than this say the same.
constexpr std::chrono::milliseconds kAudioTolerance{2};
// A hole in the audio that is worth telling.
constexpr std::chrono::milliseconds kAudioHole{50};

bool is_read(Codec codec) {
    return codec == Codec::mpeg1 || codec == Codec::mpeg2 || codec == Codec::h264 || codec == Codec::h265 ||
           codec == Codec::vc1;
}
bool is_mpeg(Codec codec) {
    return codec == Codec::mpeg1 || codec == Codec::mpeg2;
}

}  // namespace

TitleAssembler::TitleAssembler(const std::vector<Track>& tracks) {
    for (const Track& track : tracks) {
        if (track.kind == TrackKind::video) {
            if (video_track_ >= 0 || !is_read(track.codec)) continue;
            video_track_ = track.id;
        }
        tracks_.emplace(track.id, TrackState{container::ElementaryStream(track), {}, {}});
    }
}

void TitleAssembler::start_clock(std::int64_t timestamp, Time at) {
    has_clock_ = true;
    clock_timestamp_ = timestamp;
    clock_time_ = at;
    for (auto& [id, state] : tracks_) {
        state.stream.rejoin();
        if (state.samples) state.samples->rejoin();
    }
}

Time TitleAssembler::time_of(std::int64_t timestamp) const {
    std::int64_t distance = timestamp - clock_timestamp_;
    if (distance < -kTimestampRange / 2) distance += kTimestampRange;
    if (distance > kTimestampRange / 2) distance -= kTimestampRange;
    return clock_time_ + base::from_ticks(distance, 90000);
}

std::optional<Time> TitleAssembler::on_timeline(Timestamp timestamp) const {
    if (!timestamp || !has_clock_) return std::nullopt;
    return time_of(*timestamp);
}

void TitleAssembler::push(TrackId track, ByteSpan piece, Timestamp pts, Timestamp dts) {
    const auto found = tracks_.find(track);
    if (found == tracks_.end() || (!has_clock_ && track != video_track_)) return;
    found->second.stream.push(piece, on_timeline(pts), on_timeline(dts));
    collect(found->second);
}

void TitleAssembler::collect(TrackState& state) {
    auto& from = state.stream.ready();
    while (!from.empty()) {
        Packet packet = std::move(from.front());
        from.pop_front();
        const Track& track = state.stream.track();
        if (track.kind == TrackKind::audio) {
            emit_audio(state, std::move(packet));
            continue;
        }
        if (track.kind == TrackKind::video) note_video(packet, track.codec);
        ready_.push_back(std::move(packet));
    }
}

void TitleAssembler::note_video(const Packet& packet, Codec codec) {
    // Reordering moves a picture by a few; farther ahead means that those in between are lost.
    const int reordered = is_mpeg(codec) ? 6 : 20;
    if (seen_picture_ && packet.pts > video_end_ + reordered * packet.duration)
        report("video is missing", video_end_, packet.pts);
    seen_picture_ = true;
    video_end_ = std::max(video_end_, packet.pts + packet.duration);
}

void TitleAssembler::emit_audio(TrackState& state, Packet packet) {
    if (state.end && packet.pts - *state.end > kAudioHole) report("audio is missing", *state.end, packet.pts);
    state.end = packet.pts + packet.duration;
    ready_.push_back(std::move(packet));
}

void TitleAssembler::samples(TrackId track, ByteVector data, std::int64_t frames, int rate, Timestamp pts) {
    const auto found = tracks_.find(track);
    if (found == tracks_.end() || !has_clock_ || frames <= 0) return;
    TrackState& state = found->second;
    if (!state.samples) state.samples.emplace(rate, kAudioTolerance);
    if (!pts && !state.samples->begun()) return;
    Packet packet;
    packet.track = track;
    packet.duration = base::from_ticks(frames, rate);
    packet.pts = packet.dts =
        pts ? state.samples->on_timeline(time_of(*pts), packet.duration) : state.samples->next(packet.duration);
    packet.key = true;
    packet.data = Bytes(std::move(data));
    emit_audio(state, std::move(packet));
}

bool TitleAssembler::samples_begun(TrackId track) const {
    const auto found = tracks_.find(track);
    return found != tracks_.end() && found->second.samples && found->second.samples->begun();
}

void TitleAssembler::lost() {
    for (auto& [id, state] : tracks_) {
        state.stream.lost();
        collect(state);
    }
}

void TitleAssembler::lost(TrackId track) {
    const auto found = tracks_.find(track);
    if (found == tracks_.end()) return;
    found->second.stream.lost();
    collect(found->second);
}

void TitleAssembler::finish() {
    for (auto& [id, state] : tracks_) {
        state.stream.flush();
        collect(state);
    }
}

void TitleAssembler::restart(Time time) {
    ready_.clear();
    for (auto& [id, state] : tracks_) {
        state.stream.restart();
        if (state.samples) state.samples->restart();
        state.end.reset();
    }
    seen_picture_ = has_clock_ = false;
    video_end_ = time;
}

const Track* TitleAssembler::video_description() const {
    const auto found = tracks_.find(video_track_);
    if (found == tracks_.end()) return nullptr;
    const container::ElementaryStream& stream = found->second.stream;
    return stream.described() && !is_mpeg(stream.track().codec) ? &stream.track() : nullptr;
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
