#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>

#include "bitstream/aac.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"
#include "container/mpeg_ts.hpp"
#include "container/writer.hpp"
#include "media/language.hpp"

namespace wavecrest::container {
namespace {

using namespace ts;
namespace nal = bitstream::nal;

constexpr int kProgram = 1, kPmtPid = 0x1000, kFirstPid = 0x100;
constexpr std::int64_t kSecond = 90000;
// Presentation times start here, so that decoding times and clocks before them stay positive.
constexpr std::int64_t kStart = 2 * kSecond;
// The clock runs so far behind decoding times: what a decoder's buffer holds in time (13818-1, 2.4.2.6 bounds it by one
// second for most streams).
constexpr std::int64_t kBufferTime = kSecond * 7 / 10;
constexpr std::int64_t kTableEvery = kSecond * 4 / 10, kClockEvery = kSecond * 35 / 1000;
constexpr std::size_t kSoundGroup = 2600;  // bytes of small sound frames in one PES packet

int stream_type(const Track& track) {
    switch (track.codec) {
        case Codec::mpeg1:
            return 0x01;
        case Codec::mpeg2:
            return 0x02;
        case Codec::mp2:
        case Codec::mp3:
            return track.sample_rate >= 32000 ? 0x03 : 0x04;
        case Codec::aac:
            return 0x0F;
        case Codec::mpeg4:
            return 0x10;
        case Codec::h264:
            return 0x1B;
        case Codec::h265:
            return 0x24;
        case Codec::ac3:
            return 0x81;
        case Codec::eac3:
            return 0x87;
        case Codec::dts:
            return track.profile.empty() ? 0x82 : 0x86;
        case Codec::truehd:
            return 0x83;
        case Codec::vc1:
            return 0xEA;
        case Codec::pgs:
            return 0x90;
        default:
            return 0x06;
    }
}

ByteVector registration(const char* name) {
    ByteVector out{0x05, 4};
    out.insert(out.end(), name, name + 4);
    return out;
}

class TransportWriter : public PacketSink {
  public:
    TransportWriter(base::AtomicFile file, std::vector<Track> tracks, WriterSettings settings)
        : file_(std::move(file)), settings_(std::move(settings)) {
        program_.number = kProgram;
        bool video = false;
        for (Track& track : tracks) video = video || track.kind == TrackKind::video;
        int sounds = 0, pictures = 0;
        for (Track& track : tracks) {
            Lane lane;
            lane.pid = kFirstPid + static_cast<int>(lanes_.size());
            ProgramStream stream;
            stream.type = stream_type(track);
            stream.pid = lane.pid;
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
            const bool mpeg_sound = track.codec == Codec::aac || track.codec == Codec::mp2 || track.codec == Codec::mp3;
            lane.stream_id = track.kind == TrackKind::video && track.codec != Codec::vc1
                                 ? static_cast<std::uint8_t>(0xE0 + pictures++ % 16)
                             : mpeg_sound                ? static_cast<std::uint8_t>(0xC0 + sounds++ % 32)
                             : track.codec == Codec::vc1 ? std::uint8_t{0xFD}
                                                         : std::uint8_t{0xBD};
            if (track.codec == Codec::vc1) lane.stream_id_extension = 0x55;
            if (track.kind == TrackKind::video ? program_.pcr_pid == kNullPid
                                               : !video && program_.pcr_pid == kNullPid) {
                program_.pcr_pid = lane.pid;
                clock_lane_ = lanes_.size();
            }
            lane.track = std::move(track);
            program_.streams.push_back(std::move(stream));
            lanes_.push_back(std::move(lane));
        }
        for (const Lane& lane : lanes_) {
            if (lane.track.codec == Codec::pgs || lane.track.codec == Codec::truehd)
                program_descriptors_ = registration("HDMV");
        }
        read_parameter_sets();
    }

    Status write(const Packet& packet) override;
    Status finish() override;

