#include "container/ts_mux.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>

#include "bitstream/aac.hpp"
#include "bitstream/decoder_buffer.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/stream_type.hpp"
#include "container/mpeg_ts.hpp"
#include "media/language.hpp"

namespace wavecrest::container {
namespace {

using namespace ts;
namespace nal = bitstream::nal;

constexpr int kProgram = 1, kPmtPid = 0x1000, kFirstPid = 0x100;
// Times inside are ticks of 27 MHz, on the clock that the stream carries.
constexpr std::int64_t kTicks = 27'000'000, kMs = kTicks / 1000;
const std::int64_t kStart = base::to_ticks(kTransportStart, 90'000) * 300;
constexpr std::int64_t kTablesEvery = 100 * kMs, kClockEvery = 25 * kMs;
// Everything is there so long before it is decoded. A receiver takes packets between two clock references to come
// evenly; at a variable rate they don't quite, which may move them by the time between references. For the same reason
// what is decoded is taken to leave its buffer a little later.
constexpr std::int64_t kMargin = 42 * kMs, kDoubt = 5 * kMs;
constexpr std::int64_t kAudioLead = 400 * kMs, kTextLead = 300 * kMs;
// Where another mux's packets follow, so much of the time before them is for the last packets.
constexpr std::int64_t kLastHeld = 50 * kMs, kLongestGap = 10'000 * kMs, kLastSlot = kMs / 5;
// The rate is decided anew that often. It is somewhat above what is needed, for tables and clocks.
constexpr std::int64_t kDecideEvery = 10 * kMs;
constexpr double kHeadroom = 1.04;
constexpr double kLeastRate = 300'000;
// 13818-1, 2.4.2.4: the transport buffer of each stream, and how fast it is emptied.
constexpr double kTransportBuffer = 512, kAudioDrain = 2e6, kSurroundDrain = 5.53e6, kTableDrain = 1e6;
constexpr std::int64_t kPacketBits = kPacket * 8;
constexpr std::size_t kAudioGroup = 1400;  // bytes of small audio frames in one PES packet
constexpr std::chrono::milliseconds kAudioGroupTime{70};

ByteVector registration(const char* name) {
    ByteVector out{0x05, 4};
    out.insert(out.end(), name, name + 4);
    return out;
}

// Bytes of audio that a decoder holds: 13818-1, 2.4.2.7 for MPEG; ETSI TS 101 154 for the others.
std::int64_t audio_buffer(const Track& track) {
    switch (track.codec) {
        case Codec::aac:
            return track.channels > 2 ? 8976 : 3584;
        case Codec::ac3:
        case Codec::eac3:
            return 5696;
        case Codec::dts:
        case Codec::truehd:
            return 66432;
        default:
            return 3584;
    }
}

// Fills with what arrives and drains at a steady rate.
struct Leak {
    double level = 0;  // bytes
    double drain = 0;  // bytes a tick
    std::int64_t at = 0;

    double level_at(std::int64_t now) const { return std::max(0.0, level - drain * static_cast<double>(now - at)); }
    bool takes(std::int64_t now) const { return level_at(now) + static_cast<double>(kPacket) <= kTransportBuffer; }
    void take(std::int64_t now) {
        level = level_at(now) + static_cast<double>(kPacket);
        at = now;
    }
    // When a packet fits.
    std::int64_t ready(std::int64_t now) const {
        const double over = level_at(now) + static_cast<double>(kPacket) - kTransportBuffer;
        return over <= 0 ? now : now + static_cast<std::int64_t>(over / drain) + 1;
    }
};

// A PES packet that waits to be sent, or is on its way.
struct Unit {
    ByteVector bytes;  // header and data
    std::size_t sent = 0;
    std::int64_t dts = 0, release = 0, deadline = 0;  // 27 MHz
    bool key = false;
};

struct StreamState {
    Track track;
    int pid = 0;
    std::uint8_t stream_id = 0;
    std::uint8_t stream_id_extension = 0;
    int continuity = 0;
    ByteVector parameter_sets;  // as a byte stream
    // Small audio frames wait to share a packet.
    ByteVector gathered;
    Time gathered_from{};
    // On the way
    std::deque<Unit> units;
    std::int64_t lead = 0;
    Leak transport;
    std::int64_t buffer = 0;                                 // bytes; 0: not limited
    std::deque<std::pair<std::int64_t, std::int64_t>> held;  // decoding time and bytes of what the decoder holds
    std::int64_t held_bytes = 0;

    // Whether the next unit would come late by the pace of the transport buffer: one that breaks its level. It is sent
    // faster than a decoder of the level need take it.
    bool pressed(std::int64_t now) const {
        const Unit& unit = units.front();
        return static_cast<double>(unit.bytes.size() - unit.sent) >
               transport.drain * static_cast<double>(unit.deadline - now);
    }
    bool full() const { return buffer > 0 && held_bytes + 184 > buffer && held_bytes > 0; }
    // When the first unit may begin. Audio waits for room for all of it, while there is time: else it would be on its
    // way nearly always, and nothing could begin between.
    std::int64_t may_begin(std::int64_t now) const {
        const Unit& unit = units.front();
        const auto size = static_cast<std::int64_t>(unit.bytes.size());
        const bool waits = unit.sent == 0 && track.kind == TrackKind::audio && buffer > 0 && !held.empty() &&
                           held_bytes + size > buffer;
        if (!waits) return std::max(unit.release, now);
        const auto sending = static_cast<std::int64_t>(static_cast<double>(size) / transport.drain);
        const std::int64_t hurry = unit.deadline - 2 * sending - kMargin;
        return std::max({unit.release, now, std::min(held.front().first + kDoubt, hurry)});
    }
    void decode_until(std::int64_t now) {
        while (!held.empty() && held.front().first <= now) {
            held_bytes -= held.front().second;
            held.pop_front();
        }
    }
};

}  // namespace

struct TransportMux::State {
    State(std::vector<Track> tracks, MuxSettings s, MuxOut o) : settings_(std::move(s)), out_(std::move(o)) {
        program_.number = kProgram;
        bool video = false;
        for (Track& track : tracks) video = video || track.kind == TrackKind::video;
        int audio_tracks = 0, pictures = 0;
        for (Track& track : tracks) {
            StreamState stream_state;
            stream_state.pid = kFirstPid + static_cast<int>(stream_states_.size());
            ProgramStream stream;
            stream.type = bitstream::stream_type_of(track);
            stream.pid = stream_state.pid;
            if (!track.language.empty()) stream.language = media::language_639_2(track.language);
            if (stream.language.empty() && track.purpose != Purpose::main) stream.language = "und";
            stream.purpose = track.purpose;
            switch (track.codec) {
                case Codec::ac3:
                    stream.descriptors = registration("AC-3");
                    break;
                case Codec::eac3:
                    stream.descriptors = registration("EAC3");
                    break;
                case Codec::dts:
                    stream.descriptors = registration("DTS1");
                    break;
                case Codec::h265:
                    stream.descriptors = registration("HEVC");
                    break;
                case Codec::vc1:
                    stream.descriptors = registration("VC-1");
                    break;
                default:
                    break;
            }
            const bool mpeg_audio = track.codec == Codec::aac || track.codec == Codec::mp2 || track.codec == Codec::mp3;
            stream_state.stream_id = track.kind == TrackKind::video && track.codec != Codec::vc1
                                         ? static_cast<std::uint8_t>(0xE0 + pictures++ % 16)
                                     : mpeg_audio                ? static_cast<std::uint8_t>(0xC0 + audio_tracks++ % 32)
                                     : track.codec == Codec::vc1 ? std::uint8_t{0xFD}
                                                                 : std::uint8_t{0xBD};
            if (track.codec == Codec::vc1) stream_state.stream_id_extension = 0x55;
            if (track.kind == TrackKind::video ? program_.pcr_pid == kNullPid
                                               : !video && program_.pcr_pid == kNullPid) {
                program_.pcr_pid = stream_state.pid;
                clock_stream_ = stream_states_.size();
            }
            stream_state.track = std::move(track);
            program_.streams.push_back(std::move(stream));
            stream_states_.push_back(std::move(stream_state));
        }
        for (const StreamState& stream_state : stream_states_) {
            if (stream_state.track.codec == Codec::pgs || stream_state.track.codec == Codec::truehd)
                program_descriptors_ = registration("HDMV");
        }
        read_parameter_sets();
        tables_buffer_.drain = kTableDrain / 8 / kTicks;
        for (StreamState& stream_state : stream_states_) set_buffers(stream_state);
    }

