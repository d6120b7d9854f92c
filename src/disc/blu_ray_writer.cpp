#include "disc/blu_ray_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <deque>
#include <map>
#include <optional>

#include "base/atomic_file.hpp"
#include "bitstream/stream_type.hpp"
#include "codec/pgs.hpp"
#include "container/mpeg_ts.hpp"

namespace wavecrest::disc {
namespace {

using base::AtomicFile;
using base::ByteWriter;
namespace ts = container::ts;
using namespace blu_ray;

constexpr int kPmtPid = 0x0100, kPcrPid = 0x1001;
constexpr std::int64_t kMuxRate = 48'000'000;                                     // bits per second
constexpr std::int64_t kPacketTicks = 27'000'000LL * ts::kPacket * 8 / kMuxRate;  // 27 MHz
constexpr std::int64_t kClipStart = 54'000'000;                                   // 90 kHz: 10 minutes
constexpr std::int64_t kLead = 27'000'000 / 2;  // data comes that long before it is due
// AudioFrames takes less buffering than pictures: it lies behind those of its time, so that whoever enters at a picture
// misses none of it.
const Time kAudioLag = base::from_seconds(0.2);
constexpr std::int64_t kPcrInterval = 27'000'000 / 25, kTableInterval = 27'000'000 / 10;
constexpr std::size_t kUnit = 6144;

}  // namespace

struct BluRayWriter::State {
    explicit State(base::AtomicFolder made) : folder(std::move(made)) {}

    base::AtomicFolder folder;
    std::optional<AtomicFile> file;
    BluRayClipSettings settings;
    ClipInfo info;
    std::int64_t now = 0;  // 27 MHz
    std::int64_t last_pcr = 0, last_tables = 0;
    std::map<int, int> continuity;
    ByteVector pending;  // packets of the aligned unit being filled
    struct Waiting {
        BluRayGroup::Unit unit;
        bool graphics = false;
    };
    std::deque<Waiting> waiting;  // by time
    BluRayGroup::Flaw flaw = BluRayGroup::Flaw::none, unit_flaw = BluRayGroup::Flaw::none;

    std::int64_t timestamp(Time at) const { return kClipStart + base::to_ticks(at, 90000); }

    Status put_packet(ByteSpan packet) {
        if (pending.empty()) unit_flaw = flaw;
        ByteWriter extra;
        extra.u32(static_cast<std::uint64_t>(now) & 0x3FFFFFFF);  // copying allowed; arrival time
        pending.insert(pending.end(), extra.bytes().begin(), extra.bytes().end());
        pending.insert(pending.end(), packet.begin(), packet.end());
        now += kPacketTicks;
        ++info.packets;
        if (pending.size() < kUnit) return {};
        std::uint32_t noise = info.packets;
        for (std::size_t i = 0; i < pending.size() && unit_flaw != BluRayGroup::Flaw::none; ++i) {
            noise = noise * 1664525u + 1013904223u;
            const auto random = static_cast<std::uint8_t>(noise >> 24);
            const std::size_t in_packet = i % ts::kTimedPacket;
            switch (unit_flaw) {
                case BluRayGroup::Flaw::encrypted:
                    if (i == 0) pending[i] |= 0xC0;
                    if (i >= 16) pending[i] ^= random;
                    break;
                case BluRayGroup::Flaw::scrambled:
                    if (in_packet == 7) pending[i] |= 0xC0;
                    if (in_packet >= 8) pending[i] ^= random;
                    break;
                case BluRayGroup::Flaw::zeros:
                    pending[i] = 0;
                    break;
                default:
                    pending[i] = random;
            }
        }
        WAVECREST_TRY(file->write(pending));
        pending.clear();
        return {};
    }

    Status put_section(int pid, const ByteVector& section) {
        ts::PacketBytes packet;
        ByteVector payload{0};  // the section begins at once
        payload.insert(payload.end(), section.begin(), section.end());
        payload.resize(184, 0xFF);
        ts::write_packet(packet, {pid, true, continuity[pid]++ & 15, {}}, payload);
        return put_packet(packet);
    }

