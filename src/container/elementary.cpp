#include "container/elementary.hpp"

#include <algorithm>
#include <chrono>

#include "bitstream/aac.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/lpcm.hpp"

namespace wavecrest::container {
namespace {

namespace mpeg2 = bitstream::mpeg2;
namespace nal = bitstream::nal;

constexpr std::int64_t kRange = std::int64_t{1} << 33;
constexpr std::int64_t kSecond = 90000;
constexpr std::int64_t kFarthestAhead = 10 * kSecond, kFarthestBack = 2 * kSecond;
constexpr std::int64_t kFarthestReordered = 60 * kSecond;  // a picture is shown that long after it is decoded, at most
constexpr std::size_t kLargestSubtitle = 4 << 20;
const Time kStampTolerance = base::from_ticks(1, 90000) * 55 / 100;
// Streams multiplexed by the hour drift by a few ticks before a timestamp sets them right.
const Time kAudioTolerance = std::chrono::milliseconds(2);

Time time_of(std::int64_t ticks) {
    return base::from_ticks(ticks, 90000);
}

}  // namespace

TimestampClock::Times TimestampClock::on_timeline(TrackState& track_state, std::optional<std::int64_t> pts,
                                                  std::optional<std::int64_t> dts) {
    if (!pts) return {};
    const Time decoded = place(track_state, dts.value_or(*pts));
    const std::int64_t ahead = dts ? (*pts - *dts + kRange) % kRange : 0;
    const Time shown = decoded + (ahead < kFarthestReordered ? time_of(ahead) : Time{});
    reached_ = std::max(reached_, shown);
    return {shown, decoded};
}

Time TimestampClock::place(TrackState& track_state, std::int64_t timestamp) {
    if (intervals_.empty()) intervals_.push_back({timestamp, reached_, timestamp});
    if (track_state.interval >= intervals_.size()) {
        track_state.interval = intervals_.size() - 1;
        track_state.last.reset();
    }
    const auto nearest = [&](std::int64_t to) {
        std::int64_t distance = (timestamp - to) % kRange;
        if (distance > kRange / 2) distance -= kRange;
        if (distance < -kRange / 2) distance += kRange;
        return to + distance;
    };
    const auto far = [](std::int64_t distance) { return distance > kFarthestAhead || distance < -kFarthestBack; };
    TimeRange* interval = &intervals_[track_state.interval];
    const std::int64_t expected = track_state.last.value_or(interval->newest);
    std::int64_t unwrapped = nearest(expected);
    if (far(unwrapped - expected) && !track_state.last && track_state.interval + 1 == intervals_.size()) {
        // A track that begins late has no past of its own: only the interval's newest timestamp can be asked.
        unwrapped = nearest(interval->newest);
    }
    if (far(unwrapped - expected)) {
        // Another track may have jumped there before.
        bool joined = false;
        for (std::size_t i = track_state.interval + 1; i < intervals_.size(); ++i) {
            const std::int64_t there = nearest(intervals_[i].newest);
            if (!far(there - intervals_[i].newest)) {
                track_state.interval = i;
                unwrapped = there;
                joined = true;
                break;
            }
        }
        if (!joined) {
            jumps_.push_back({reached_, time_of(unwrapped - expected)});
            intervals_.push_back({timestamp, reached_, timestamp});
            track_state.interval = intervals_.size() - 1;
            unwrapped = timestamp;
        }
        interval = &intervals_[track_state.interval];
    }
    track_state.last = unwrapped;
    interval->newest = std::max(interval->newest, unwrapped);
    return interval->at + time_of(unwrapped - interval->timestamp);
}

void TimestampClock::restart(std::int64_t timestamp, Time at) {
    intervals_.assign(1, {timestamp, at, timestamp});
    reached_ = at;
}

struct ElementaryStream::Framing {
    std::optional<nal::AccessUnitSplitter> nal;
    std::vector<nal::AccessUnit> nal_units;
    std::vector<ByteVector> configured;  // parameter sets that are in the configuration
    std::optional<mpeg2::AccessUnitSplitter> mpeg2;
    mpeg2::PictureTimer timer;
    std::vector<mpeg2::AccessUnit> mpeg2_units;
    std::vector<mpeg2::TimedUnit> timed;
    std::optional<bitstream::AudioFrameSplitter> audio;
    std::vector<bitstream::AudioFrame> frames;
    // Subtitles and others: units that are collected whole.
    ByteVector unit;
    std::optional<Time> unit_pts, unit_dts;
};

ElementaryStream::ElementaryStream(Track track) : track_(std::move(track)), framing_(std::make_unique<Framing>()) {
    switch (track_.codec) {
        case Codec::h264:
        case Codec::h265:
            framing_->nal.emplace(track_.codec);
            break;
        case Codec::mpeg1:
        case Codec::mpeg2:
            framing_->mpeg2.emplace();
            break;
        case Codec::aac:
        case Codec::ac3:
        case Codec::eac3:
        case Codec::dts:
        case Codec::mp2:
        case Codec::mp3:
            framing_->audio.emplace(track_.codec);
            break;
        case Codec::truehd:  // beside its AC-3 core, which is what is taken
            framing_->audio.emplace(Codec::ac3);
            break;
        default:
            break;
    }
}

ElementaryStream::~ElementaryStream() = default;
ElementaryStream::ElementaryStream(ElementaryStream&&) noexcept = default;
ElementaryStream& ElementaryStream::operator=(ElementaryStream&&) noexcept = default;

void ElementaryStream::push(ByteSpan piece, std::optional<Time> pts, std::optional<Time> dts) {
    Framing& f = *framing_;
    if (f.nal) {
        f.nal->push(piece, pts, dts ? dts : pts, f.nal_units);
        if (!f.nal_units.empty()) take_pictures();
    } else if (f.mpeg2) {
        f.mpeg2->push(piece, pts, dts, 0, f.mpeg2_units);
        if (!f.mpeg2_units.empty()) take_mpeg2();
    } else if (f.audio) {
        f.audio->push(piece, pts, f.frames);
        if (!f.frames.empty()) take_frames();
    } else if (track_.codec == Codec::lpcm) {
        push_lpcm(piece, pts);
    } else if (track_.kind == TrackKind::subtitle) {
        push_subtitle(piece, pts);
    } else {
        // Pictures of other codecs come one to a PES packet.
        if (pts && !f.unit.empty()) take_whole(f.unit, f.unit_pts);
        if (pts) {
            f.unit.clear();
            f.unit_pts = pts;
            f.unit_dts = dts ? dts : pts;
        }
        if (f.unit_pts) f.unit.insert(f.unit.end(), piece.begin(), piece.end());
    }
}

void ElementaryStream::lost() {
    Framing& f = *framing_;
    if (f.nal) f.nal->reset();
    if (f.mpeg2) {
        f.mpeg2->reset();
        f.timer.flush(f.timed);
        take_mpeg2();
        seen_key_ = false;
    }
    if (f.audio) f.audio->reset();
    f.unit.clear();
    f.unit_pts.reset();
}

void ElementaryStream::flush() {
    Framing& f = *framing_;
    if (f.nal) {
        f.nal->flush(f.nal_units);
        take_pictures();
    }
    if (f.mpeg2) {
        f.mpeg2->flush(f.mpeg2_units);
        take_mpeg2();
        f.timer.flush(f.timed);
        take_mpeg2();
    }
    if (f.audio) {
        f.audio->flush(f.frames);
        take_frames();
    }
    if (!f.nal && !f.mpeg2 && !f.audio && track_.kind == TrackKind::video && f.unit_pts) take_whole(f.unit, f.unit_pts);
    f.unit.clear();
    f.unit_pts.reset();
    if (held_) {
        ready_.push_back(std::move(*held_));
        held_.reset();
    }
}

void ElementaryStream::restart() {
    Framing& f = *framing_;
    if (f.nal) f.nal->reset();
    if (f.mpeg2) f.mpeg2->reset();
    f.timer.reset();
    f.timed.clear();
    f.nal_units.clear();
    f.mpeg2_units.clear();
    f.frames.clear();
    if (f.audio) f.audio->reset();
    f.unit.clear();
    f.unit_pts.reset();
    if (clock_) clock_->restart();
    held_.reset();
    ready_.clear();
    seen_key_ = skip_leading_ = false;
}

void ElementaryStream::rejoin() {
    if (clock_) clock_->rejoin();
}

void ElementaryStream::describe(ByteSpan data) {
    if (described_) return;
    bitstream::describe_headers(track_, data);
    const bool picture = track_.kind == TrackKind::video;
    if (picture && track_.width == 0) return;
    if (!picture && track_.sample_rate == 0) return;
    described_ = true;
    if (picture) {
        Ratio rate = track_.frame_rate;
        if (track_.scan != Scan::progressive) rate.num *= 2;
        pts_grid_.emplace(rate, kStampTolerance);
        dts_grid_.emplace(rate, kStampTolerance);
        if (framing_->nal) {
            std::vector<ByteSpan> units;
            if (track_.codec == Codec::h264) {
                if (const auto sets = bitstream::h264::parameter_sets(track_.codec_config.view())) units = sets->units;
            } else if (const auto sets = bitstream::h265::parameter_sets(track_.codec_config.view())) {
                units = sets->units;
            }
            for (const ByteSpan unit : units) framing_->configured.emplace_back(unit.begin(), unit.end());
        }
    } else {
        clock_.emplace(track_.sample_rate, kAudioTolerance);
    }
}

void ElementaryStream::emit(Packet packet) {
    if (track_.kind != TrackKind::video) {
        ready_.push_back(std::move(packet));
        return;
    }
    const Time period = track_.frame_rate.num > 0 ? base::frames_to_time(1, track_.frame_rate) : Time{};
    if (held_) {
        const Time distance = packet.dts - held_->dts;
        held_->duration = distance.count() > 0 && distance < base::from_seconds(10) ? distance : period;
        ready_.push_back(std::move(*held_));
    }
    packet.duration = period;
    held_ = std::move(packet);
}

void ElementaryStream::take_pictures() {
    for (nal::AccessUnit& unit : framing_->nal_units) emit_picture(std::move(unit));
    framing_->nal_units.clear();
}

void ElementaryStream::emit_picture(nal::AccessUnit unit) {
    if (unit.key) describe(unit.data);
    if (!seen_key_) {
        if (!unit.key || !described_) {
            ++left_out_;
            return;
        }
        seen_key_ = skip_leading_ = true;
    }
    Packet packet;
    packet.track = track_.id;
    packet.key = unit.key;
    const Time period = track_.frame_rate.num > 0 ? base::frames_to_time(1, track_.frame_rate) : time_of(kSecond / 25);
    packet.dts = unit.dts ? dts_grid_->snap(*unit.dts) : next_dts_;
    packet.pts = unit.pts ? pts_grid_->snap(*unit.pts) : packet.dts;
    next_dts_ = packet.dts + period;
    // Parameter sets that the configuration holds are not repeated.
    bool repeats = false;
    const auto configured = [&](ByteSpan u) {
        return std::any_of(framing_->configured.begin(), framing_->configured.end(), [&](const ByteVector& known) {
            return std::equal(known.begin(), known.end(), u.begin(), u.end());
        });
    };
    const auto units = nal::split_lengths(unit.data);
    for (const ByteSpan u : units)
        repeats = repeats || (nal::is_parameter_set(track_.codec, nal::type(track_.codec, u)) && configured(u));
    if (repeats) {
        ByteVector rest;
        rest.reserve(unit.data.size());
        for (const ByteSpan u : units) {
            if (!nal::is_parameter_set(track_.codec, nal::type(track_.codec, u)) || !configured(u))
                nal::append(rest, u);
        }
        packet.data = Bytes(std::move(rest));
    } else {
        packet.data = Bytes(std::move(unit.data));
    }
    emit(std::move(packet));
}

void ElementaryStream::take_mpeg2() {
    Framing& f = *framing_;
    for (mpeg2::AccessUnit& unit : f.mpeg2_units) {
        if (!f.mpeg2->sequence()) {
            ++left_out_;
            continue;
        }
        const bool key = unit.picture.coding_type == 1 && unit.has_sequence;
        if (key) describe(unit.data);
        if (!seen_key_) {
            // Streams may have their sequence header only now and then; pictures start at an intra picture behind one.
            if (unit.picture.coding_type != 1 || (!described_ && !key)) {
                ++left_out_;
                continue;
            }
            seen_key_ = true;
            skip_leading_ = !unit.closed_group;
        } else if (skip_leading_) {
            // Shown before the first picture, and made with one that isn't there.
            if (unit.picture.coding_type == 3) {
                ++left_out_;
                continue;
            }
            skip_leading_ = false;
        }
        f.timer.push(std::move(unit), *f.mpeg2->sequence(), f.timed);
    }
    f.mpeg2_units.clear();
    for (mpeg2::TimedUnit& timed : f.timed) {
        Packet packet;
        packet.track = track_.id;
        packet.pts = timed.pts;
        packet.dts = timed.dts;
        packet.duration = timed.duration;
        packet.key = timed.unit.picture.coding_type == 1 && timed.unit.starts_group;
        packet.data = Bytes(std::move(timed.unit.data));
        ready_.push_back(std::move(packet));
    }
    f.timed.clear();
}

void ElementaryStream::take_frames() {
    for (bitstream::AudioFrame& frame : framing_->frames) {
        ByteSpan data(frame.data);
        if (track_.codec == Codec::aac) {
            const auto adts = bitstream::aac::parse_adts(data);
            if (!adts) continue;
            if (track_.codec_config.empty()) track_.codec_config = Bytes(bitstream::aac::config_of(*adts));
            data = data.subspan(adts->header_bytes);
        }
        describe(data);
        if (!described_) continue;
        if (!frame.pts && !clock_->begun()) continue;
        const Time duration = base::from_ticks(frame.header.samples, std::max(1, frame.header.sample_rate));
        Packet packet;
        packet.track = track_.id;
        packet.pts = packet.dts = frame.pts ? clock_->on_timeline(*frame.pts, duration) : clock_->next(duration);
        packet.duration = duration;
        packet.key = true;
        packet.data =
            track_.codec == Codec::aac ? Bytes(ByteVector(data.begin(), data.end())) : Bytes(std::move(frame.data));
        emit(std::move(packet));
    }
    framing_->frames.clear();
}

void ElementaryStream::take_whole(ByteSpan unit, std::optional<Time> pts) {
    if (unit.empty() || !pts) return;
    describe(unit);
    Packet packet;
    packet.track = track_.id;
    // Decoding can start where headers are repeated.
    packet.key = false;
    for (std::size_t at = mpeg2::find_start_code(unit, 0); at + 3 < unit.size() && !packet.key;
         at = mpeg2::find_start_code(unit, at + 3)) {
        const std::uint8_t code = unit[at + 3];
        packet.key = track_.codec == Codec::vc1 ? code == 0x0F || code == 0x0E
                                                : track_.codec == Codec::mpeg4 && code >= 0x20 && code <= 0x2F;
    }
    seen_key_ = seen_key_ || packet.key;
    if (!seen_key_ || !described_) {
        ++left_out_;
        return;
    }
    packet.pts = pts_grid_->snap(*pts);
    packet.dts = dts_grid_->snap(framing_->unit_dts.value_or(*pts));
    packet.data = Bytes(ByteVector(unit.begin(), unit.end()));
    emit(std::move(packet));
}

// LPCM of Blu-ray: one PES packet holds a header and whole sample frames.
void ElementaryStream::push_lpcm(ByteSpan piece, std::optional<Time> pts) {
    Framing& f = *framing_;
    const auto finish = [&] {
        const auto header = bitstream::parse_blu_ray_lpcm_header(f.unit);
        if (!header || (!f.unit_pts && !(clock_ && clock_->begun()))) return;
        track_.channels = header->channels;
        track_.speakers = header->speakers;
        track_.sample_rate = header->sample_rate;
        track_.bit_depth = header->bits > 16 ? 24 : 16;
        describe({});
        ByteVector samples =
            bitstream::plain_blu_ray_lpcm(*header, ByteSpan(f.unit).subspan(bitstream::kBluRayLpcmHeaderSize));
        Packet packet;
        packet.track = track_.id;
        packet.key = true;
        packet.duration = bitstream::audio_duration(track_, samples);
        packet.pts = packet.dts =
            f.unit_pts ? clock_->on_timeline(*f.unit_pts, packet.duration) : clock_->next(packet.duration);
        packet.data = Bytes(std::move(samples));
        emit(std::move(packet));
    };
    if (pts) {
        if (!f.unit.empty()) finish();
        f.unit.clear();
        f.unit_pts = pts;
    }
    f.unit.insert(f.unit.end(), piece.begin(), piece.end());
    // Its size is known from the header: nothing has to be waited for.
    if (f.unit.size() >= 4) {
        const std::size_t size = static_cast<std::size_t>(f.unit[0]) << 8 | f.unit[1];
        if (size > 0 && f.unit.size() >= size + bitstream::kBluRayLpcmHeaderSize) {
            finish();
            f.unit.clear();
            f.unit_pts.reset();
        }
    }
}

void ElementaryStream::push_subtitle(ByteSpan piece, std::optional<Time> pts) {
    Framing& f = *framing_;
    constexpr std::uint8_t kComposition = 0x16, kEnd = 0x80;  // segments of presentation graphics
    const bool segments = track_.codec == Codec::pgs;
    if (pts && (!segments || (!piece.empty() && piece[0] == kComposition))) {
        f.unit.clear();
        f.unit_pts = pts;
    }
    if (!f.unit_pts) return;
    f.unit.insert(f.unit.end(), piece.begin(), piece.end());
    bool whole = false;
    if (f.unit.size() > kLargestSubtitle) {
        f.unit.clear();
        f.unit_pts.reset();
        return;
    }
    if (segments) {
        std::size_t at = 0;
        while (at + 3 <= f.unit.size()) {
            const std::size_t next = at + 3 + (static_cast<std::size_t>(f.unit[at + 1]) << 8 | f.unit[at + 2]);
            if (next > f.unit.size()) break;
            whole = f.unit[at] == kEnd;
            at = next;
        }
    } else if (f.unit.size() >= 2) {
        const std::size_t size = static_cast<std::size_t>(f.unit[0]) << 8 | f.unit[1];
        whole = size > 4 && f.unit.size() >= size;
        if (whole) f.unit.resize(size);
    }
    if (!whole) return;
    described_ = true;
    Packet packet;
    packet.track = track_.id;
    packet.pts = packet.dts = *f.unit_pts;
    packet.key = true;
    packet.data = Bytes(std::move(f.unit));
    f.unit = {};
    f.unit_pts.reset();
    ready_.push_back(std::move(packet));
}

}  // namespace wavecrest::container