    void read_parameter_sets() {
        for (StreamState& stream_state : stream_states_) {
            std::vector<ByteSpan> units;
            if (stream_state.track.codec == Codec::h264) {
                if (const auto sets = bitstream::h264::parameter_sets(stream_state.track.codec_config.view()))
                    units = sets->units;
            } else if (stream_state.track.codec == Codec::h265) {
                if (const auto sets = bitstream::h265::parameter_sets(stream_state.track.codec_config.view()))
                    units = sets->units;
            } else if (stream_state.track.codec == Codec::mpeg2 || stream_state.track.codec == Codec::mpeg1 ||
                       stream_state.track.codec == Codec::mpeg4 || stream_state.track.codec == Codec::vc1) {
                const ByteSpan config = stream_state.track.codec_config.view();
                stream_state.parameter_sets.assign(config.begin(), config.end());
            }
            for (const ByteSpan unit : units) nal::append_byte_stream(stream_state.parameter_sets, unit);
        }
    }
    void set_buffers(StreamState& stream_state, const bitstream::mpeg2::Sequence* sequence = nullptr) {
        double drain = 0;
        switch (stream_state.track.kind) {
            case TrackKind::video: {
                stream_state.lead = lead();
                const auto limit = bitstream::decoder_buffer(stream_state.track, sequence);
                // Nearly all of it: the model holds headers of PES packets, too.
                if (limit) stream_state.buffer = limit->size_bits / 8 * 9 / 10;
                // 1.2 times the highest rate of the level; where that isn't known, of MPEG-2's main level.
                drain =
                    1.2 * static_cast<double>(limit ? std::max<std::int64_t>(limit->rate_bps, 2'000'000) : 15'000'000);
                break;
            }
            case TrackKind::audio:
                stream_state.lead = std::min(kAudioLead, lead());
                stream_state.buffer = audio_buffer(stream_state.track) * 3 / 4;  // (see kMargin)
                drain = stream_state.track.channels > 2 ? kSurroundDrain : kAudioDrain;
                break;
            case TrackKind::subtitle:
                stream_state.lead = kTextLead;
                drain = kSurroundDrain;
                break;
        }
        stream_state.transport.drain = drain / 8 / kTicks;
    }