    // Clock and tables when they are due.
    Status keep_time() {
        if (now - last_tables >= kTableInterval || info.packets == 0) {
            last_tables = now;
            WAVECREST_TRY(put_section(ts::kPatPid, ts::write_pat(1, kPmtPid)));
            ts::Program program;
            program.number = 1;
            program.pcr_pid = kPcrPid;
            const auto add = [&](const StreamInfo& s) {
                ts::ProgramStream stream;
                stream.type = s.coding;
                stream.pid = s.pid;
                program.streams.push_back(std::move(stream));
            };
            add(settings.video);
            for (const auto* list : {&settings.audio, &settings.graphics}) {
                for (const StreamInfo& s : *list) add(s);
            }
            const ByteVector descriptors = {0x05, 4, 'H', 'D', 'M', 'V', 0x88, 4, 0x0F, 0xFF, 0xFC, 0xFC};
            WAVECREST_TRY(put_section(kPmtPid, ts::write_pmt(program, descriptors)));
        }
        if (now - last_pcr >= kPcrInterval || last_pcr == 0) {
            last_pcr = now;
            ts::PacketBytes packet;
            ts::write_packet(packet, {kPcrPid, false, 0, now}, {});
            WAVECREST_TRY(put_packet(packet));
        }
        return {};
    }

    Status put_pes(int pid, const ByteVector& header, ByteSpan data) {
        ByteVector all = header;
        all.insert(all.end(), data.begin(), data.end());
        for (std::size_t at = 0; at < all.size();) {
            WAVECREST_TRY(keep_time());
            ts::PacketBytes packet;
            at += ts::write_packet(packet, {pid, at == 0, continuity[pid]++ & 15, {}}, ByteSpan(all).subspan(at));
            WAVECREST_TRY(put_packet(packet));
        }
        return {};
    }

    Status put_graphics(const BluRayGroup::Unit& unit) {
        const int pid = settings.graphics[static_cast<std::size_t>(unit.stream)].pid;
        // One segment in each PES packet.
        for (std::size_t at = 0; at + 3 <= unit.data.size();) {
            const std::size_t size = 3 + (std::size_t{unit.data[at + 1]} << 8 | unit.data[at + 2]);
            const ByteSpan segment = ByteSpan(unit.data).subspan(at, std::min(size, unit.data.size() - at));
            WAVECREST_TRY(put_pes(pid, ts::write_pes(0xBD, timestamp(unit.at), {}, segment.size()), segment));
            at += size;
        }
        return {};
    }

