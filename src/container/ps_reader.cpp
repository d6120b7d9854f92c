#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>
#include <map>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "base/window_reader.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/lpcm.hpp"
#include "container/elementary.hpp"
#include "container/mpeg_ps.hpp"
#include "container/reader.hpp"
#include "container/skip_gate.hpp"

namespace wavecrest::container {
namespace {

constexpr std::size_t kPiece = 1 << 20;
constexpr std::uint64_t kProbeBytes = 24 << 20;
constexpr std::size_t kTail = 4 << 20;
constexpr std::size_t kLongestPacket = 70'000;
constexpr std::int64_t kRange = std::int64_t{1} << 33;
constexpr int kSub = 0x100;  // identifiers of private stream 1 are 0x100 and the substream's number
constexpr Time kPriming = std::chrono::milliseconds(100);

// Program streams: recordings, DVD cells, old files. Disc titles with their tables are read by disc/.
class ProgramSource : public PacketSource {
  public:
    explicit ProgramSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes), 2 << 20) {}

    Status open();
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return duration_; }
    const std::vector<Problem>& problems() const override { return problems_; }
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;

    std::vector<std::string> notes;

  private:
    struct StreamState {
        ElementaryStream stream;
        TimestampClock::TrackState clock;
        // LPCM of DVDs is framed here: its headers are the program stream's business.
        std::optional<AudioClock> audio;
        bool described = false;
    };
    Status read_more();
    void take(const ps::PesPacket& packet);
    StreamState* stream_state(int id, Codec codec, TrackKind kind);
    void push(StreamState& stream_state, ByteSpan payload, const ps::PesPacket& packet);
    void push_lpcm(StreamState& stream_state, ByteSpan payload, const ps::PesPacket& packet);
    void emit(Packet packet);
    std::optional<std::int64_t> timestamp_near(std::uint64_t place, bool last);
    void go_to(std::uint64_t place, std::int64_t timestamp, Time at);

    base::WindowReader bytes_;
    std::uint64_t at_ = 0;
    bool ended_ = false, started_ = false;
    std::map<int, StreamState> stream_states_;
    bool adding_ = true;
    TimestampClock clock_;
    std::int64_t first_stamp_ = 0;
    bool has_first_ = false;
    Time shift_{}, reached_{};
    ps::PackContents contents_;
    std::deque<Packet> ready_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    Time duration_{};
    int reference_ = -1;
    bool scrambled_ = false;
    SkipGate skip_;
};

Status ProgramSource::open() {
    const auto complete = [&] {
        return !stream_states_.empty() &&
               std::all_of(stream_states_.begin(), stream_states_.end(), [](const auto& entry) {
                   return entry.second.described || entry.second.stream.described() ||
                          entry.second.stream.track().kind == TrackKind::subtitle;
               });
    };
    std::size_t pictures = 0;
    while (!ended_ && at_ < kProbeBytes && (!complete() || pictures < 8 || at_ < (2u << 20))) {
        WAVECREST_TRY(read_more());
        if (scrambled_) {
            return fail(ErrorKind::input, "this title is copy-protected (scrambled packets)", bytes_.source().name(),
                        "copy-protected material can't be converted, and trying again won't change that; use an "
                        "unprotected source");
        }
        if (reference_ < 0) {
            for (const auto& [id, stream_state] : stream_states_) {
                if (stream_state.stream.track().kind == TrackKind::video) reference_ = id;
            }
        }
        pictures = static_cast<std::size_t>(
            std::count_if(ready_.begin(), ready_.end(), [&](const Packet& p) { return p.track == reference_; }));
    }
    std::erase_if(stream_states_, [](const auto& entry) {
        return !entry.second.described && !entry.second.stream.described() &&
               entry.second.stream.track().kind != TrackKind::subtitle;
    });
    if (stream_states_.empty()) {
        return fail(ErrorKind::input, "no supported video or audio in this program stream", bytes_.source().name(),
                    "copy it again");
    }
    adding_ = false;
    if (!stream_states_.contains(reference_)) reference_ = stream_states_.begin()->first;
    std::optional<Time> zero, earliest;
    for (const Packet& packet : ready_) {
        const auto found = stream_states_.find(packet.track);
        if (found == stream_states_.end() || found->second.stream.track().kind == TrackKind::subtitle) continue;
        if (packet.track == reference_) zero = zero ? std::min(*zero, packet.pts) : packet.pts;
        earliest = earliest ? std::min(*earliest, packet.pts) : packet.pts;
    }
    const bool entered = stream_states_.at(reference_).stream.left_out() > 0;
    if (!zero || (!entered && *earliest < *zero - kPriming)) zero = earliest;
    shift_ = -zero.value_or(Time{});
    started_ = true;
    std::deque<Packet> early = std::exchange(ready_, {});
    reached_ = Time{};
    for (Packet& packet : early) emit(std::move(packet));
    if (bytes_.source().seekable() && has_first_) {
        if (const auto last = timestamp_near(bytes_.size() > kTail ? bytes_.size() - kTail : 0, true)) {
            Time period{};
            const Track& track = stream_states_.at(reference_).stream.track();
            if (track.kind == TrackKind::video && track.frame_rate.num > 0)
                period = base::frames_to_time(1, track.frame_rate);
            duration_ =
                std::max(base::from_ticks(first_stamp_ + ((*last - first_stamp_) % kRange + kRange) % kRange, 90000) +
                             shift_ + period,
                         Time{});
        }
    }
    for (auto& [id, stream_state] : stream_states_) {
        Track track = stream_state.stream.track();
        track.duration = duration_;
        std::vector<ByteSpan> first_pictures;
        for (const Packet& packet : ready_) {
            if (packet.track == track.id) first_pictures.push_back(packet.data.view());
        }
        bitstream::describe_cadence(track, first_pictures);
        tracks_.push_back(std::move(track));
    }
    std::stable_sort(tracks_.begin(), tracks_.end(), [](const Track& a, const Track& b) { return a.kind < b.kind; });
    problems_.clear();
    return {};
}