  private:
    struct Lane {
        Track track;
        int pid = 0;
        std::uint8_t stream_id = 0;
        std::uint8_t stream_id_extension = 0;
        int continuity = 0;
        ByteVector parameter_sets;  // as a byte stream
        // Small sound frames wait to share a packet.
        ByteVector gathered;
        std::int64_t gathered_pts = 0;
        Time gathered_from{};
    };
    void read_parameter_sets() {
        for (Lane& lane : lanes_) {
            std::vector<ByteSpan> units;
            if (lane.track.codec == Codec::h264) {
                if (const auto sets = bitstream::h264::parameter_sets(lane.track.codec_config.view()))
                    units = sets->units;
            } else if (lane.track.codec == Codec::h265) {
                if (const auto sets = bitstream::h265::parameter_sets(lane.track.codec_config.view()))
                    units = sets->units;
            } else if (lane.track.codec == Codec::mpeg2 || lane.track.codec == Codec::mpeg1 ||
                       lane.track.codec == Codec::mpeg4 || lane.track.codec == Codec::vc1) {
                const ByteSpan config = lane.track.codec_config.view();
                lane.parameter_sets.assign(config.begin(), config.end());
            }
            for (const ByteSpan unit : units) nal::append_byte_stream(lane.parameter_sets, unit);
        }
    }
    ByteVector elementary(const Lane& lane, const Packet& packet) const;
    void put_tables();
    void put_pes(Lane& lane, ByteSpan data, std::int64_t pts, std::optional<std::int64_t> dts, bool key = false);
    void put_clock(std::int64_t clock);
    void send_gathered(Lane& lane);
    Status flush_if_full();
    std::int64_t stamp(Time time) const { return base::to_ticks(time - origin_, kSecond) + kStart; }