    std::int64_t lead() const { return base::to_ticks(settings_.lead, kTicks); }
    std::int64_t ticks(Time time) const { return base::to_ticks(time - origin_, 90'000) * 300 + kStart; }
    Time time_of(std::int64_t clock) const { return base::from_ticks(clock - kStart, kTicks) + origin_; }

    void hold(const Packet& packet);
    Status write(const Packet& packet);
    Status finish();
    // A PES packet begins with its header; what it carries is appended, and `queue` puts it into its place.
    ByteVector begin_pes(const StreamState& stream_state, std::int64_t pts, std::int64_t dts, std::size_t size) const;
    void queue(StreamState& stream_state, ByteVector pes, std::int64_t dts, bool key);
    void send_gathered(StreamState& stream_state);
    bool append_elementary(ByteVector& out, const StreamState& stream_state, const Packet& packet) const;
    void queue_tables();
    void put_table(int pid, ByteVector section, int& continuity, bool& mark);
    Status send_last();
    std::size_t next_piece(const StreamState& stream_state) const;
    void decide_rate();
    // Sends all that is due before a time.
    Status send_until(std::int64_t end);
    Status send(ByteSpan bytes, bool group_start);
    Status send_from(StreamState& stream_state);
    Status send_clock();
    std::int64_t next_event(std::int64_t now, bool only_begun) const;
    bool audio_begun() const;
    bool waiting() const {
        return std::any_of(stream_states_.begin(), stream_states_.end(),
                           [](const StreamState& l) { return !l.units.empty(); });
    }

    MuxSettings settings_;
    MuxOut out_;
    Program program_;
    ByteVector program_descriptors_;
    std::vector<StreamState> stream_states_;
    std::size_t clock_stream_ = 0;
    bool begun_ = false;
    Time origin_{};
    std::int64_t end_ = INT64_MAX;  // where the clock of what follows begins
    std::int64_t now_ = 0, known_until_ = 0;
    std::int64_t next_tables_ = 0, next_clock_ = 0, next_decision_ = 0;
    std::int64_t slot_ = 0, slots_from_ = 0, slot_count_ = 0;
    std::deque<std::pair<ts::PacketBytes, bool>> tables_;  // packets; the first of a group is marked
    Leak tables_buffer_;
    int table_continuity_[3] = {};
    bool tables_for_key_ = false;
    bool finishing_ = false;
    MuxFigures figures_;
};

// The packet as an elementary stream has it, appended. False where it has no such form.
bool TransportMux::State::append_elementary(ByteVector& out, const StreamState& stream_state,
                                            const Packet& packet) const {
    const ByteSpan data = packet.data.view();
    switch (stream_state.track.codec) {
        case Codec::h264:
        case Codec::h265:
            nal::append_byte_stream_unit(out, stream_state.track.codec, data,
                                         packet.key ? ByteSpan(stream_state.parameter_sets) : ByteSpan{});
            return true;
        case Codec::mpeg1:
        case Codec::mpeg2:
        case Codec::mpeg4:
        case Codec::vc1: {
            const std::uint8_t wanted = stream_state.track.codec == Codec::vc1     ? 0x0F
                                        : stream_state.track.codec == Codec::mpeg4 ? 0x20
                                                                                   : 0xB3;
            const bool has_header = data.size() > 4 && data[0] == 0 && data[1] == 0 && data[2] == 1 &&
                                    (data[3] == wanted || (wanted == 0x20 && (data[3] >= 0xB0 && data[3] <= 0xB5)) ||
                                     (wanted == 0x20 && data[3] < 0x30));
            if (packet.key && !has_header)
                out.insert(out.end(), stream_state.parameter_sets.begin(), stream_state.parameter_sets.end());
            break;
        }
        case Codec::aac: {
            const ByteVector header = bitstream::aac::make_adts(stream_state.track.codec_config.view(), data.size());
            if (header.empty()) return false;
            out.insert(out.end(), header.begin(), header.end());
            break;
        }
        default:
            break;
    }
    out.insert(out.end(), data.begin(), data.end());
    return true;
}

void TransportMux::State::put_table(int pid, ByteVector section, int& continuity, bool& mark) {
    section.insert(section.begin(), 0);  // pointer_field
    ByteSpan rest(section);
    bool first = true;
    while (!rest.empty()) {
        // Behind the section the packet is filled with 0xFF as table data, not as an adaptation field.
        ByteVector payload(rest.begin(),
                           rest.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(184, rest.size())));
        const std::size_t taken = payload.size();
        payload.resize(184, 0xFF);
        ts::PacketBytes packet;
        ts::write_packet(packet, {pid, first, continuity, {}, false}, payload);
        tables_.emplace_back(packet, std::exchange(mark, false));
        continuity = (continuity + 1) & 15;
        rest = rest.subspan(taken);
        first = false;
    }
}

void TransportMux::State::queue_tables() {
    const bool group =
        stream_states_[clock_stream_].track.kind != TrackKind::video ||
        (!stream_states_[clock_stream_].units.empty() && stream_states_[clock_stream_].units.front().key &&
         stream_states_[clock_stream_].units.front().sent == 0);
    bool mark = group && !audio_begun();
    put_table(kPatPid, write_pat(kProgram, kPmtPid), table_continuity_[0], mark);
    put_table(kPmtPid, write_pmt(program_, program_descriptors_), table_continuity_[2], mark);
    if (!settings_.title.empty()) put_table(kSdtPid, write_sdt(kProgram, settings_.title), table_continuity_[1], mark);
}

// All that is left, evenly, before another mux begins; with tables until their counters are at their beginning, too,
// and the clock up to that time. What a decoder has no room for waits as long as it can.
Status TransportMux::State::send_last() {
    constexpr std::size_t kCounts = 16;
    bool mark = false;
    for (std::size_t i = 0; i < kCounts; ++i) {
        if (table_continuity_[0] != 0) put_table(kPatPid, write_pat(kProgram, kPmtPid), table_continuity_[0], mark);
        if (table_continuity_[2] != 0)
            put_table(kPmtPid, write_pmt(program_, program_descriptors_), table_continuity_[2], mark);
        if (table_continuity_[1] != 0)
            put_table(kSdtPid, write_sdt(kProgram, settings_.title), table_continuity_[1], mark);
    }
    const auto clocks_until = [&](std::int64_t end) -> Status {
        while (next_clock_ < end) {
            now_ = std::max(now_, next_clock_);
            WAVECREST_TRY(send_clock());
        }
        return {};
    };
    const std::int64_t end = std::min(end_, now_ + kLastHeld);
    bool waited = false;
    while (waiting() || !tables_.empty()) {
        WAVECREST_TRY(clocks_until(now_));
        std::size_t count = tables_.size();
        for (StreamState& stream_state : stream_states_) {
            stream_state.decode_until(now_ - kDoubt);
            for (const Unit& unit : stream_state.units) count += (unit.bytes.size() - unit.sent) / 184 + 1;
            if (!stream_state.units.empty()) count += kCounts;  // what is left is cut smaller for its counter
        }
        slot_ = std::max<std::int64_t>(1, (end - now_) / static_cast<std::int64_t>(count + 2));
        StreamState *first = nullptr, *held = nullptr;
        for (StreamState& stream_state : stream_states_) {
            if (stream_state.units.empty()) continue;
            StreamState*& best = stream_state.full() ? held : first;
            if (best == nullptr || stream_state.units.front().dts < best->units.front().dts) best = &stream_state;
        }
        if (first == nullptr && tables_.empty() && now_ + static_cast<std::int64_t>(count) * kLastSlot < end) {
            now_ += kLastSlot;
            waited = true;
            continue;
        }
        // What comes behind a wait isn't to look as if it had come during it.
        if (std::exchange(waited, false)) WAVECREST_TRY(send_clock());
        if (first == nullptr && !tables_.empty()) {
            const auto [bytes, group] = std::move(tables_.front());
            tables_.pop_front();
            WAVECREST_TRY(send(bytes, group));
        } else {
            WAVECREST_TRY(send_from(first != nullptr ? *first : *held));
        }
    }
    // Not through a gap of hours, in a damaged film.
    return clocks_until(std::min(end_, now_ + kLongestGap));
}

// How much of its first unit a stream_state's next packet takes at most: of the last one less, where that ends on a
// counter of 15.
std::size_t TransportMux::State::next_piece(const StreamState& stream_state) const {
    const Unit& unit = stream_state.units.front();
    const std::size_t rest = unit.bytes.size() - unit.sent;
    if (!finishing_ || !settings_.until || stream_state.units.size() > 1) return rest;
    std::size_t packets = (rest + 183) / 184;
    packets += (16 - (static_cast<std::size_t>(stream_state.continuity) + packets) % 16) % 16;
    return packets <= rest ? (rest + packets - 1) / packets : rest;
}

// The lowest rate at which all that is known arrives in time.
void TransportMux::State::decide_rate() {
    next_decision_ = now_ + kDecideEvery;
    std::vector<std::pair<std::int64_t, std::size_t>> due;
    for (const StreamState& stream_state : stream_states_) {
        for (const Unit& unit : stream_state.units)
            due.emplace_back(unit.deadline, (unit.bytes.size() - unit.sent + 183) / 184 * kPacket);
    }
    std::sort(due.begin(), due.end());
    double bits = static_cast<double>(tables_.size() * kPacketBits), needed = 0;
    for (const auto& [deadline, bytes] : due) {
        bits += static_cast<double>(bytes) * 8;
        needed = std::max(needed, bits * kTicks / static_cast<double>(std::max(deadline - now_, kDecideEvery)));
    }
    const double rate = std::max(needed * kHeadroom + 30'000, kLeastRate);
    slot_ = std::max<std::int64_t>(1, static_cast<std::int64_t>(static_cast<double>(kPacketBits) * kTicks / rate));
    figures_.peak_bps = std::max(figures_.peak_bps, static_cast<std::int64_t>(rate));
}

Status TransportMux::State::send(ByteSpan bytes, bool group_start) {
    std::int64_t group = now_;
    if (const StreamState& stream_state = stream_states_[clock_stream_];
        group_start && stream_state.track.kind == TrackKind::video && !stream_state.units.empty())
        group = stream_state.units.front().dts;
    WAVECREST_TRY(out_({bytes, time_of(now_), group_start, time_of(group)}));
    ++figures_.packets;
    if (settings_.rate_bps > 0) {
        ++slot_count_;
        now_ = slots_from_ + base::rescale(slot_count_ * kPacketBits, kTicks, settings_.rate_bps);
    } else {
        now_ += slot_;
    }
    return {};
}

Status TransportMux::State::send_clock() {
    // A packet with nothing but the clock; its continuity counter stays (2.4.3.3).
    const StreamState& stream_state = stream_states_[clock_stream_];
    PacketHeader header;
    header.pid = stream_state.pid;
    header.continuity = (stream_state.continuity + 15) & 15;
    header.pcr_27mhz = now_;
    ts::PacketBytes packet;
    ts::write_packet(packet, header, {});
    next_clock_ = now_ + kClockEvery;
    stream_states_[clock_stream_].transport.take(now_);
    return send(packet, false);
}

Status TransportMux::State::send_from(StreamState& stream_state) {
    Unit& unit = stream_state.units.front();
    PacketHeader header;
    header.pid = stream_state.pid;
    header.starts = unit.sent == 0;
    header.random_access = header.starts && unit.key && stream_state.track.kind == TrackKind::video;
    header.continuity = stream_state.continuity;
    if (stream_state.pid == program_.pcr_pid && (now_ >= next_clock_ || header.random_access)) {
        header.pcr_27mhz = now_;
        next_clock_ = now_ + kClockEvery;
    }
    ts::PacketBytes packet;
    const std::size_t taken =
        ts::write_packet(packet, header, ByteSpan(unit.bytes).subspan(unit.sent, next_piece(stream_state)));
    stream_state.continuity = (stream_state.continuity + 1) & 15;
    stream_state.transport.take(now_);
    stream_state.held.emplace_back(unit.dts, static_cast<std::int64_t>(taken));
    stream_state.held_bytes += static_cast<std::int64_t>(taken);
    unit.sent += taken;
    if (const std::int64_t over = now_ - unit.dts; over > 0) {
        ++figures_.late;
        figures_.latest = std::max(figures_.latest, base::from_ticks(over, kTicks));
    }
    if (unit.sent >= unit.bytes.size()) stream_state.units.pop_front();
    return send(packet, false);
}

// Whether a PES packet of audio has been sent in part.
bool TransportMux::State::audio_begun() const {
    return std::any_of(stream_states_.begin(), stream_states_.end(), [](const StreamState& one) {
        return one.track.kind == TrackKind::audio && !one.units.empty() && one.units.front().sent > 0;
    });
}

// When something may happen next that can't now; of what has begun alone, or of all.
std::int64_t TransportMux::State::next_event(std::int64_t now, bool only_begun) const {
    std::int64_t next = std::min(next_clock_, next_tables_);
    if (!tables_.empty()) next = std::min(next, tables_buffer_.ready(now));
    for (const StreamState& stream_state : stream_states_) {
        if (stream_state.units.empty() || (only_begun && stream_state.units.front().sent == 0)) continue;
        std::int64_t at = stream_state.may_begin(now);
        if (!stream_state.pressed(now)) at = std::max(at, stream_state.transport.ready(now));
        if (stream_state.full()) at = std::max(at, stream_state.held.front().first + kDoubt);
        if (!tables_.empty() && &stream_state == &stream_states_[clock_stream_])
            at = std::max(at, tables_buffer_.ready(now));
        next = std::min(next, at);
    }
    return std::max(next, now + 1);
}

Status TransportMux::State::send_until(std::int64_t end) {
    while (now_ < end) {
        for (StreamState& stream_state : stream_states_) stream_state.decode_until(now_ - kDoubt);
        // A keyframe has tables in front, so that receivers can begin there.
        const StreamState& clock_stream = stream_states_[clock_stream_];
        const bool key_next = !clock_stream.units.empty() && clock_stream.units.front().sent == 0 &&
                              clock_stream.units.front().key && clock_stream.units.front().release <= now_ &&
                              clock_stream.track.kind == TrackKind::video;
        // Where a group begins, nothing goes on from before it: segments are cut there, and who begins there has whole
        // frames alone.
        const bool ends_first = key_next && !tables_for_key_ && next_tables_ < INT64_MAX && audio_begun();
        if (!ends_first && (now_ >= next_tables_ || (key_next && next_tables_ < INT64_MAX && !tables_for_key_))) {
            if (tables_.empty()) queue_tables();
            next_tables_ = now_ + kTablesEvery;
            tables_for_key_ = key_next;
        }
        if (settings_.rate_bps == 0 && now_ >= next_decision_) decide_rate();
        if (now_ >= next_clock_ + kClockEvery / 6) {
            WAVECREST_TRY(send_clock());
            continue;
        }
        if (!tables_.empty() && tables_buffer_.takes(now_)) {
            const auto [bytes, group] = std::move(tables_.front());
            tables_.pop_front();
            tables_buffer_.take(now_);
            WAVECREST_TRY(send(bytes, group));
            continue;
        }
        StreamState* first = nullptr;
        for (StreamState& stream_state : stream_states_) {
            if (stream_state.units.empty()) continue;
            const Unit& unit = stream_state.units.front();
            // The tables in front of a keyframe go before it.
            if (&stream_state == &clock_stream && key_next && !tables_.empty()) continue;
            if (ends_first && unit.sent == 0) continue;
            if (stream_state.may_begin(now_) > now_ ||
                (!stream_state.transport.takes(now_) && !stream_state.pressed(now_)))
                continue;
            // A picture larger than the buffer it claims has to be sent all the same.
            if (stream_state.full() && stream_state.held.front().first < unit.dts) continue;
            if (first == nullptr || unit.deadline < first->units.front().deadline) first = &stream_state;
        }
        if (first != nullptr) {
            if (first == &clock_stream && first->units.front().sent == 0) tables_for_key_ = false;
            WAVECREST_TRY(send_from(*first));
        } else if (now_ >= next_clock_) {
            WAVECREST_TRY(send_clock());
        } else if (settings_.rate_bps > 0) {
            static const ts::PacketBytes kNull = [] {
                ts::PacketBytes packet;
                ts::write_packet(packet, {kNullPid, false, 0, {}, false}, ByteVector(184, 0xFF));
                return packet;
            }();
            ++figures_.null_packets;
            WAVECREST_TRY(send(kNull, false));
        } else {
            const std::int64_t next = next_event(now_, ends_first);
            if (next > now_ + kMs) next_decision_ = std::min(next_decision_, next);
            now_ = next;
        }
    }
    return {};
}

ByteVector TransportMux::State::begin_pes(const StreamState& stream_state, std::int64_t pts, std::int64_t dts,
                                          std::size_t size) const {
    const bool video = stream_state.track.kind == TrackKind::video;
    return write_pes(stream_state.stream_id, pts / 300, video && dts != pts ? std::optional(dts / 300) : std::nullopt,
                     video ? 0 : size, stream_state.stream_id_extension);
}

void TransportMux::State::queue(StreamState& stream_state, ByteVector pes, std::int64_t dts, bool key) {
    Unit unit;
    unit.bytes = std::move(pes);
    unit.dts = dts;
    unit.deadline = std::min(dts - kMargin, end_ - kLastHeld);
    unit.release = std::min(dts - stream_state.lead, end_ - kLastHeld);
    unit.key = key;
    stream_state.units.push_back(std::move(unit));
}

void TransportMux::State::send_gathered(StreamState& stream_state) {
    if (stream_state.gathered.empty()) return;
    const std::int64_t at = ticks(stream_state.gathered_from);
    ByteVector pes = begin_pes(stream_state, at, at, stream_state.gathered.size());
    pes.insert(pes.end(), stream_state.gathered.begin(), stream_state.gathered.end());
    queue(stream_state, std::move(pes), at, true);
    stream_state.gathered.clear();
}

void TransportMux::State::hold(const Packet& packet) {
    const auto found = std::find_if(stream_states_.begin(), stream_states_.end(),
                                    [&](const StreamState& l) { return l.track.id == packet.track; });
    if (found == stream_states_.end()) return;
    ByteVector data;
    append_elementary(data, *found, packet);
    const auto size = static_cast<std::int64_t>(data.size());
    found->held.emplace_back(ticks(packet.dts), size);
    found->held_bytes += size;
}

Status TransportMux::State::write(const Packet& packet) {
    const auto found = std::find_if(stream_states_.begin(), stream_states_.end(),
                                    [&](const StreamState& l) { return l.track.id == packet.track; });
    if (found == stream_states_.end()) return {};
    StreamState& stream_state = *found;
    if (!begun_) {
        begun_ = true;
        // Moved by whole seconds, so that no grid is lost.
        while (packet.dts < origin_ - std::chrono::seconds(1)) origin_ -= std::chrono::seconds(1);
        now_ = slots_from_ = settings_.from ? ticks(*settings_.from) : ticks(packet.dts) - lead();
        if (settings_.until) end_ = ticks(*settings_.until);
        next_tables_ = next_clock_ = next_decision_ = now_;
    }
    if (stream_state.track.kind == TrackKind::video && stream_state.buffer == 0 && packet.key &&
        (stream_state.track.codec == Codec::mpeg2 || stream_state.track.codec == Codec::mpeg1)) {
        const ByteSpan data = packet.data.view();
        for (std::size_t at = bitstream::mpeg2::find_start_code(data, 0); at + 8 < data.size();
             at = bitstream::mpeg2::find_start_code(data, at + 3)) {
            if (data[at + 3] != bitstream::mpeg2::kSequenceHeader) continue;
            if (const auto sequence = bitstream::mpeg2::parse_sequence(data.subspan(at)))
                set_buffers(stream_state, &*sequence);
            break;
        }
    }
    if (stream_state.track.kind == TrackKind::audio) {
        ByteVector data;
        if (!append_elementary(data, stream_state, packet))
            return fail(ErrorKind::input,
                        "a frame of this AAC audio can't be carried in a transport stream: too long, or no ADTS form",
                        fmt::format("track {}", packet.track), "choose Matroska or MP4");
        const bool full = stream_state.gathered.size() + data.size() > kAudioGroup ||
                          (!stream_state.gathered.empty() && packet.pts - stream_state.gathered_from > kAudioGroupTime);
        if (full) send_gathered(stream_state);
        if (stream_state.gathered.empty()) stream_state.gathered_from = packet.pts;
        stream_state.gathered.insert(stream_state.gathered.end(), data.begin(), data.end());
    } else if (!packet.data.empty()) {
        const bool video = stream_state.track.kind == TrackKind::video;
        const std::int64_t pts = ticks(packet.pts), dts = video ? std::min(ticks(packet.dts), pts) : pts;
        ByteVector pes = begin_pes(stream_state, pts, dts, packet.data.size());
        append_elementary(pes, stream_state, packet);
        queue(stream_state, std::move(pes), dts, video && packet.key);
    }
    // Audio that is still gathered is due soonest; nothing is sent that it should come before.
    known_until_ = std::max(known_until_, ticks(packet.dts));
    for (StreamState& other : stream_states_) {
        if (!other.gathered.empty() && ticks(other.gathered_from) + 2 * 100 * kMs < known_until_) send_gathered(other);
    }
    return send_until(std::min(known_until_ - lead(), end_ - kLastHeld));
}

Status TransportMux::State::finish() {
    for (StreamState& stream_state : stream_states_) send_gathered(stream_state);
    finishing_ = true;
    if (settings_.until && begun_) return send_last();
    while (waiting()) WAVECREST_TRY(send_until(now_ + 10 * kMs));
    return {};
}

TransportMux::TransportMux(std::vector<Track> tracks, MuxSettings settings, MuxOut out)
    : state_(std::make_unique<State>(std::move(tracks), std::move(settings), std::move(out))) {}
TransportMux::~TransportMux() = default;
void TransportMux::hold(const Packet& packet) {
    state_->hold(packet);
}
Status TransportMux::write(const Packet& packet) {
    return state_->write(packet);
}
Status TransportMux::finish() {
    return state_->finish();
}
MuxFigures TransportMux::figures() const {
    return state_->figures_;
}

}  // namespace wavecrest::container