ProgramSource::StreamState* ProgramSource::stream_state(int id, Codec codec, TrackKind kind) {
    const auto found = stream_states_.find(id);
    if (found != stream_states_.end()) return &found->second;
    if (!adding_) return nullptr;
    Track track;
    track.id = id;
    track.codec = codec;
    track.kind = kind;
    return &stream_states_.emplace(id, StreamState{ElementaryStream(std::move(track)), {}, {}, false}).first->second;
}

void ProgramSource::emit(Packet packet) {
    if (started_) {
        packet.pts += shift_;
        packet.dts += shift_;
        reached_ = std::max(reached_, packet.pts);
    }
    ready_.push_back(std::move(packet));
}

void ProgramSource::push(StreamState& stream_state, ByteSpan payload, const ps::PesPacket& packet) {
    if (packet.pts && !has_first_) {
        // The continuous timeline has the first stream's own timestamps: what was rounded to them stays on its grid.
        has_first_ = true;
        first_stamp_ = packet.dts.value_or(*packet.pts);
        clock_.restart(first_stamp_, base::from_ticks(first_stamp_, 90'000));
    }
    const auto [pts, dts] = clock_.on_timeline(stream_state.clock, packet.pts, packet.dts);
    stream_state.stream.push(payload, pts, dts);
    while (!stream_state.stream.ready().empty()) {
        emit(std::move(stream_state.stream.ready().front()));
        stream_state.stream.ready().pop_front();
    }
    for (const TimestampClock::Jump& jump : clock_.take_jumps()) {
        if (started_)
            problems_.push_back({fmt::format("clock discontinuity of {}{}", jump.by.count() < 0 ? "-" : "",
                                             base::format_span(std::chrono::abs(jump.by))),
                                 reached_, reached_});
    }
}

void ProgramSource::push_lpcm(StreamState& stream_state, ByteSpan payload, const ps::PesPacket& packet) {
    const auto header = bitstream::parse_dvd_lpcm_header(payload);
    if (!header) return;
    Track& track = stream_state.stream.track();
    track.channels = header->channels;
    track.sample_rate = header->sample_rate;
    track.bit_depth = header->bits > 16 ? 24 : 16;
    track.speakers = media::usual_speakers(header->channels);
    stream_state.described = true;
    if (!stream_state.audio) stream_state.audio.emplace(track.sample_rate, std::chrono::milliseconds(2));
    ByteVector samples = bitstream::plain_dvd_lpcm(*header, payload.subspan(bitstream::kDvdLpcmHeaderSize));
    if (samples.empty() || (!packet.pts && !stream_state.audio->begun())) return;
    Packet out;
    out.track = track.id;
    out.duration = bitstream::audio_duration(track, samples);
    const auto stated = clock_.on_timeline(stream_state.clock, packet.pts, std::nullopt).pts;
    out.pts = stated ? stream_state.audio->on_timeline(*stated, out.duration) : stream_state.audio->next(out.duration);
    out.dts = out.pts;
    out.key = true;
    out.data = Bytes(std::move(samples));
    emit(std::move(out));
}

void ProgramSource::take(const ps::PesPacket& packet) {
    if (packet.scrambled) {
        scrambled_ = true;
        return;
    }
    const std::uint8_t id = packet.stream_id;
    if (id >= ps::kFirstVideo && id <= 0xEF) {
        if (StreamState* l = stream_state(id, Codec::mpeg2, TrackKind::video)) push(*l, packet.payload, packet);
    } else if (id >= ps::kFirstAudio && id <= 0xDF) {
        if (StreamState* l = stream_state(id, Codec::mp2, TrackKind::audio)) push(*l, packet.payload, packet);
    } else if (id == ps::kPrivate1 && packet.payload.size() > 4) {
        const int sub = packet.payload[0];
        if (sub >= 0x80 && sub <= 0x8F) {
            // A frame count and a pointer come first; frames are found without them.
            if (StreamState* l = stream_state(kSub + sub, sub < 0x88 ? Codec::ac3 : Codec::dts, TrackKind::audio))
                push(*l, packet.payload.subspan(4), packet);
        } else if (sub >= 0xA0 && sub <= 0xA7) {
            if (StreamState* l = stream_state(kSub + sub, Codec::lpcm, TrackKind::audio))
                push_lpcm(*l, packet.payload.subspan(1), packet);
        } else if (sub >= 0x20 && sub <= 0x3F) {
            if (StreamState* l = stream_state(kSub + sub, Codec::dvd_subpicture, TrackKind::subtitle)) {
                // The colours stand in the disc's tables, which are not here: shades of grey.
                if (l->stream.track().codec_config.empty()) {
                    ByteVector palette(64);
                    for (std::size_t i = 0; i < 16; ++i) {
                        palette[i * 4 + 1] = static_cast<std::uint8_t>(16 + i * 219 / 15);
                        palette[i * 4 + 2] = palette[i * 4 + 3] = 128;
                    }
                    l->stream.track().codec_config = Bytes(std::move(palette));
                }
                push(*l, packet.payload.subspan(1), packet);
            }
        }
    }
}

Status ProgramSource::read_more() {
    WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, kPiece));
    if (view.empty()) {
        for (auto& [id, stream_state] : stream_states_) {
            stream_state.stream.flush();
            while (!stream_state.stream.ready().empty()) {
                emit(std::move(stream_state.stream.ready().front()));
                stream_state.stream.ready().pop_front();
            }
        }
        ended_ = true;
        return {};
    }
    ps::parse_packs(view, contents_);
    std::size_t used = view.size();
    const bool more = view.size() == kPiece;
    if (more && !contents_.packets.empty() && contents_.packets.back().cut && contents_.packets.back().offset > 0) {
        used = contents_.packets.back().offset;
        contents_.packets.pop_back();
    } else if (more && used > kLongestPacket) {
        // A header may be cut at the end: a little is looked at again.
        std::size_t end = contents_.packets.empty() ? 0 : contents_.packets.back().offset + 6;
        if (!contents_.packets.empty()) {
            const auto& last = contents_.packets.back();
            end = static_cast<std::size_t>(last.payload.data() + last.payload.size() - view.data());
        }
        used = std::max(end, used - 4096);
    }
    if (contents_.skipped_bytes > 4096 + (used < view.size() ? view.size() - used : 0) && started_) {
        if (problems_.empty() || reached_ - problems_.back().to > std::chrono::seconds(1)) {
            problems_.push_back({"damaged bytes skipped", reached_, reached_});
        } else {
            problems_.back().to = reached_;
        }
    }
    for (const ps::PesPacket& packet : contents_.packets) take(packet);
    at_ += std::max<std::size_t>(used, 1);
    return {};
}