    base::AtomicFile file_;
    WriterSettings settings_;
    Program program_;
    ByteVector program_descriptors_;
    std::vector<Lane> lanes_;
    std::size_t clock_lane_ = 0;
    base::ByteWriter out_;
    bool begun_ = false;
    Time origin_{};
    std::int64_t next_tables_ = 0, next_clock_ = 0, clock_ = 0;
    int table_continuity_[3] = {};
};

// The packet as an elementary stream has it.
ByteVector TransportWriter::elementary(const Lane& lane, const Packet& packet) const {
    const ByteSpan data = packet.data.view();
    ByteVector out;
    switch (lane.track.codec) {
        case Codec::h264:
        case Codec::h265:
            return nal::byte_stream_unit(lane.track.codec, data,
                                         packet.key ? ByteSpan(lane.parameter_sets) : ByteSpan{});
        case Codec::mpeg1:
        case Codec::mpeg2:
        case Codec::mpeg4:
        case Codec::vc1: {
            const std::uint8_t wanted = lane.track.codec == Codec::vc1     ? 0x0F
                                        : lane.track.codec == Codec::mpeg4 ? 0x20
                                                                           : 0xB3;
            const bool has_header = data.size() > 4 && data[0] == 0 && data[1] == 0 && data[2] == 1 &&
                                    (data[3] == wanted || (wanted == 0x20 && (data[3] >= 0xB0 && data[3] <= 0xB5)) ||
                                     (wanted == 0x20 && data[3] < 0x30));
            if (packet.key && !has_header) out = lane.parameter_sets;
            out.insert(out.end(), data.begin(), data.end());
            return out;
        }
        case Codec::aac:
            out = bitstream::aac::make_adts(lane.track.codec_config.view(), data.size());
            if (out.empty()) return out;
            out.insert(out.end(), data.begin(), data.end());
            return out;
        default:
            return {data.begin(), data.end()};
    }
}

void TransportWriter::put_tables() {
    const auto put = [&](int pid, ByteVector section, int& continuity) {
        section.insert(section.begin(), 0);  // pointer_field
        ByteSpan rest(section);
        bool first = true;
        while (!rest.empty()) {
            // Behind the section the packet is filled with 0xFF as table data, not as an adaptation field.
            ByteVector payload(rest.begin(),
                               rest.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(184, rest.size())));
            const std::size_t taken = payload.size();
            payload.resize(184, 0xFF);
            ts::write_packet(out_, {pid, first, continuity, {}, false}, payload);
            continuity = (continuity + 1) & 15;
            rest = rest.subspan(taken);
            first = false;
        }
    };
    put(kPatPid, write_pat(kProgram, kPmtPid), table_continuity_[0]);
    if (!settings_.title.empty()) put(kSdtPid, write_sdt(kProgram, settings_.title), table_continuity_[1]);
    put(kPmtPid, write_pmt(program_, program_descriptors_), table_continuity_[2]);
}

void TransportWriter::put_clock(std::int64_t clock) {
    // A packet with nothing but the clock; its continuity counter stays (2.4.3.3).
    const Lane& lane = lanes_[clock_lane_];
    PacketHeader header;
    header.pid = lane.pid;
    header.continuity = (lane.continuity + 15) & 15;
    header.pcr_27mhz = clock * 300;
    ts::write_packet(out_, header, {});
}

void TransportWriter::put_pes(Lane& lane, ByteSpan data, std::int64_t pts, std::optional<std::int64_t> dts, bool key) {
    const ByteVector header = write_pes(lane.stream_id, pts, dts, lane.track.kind == TrackKind::video ? 0 : data.size(),
                                        lane.stream_id_extension);
    // The first packet takes header and data together.
    ByteVector first(header);
    const bool with_clock = lane.pid == program_.pcr_pid;
    const std::size_t room = kPacket - 4 - (with_clock ? 8 : key ? 2 : 0);
    const std::size_t taken = std::min(data.size(), room > header.size() ? room - header.size() : 0);
    first.insert(first.end(), data.begin(), data.begin() + static_cast<std::ptrdiff_t>(taken));
    PacketHeader packet;
    packet.pid = lane.pid;
    packet.starts = true;
    packet.random_access = key;
    packet.continuity = lane.continuity;
    if (with_clock) {
        packet.pcr_27mhz = clock_ * 300;
        next_clock_ = clock_ + kClockEvery;
    }
    ts::write_packet(out_, packet, first);
    lane.continuity = (lane.continuity + 1) & 15;
    for (std::size_t at = taken; at < data.size();) {
        packet = {lane.pid, false, lane.continuity, {}, false};
        at += ts::write_packet(out_, packet, data.subspan(at));
        lane.continuity = (lane.continuity + 1) & 15;
    }
}

void TransportWriter::send_gathered(Lane& lane) {
    if (lane.gathered.empty()) return;
    put_pes(lane, lane.gathered, lane.gathered_pts, std::nullopt);
    lane.gathered.clear();
}

Status TransportWriter::flush_if_full() {
    constexpr std::size_t kPiece = 1 << 20;
    if (out_.size() < kPiece) return {};
    WAVECREST_TRY(file_.write(out_.bytes()));
    out_ = {};
    return {};
}

Status TransportWriter::write(const Packet& packet) {
    const auto found =
        std::find_if(lanes_.begin(), lanes_.end(), [&](const Lane& l) { return l.track.id == packet.track; });
    if (found == lanes_.end() || (settings_.duration.count() > 0 && packet.pts >= settings_.duration)) return {};
    Lane& lane = *found;
    if (!begun_) {
        begun_ = true;
        // Moved by whole seconds, so that no grid is lost.
        while (packet.dts < origin_ - std::chrono::seconds(1)) origin_ -= std::chrono::seconds(1);
        clock_ = stamp(packet.dts) - kBufferTime;
        next_tables_ = next_clock_ = clock_;
    }
    // The clock follows the decoding times of what is written.
    clock_ = std::max(clock_, stamp(packet.dts) - kBufferTime);
    if (clock_ >= next_tables_) {
        for (Lane& other : lanes_) send_gathered(other);
        put_tables();
        next_tables_ = clock_ + kTableEvery;
    }
    if (clock_ >= next_clock_ && found != lanes_.begin() + static_cast<std::ptrdiff_t>(clock_lane_)) {
        put_clock(clock_);
        next_clock_ = clock_ + kClockEvery;
    }
    const ByteVector data = elementary(lane, packet);
    if (data.empty()) {
        return fail(ErrorKind::input,
                    "a frame of this AAC sound can't be carried in a transport stream: it is too long or its "
                    "configuration has no ADTS form",
                    fmt::format("track {}", packet.track), "choose Matroska or MP4");
    }
    if (lane.track.kind == TrackKind::audio) {
        const bool full = lane.gathered.size() + data.size() > kSoundGroup ||
                          (!lane.gathered.empty() && packet.pts - lane.gathered_from > std::chrono::milliseconds(100));
        if (full) send_gathered(lane);
        if (lane.gathered.empty()) {
            lane.gathered_pts = stamp(packet.pts);
            lane.gathered_from = packet.pts;
        }
        lane.gathered.insert(lane.gathered.end(), data.begin(), data.end());
        return flush_if_full();
    }
    const std::int64_t pts = stamp(packet.pts), dts = stamp(packet.dts);
    put_pes(lane, data, pts, lane.track.kind == TrackKind::video && dts != pts ? std::optional(dts) : std::nullopt,
            lane.track.kind == TrackKind::video && packet.key);
    return flush_if_full();
}

Status TransportWriter::finish() {
    for (Lane& lane : lanes_) send_gathered(lane);
    WAVECREST_TRY(file_.write(out_.bytes()));
    return file_.commit();
}

}  // namespace

Result<std::unique_ptr<PacketSink>> create_mpeg_ts(base::AtomicFile file, std::vector<Track> tracks,
                                                   WriterSettings settings) {
    return std::unique_ptr<PacketSink>(
        std::make_unique<TransportWriter>(std::move(file), std::move(tracks), std::move(settings)));
}

}  // namespace wavecrest::container