    Status put_units(Time until);
    Status add_group(const BluRayGroup& group);
};

// Audio and graphics that come before a time.
Status BluRayWriter::State::put_units(Time until) {
    while (!waiting.empty() && waiting.front().unit.at <= until) {
        const Waiting next = std::move(waiting.front());
        waiting.pop_front();
        WAVECREST_TRY(keep_time());
        if (next.graphics) {
            WAVECREST_TRY(put_graphics(next.unit));
            continue;
        }
        const StreamInfo& stream = settings.audio[static_cast<std::size_t>(next.unit.stream)];
        const bool lpcm = bitstream::codec_of_stream_type(stream.coding) == Codec::lpcm;
        const auto header = lpcm ? ts::write_pes(0xBD, timestamp(next.unit.at), {}, next.unit.data.size())
                                 : ts::write_pes(0xFD, timestamp(next.unit.at), {}, next.unit.data.size(),
                                                 next.unit.extension != 0 ? next.unit.extension : 0x71);
        WAVECREST_TRY(put_pes(stream.pid, header, next.unit.data));
    }
    return {};
}

Status BluRayWriter::State::add_group(const BluRayGroup& group) {
    flaw = group.flaw;
    for (const auto& unit : group.audio) waiting.push_back({unit, false});
    for (const auto& unit : group.graphics) waiting.push_back({unit, true});
    std::stable_sort(waiting.begin(), waiting.end(),
                     [](const Waiting& a, const Waiting& b) { return a.unit.at < b.unit.at; });
    for (const BluRayPicture& picture : group.pictures) {
        now = std::max(now, timestamp(picture.dts) * 300 - kLead);
        WAVECREST_TRY(put_units(picture.dts - kAudioLag));
        WAVECREST_TRY(keep_time());
        if (picture.key) info.entries.push_back({static_cast<std::uint32_t>(timestamp(picture.pts) / 2), info.packets});
        WAVECREST_TRY(put_pes(settings.video.pid,
                              ts::write_pes(0xE0, timestamp(picture.pts), timestamp(picture.dts), 0), picture.data));
    }
    return {};
}

BluRayWriter::BluRayWriter(std::unique_ptr<State> state) : state_(std::move(state)) {}
BluRayWriter::BluRayWriter(BluRayWriter&&) noexcept = default;
BluRayWriter::~BluRayWriter() = default;

Result<BluRayWriter> BluRayWriter::create(const base::Path& target) {
    WAVECREST_TRY_ASSIGN(folder, base::AtomicFolder::create(target));
    return BluRayWriter(std::make_unique<State>(std::move(folder)));
}

Status BluRayWriter::begin_clip(const BluRayClipSettings& settings) {
    State& s = *state_;
    s.settings = settings;
    s.info = {};
    s.continuity.clear();
    s.pending.clear();
    s.waiting.clear();
    s.now = kClipStart * 300 - kLead;
    s.last_pcr = s.last_tables = 0;
    WAVECREST_TRY_ASSIGN(file, AtomicFile::create(s.folder.path() / "BDMV/STREAM" / (settings.name + ".m2ts"),
                                                  AtomicFile::IfExists::refuse));
    s.file.emplace(std::move(file));
    return {};
}

Status BluRayWriter::add_group(const BluRayGroup& group) {
    return state_->add_group(group);
}

Result<BluRayClipTimes> BluRayWriter::end_clip(Time length) {
    State& s = *state_;
    WAVECREST_TRY(s.put_units(Time::max()));
    s.flaw = BluRayGroup::Flaw::none;
    // Null packets fill the last aligned unit.
    while (!s.pending.empty()) {
        ts::PacketBytes packet;
        ts::write_packet(packet, {ts::kNullPid, false, 0, {}}, ByteVector(184, 0xFF));
        WAVECREST_TRY(s.put_packet(packet));
    }
    WAVECREST_TRY(s.file->commit());
    s.file.reset();
    BluRayClipTimes times;
    times.in_time = static_cast<std::uint32_t>(kClipStart / 2);
    times.out_time = times.in_time + static_cast<std::uint32_t>(base::to_ticks(length, kClock));
    s.info.start_time = times.in_time;
    s.info.end_time = times.out_time;
    s.info.streams.push_back(s.settings.video);
    for (const auto* list : {&s.settings.audio, &s.settings.graphics})
        s.info.streams.insert(s.info.streams.end(), list->begin(), list->end());
    const ByteVector bytes = write_clip_info(s.info, kPmtPid, kPcrPid, kMuxRate / 8);
    for (const char* place : {"BDMV/CLIPINF", "BDMV/BACKUP/CLIPINF"}) {
        WAVECREST_TRY(base::write_file(s.folder.path() / place / (s.settings.name + ".clpi"), bytes,
                                       AtomicFile::IfExists::refuse));
    }
    return times;
}

Status BluRayWriter::add_playlist(const std::string& name, const Playlist& playlist) {
    const ByteVector bytes = write_playlist(playlist);
    for (const char* place : {"BDMV/PLAYLIST", "BDMV/BACKUP/PLAYLIST"}) {
        WAVECREST_TRY(
            base::write_file(state_->folder.path() / place / (name + ".mpls"), bytes, AtomicFile::IfExists::refuse));
    }
    return {};
}

Status BluRayWriter::finish() {
    return state_->folder.commit();
}

}  // namespace wavecrest::disc