Result<std::optional<Packet>> ProgramSource::read() {
    while (true) {
        while (ready_.empty() && !ended_) WAVECREST_TRY(read_more());
        if (ready_.empty()) return std::optional<Packet>{};
        Packet packet = std::move(ready_.front());
        ready_.pop_front();
        const auto track =
            std::find_if(tracks_.begin(), tracks_.end(), [&](const Track& t) { return t.id == packet.track; });
        if (track == tracks_.end()) continue;
        const bool video = track->kind == TrackKind::video;
        if (skip_.leaves_out(track->kind, packet)) continue;
        if (!video && packet.pts.count() < 0 && packet.pts + packet.duration <= Time{}) continue;
        return std::optional<Packet>(std::move(packet));
    }
}

// The first timestamp of the reference stream behind a place, or the last one before the end.
std::optional<std::int64_t> ProgramSource::timestamp_near(std::uint64_t place, bool last) {
    ps::PackContents contents;
    std::optional<std::int64_t> found;
    const std::uint64_t stop = last ? bytes_.size() : place + kTail;
    while (place < stop) {
        const auto view = bytes_.view(place, kPiece);
        if (!view || view->empty()) break;
        ps::parse_packs(*view, contents);
        for (const ps::PesPacket& packet : contents.packets) {
            const bool sub = packet.stream_id == ps::kPrivate1 && !packet.payload.empty();
            const int id = sub ? kSub + packet.payload[0] : packet.stream_id;
            if (id != reference_ || !packet.pts) continue;
            if (!last) return packet.dts.value_or(*packet.pts);
            if (!found || ((*packet.pts - *found + kRange) % kRange) < kRange / 2) found = *packet.pts;
        }
        place += std::max<std::size_t>(view->size() > kLongestPacket ? view->size() - kLongestPacket : view->size(), 1);
    }
    return found;
}

void ProgramSource::go_to(std::uint64_t place, std::int64_t timestamp, Time at) {
    at_ = place;
    ended_ = false;
    ready_.clear();
    skip_.set({});
    reached_ = Time{};
    for (auto& [id, stream_state] : stream_states_) {
        stream_state.stream.restart();
        stream_state.clock = {};
        if (stream_state.audio) stream_state.audio->restart();
    }
    clock_.restart(timestamp, at);
}

Status ProgramSource::seek(Time time) {
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    const auto ticks_of = [&](std::int64_t timestamp) {
        return ((timestamp - first_stamp_) % kRange + kRange) % kRange;
    };
    const std::int64_t wanted = base::to_ticks(time - shift_, 90000) - first_stamp_;
    const std::size_t told = problems_.size();
    Time back{};
    while (true) {
        const std::int64_t target = wanted - base::to_ticks(back, 90000);
        std::uint64_t low = 0, high = bytes_.size();
        std::int64_t low_timestamp = first_stamp_;
        while (target > 0 && high - low > (512 << 10)) {
            const std::uint64_t middle = low + (high - low) / 2;
            const auto timestamp = timestamp_near(middle, false);
            // A broken clock reads as far ahead: the first half is taken.
            if (timestamp && ticks_of(*timestamp) <= target) {
                low = middle;
                low_timestamp = *timestamp;
            } else {
                high = middle;
            }
        }
        const auto restart = [&] {
            go_to(low, low_timestamp, base::from_ticks(first_stamp_ + ticks_of(low_timestamp), 90'000));
        };
        restart();
        std::optional<Time> key;
        bool past = false;
        while (!ended_ && !past) {
            WAVECREST_TRY(read_more());
            for (const Packet& packet : ready_) {
                if (packet.track != reference_) continue;
                if (packet.dts > time) past = true;
                if (packet.key && packet.pts <= time && (!key || packet.pts > *key)) key = packet.pts;
            }
            ready_.clear();
        }
        problems_.resize(std::min(told, problems_.size()));
        if (key || low == 0) {
            restart();
            skip_.set(key);
            return {};
        }
        back = back.count() == 0 ? Time(std::chrono::seconds(2)) : back * 2;
    }
}

}  // namespace

Result<MediaFile> open_mpeg_ps(std::shared_ptr<base::ByteSource> bytes) {
    auto source = std::make_unique<ProgramSource>(std::move(bytes));
    WAVECREST_TRY(source->open());
    MediaFile file;
    file.container = "mpeg-ps";
    file.notes = source->notes;
    file.source = std::move(source);
    return file;
}

}  // namespace wavecrest::container
