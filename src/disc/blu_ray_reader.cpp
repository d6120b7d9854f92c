#include "disc/blu_ray_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <map>
#include <set>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/lpcm.hpp"
#include "bitstream/mpeg2.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/stream_type.hpp"
#include "container/mpeg_ts.hpp"
#include "disc/blu_ray_tables.hpp"
#include "disc/title_assembler.hpp"

namespace wavecrest::disc {
namespace {

using namespace blu_ray;
namespace ts = container::ts;
namespace mpeg2 = bitstream::mpeg2;

constexpr std::size_t kUnit = 6144;  // aligned unit: 32 source packets
constexpr int kProtectionSamples = 48;
constexpr std::uint64_t kMaxTable = 16 << 20;
constexpr std::size_t kMostPlaylists = 2000, kMostClips = 2000;
constexpr std::size_t kProbeBytes = 3 << 20;
constexpr std::uint8_t kTrueHdCore = 0x76;  // stream_id_extension of the AC-3 core beside TrueHD

Time from_45k(std::int64_t ticks) {
    return base::from_ticks(ticks, kClock);
}

// A duration put back on the grid of pictures it was rounded from, when it is one.
Time snap_to_pictures(std::int64_t ticks, Ratio rate) {
    if (rate.num == 0) return from_45k(ticks);
    const std::int64_t pictures = base::rescale(ticks, rate.num, kClock * rate.den);
    const Time snapped = base::frames_to_time(pictures, rate);
    return std::chrono::abs(snapped - from_45k(ticks)) <= 2 * from_45k(1) ? snapped : from_45k(ticks);
}

Error protected_error(const std::string& what, const std::string& file, std::uint64_t offset) {
    return {
        ErrorKind::input, "this title is copy-protected: " + what, fmt::format("{}, byte {}", file, offset),
        "copy-protected material can't be converted, and trying again won't change that; use an unprotected source"};
}

// Looks at one aligned unit. An encrypted one is marked in its packets' headers, and from its 17th byte on nothing is
// where it belongs; marks alone are left over by what made the rip.
Status check_unit(ByteSpan unit, const std::string& file, std::uint64_t offset,
                  std::map<int, ts::SectionCollector>& tables, std::set<int>& pmt_pids, int& encrypted) {
    // The first 16 bytes are clear, and carry the mark; rubbish may look so once.
    const bool marked = (unit[0] & 0xC0) != 0 && unit[4] == ts::kSync;
    int out_of_step = 0;
    for (std::size_t at = 0; at + ts::kTimedPacket <= unit.size(); at += ts::kTimedPacket) {
        const auto packet = ts::parse_packet(unit.subspan(at + 4, ts::kPacket));
        if (!packet) {
            ++out_of_step;
            continue;
        }
        if (packet->scrambled && packet->pid != ts::kNullPid)
            return fail(protected_error("scrambled transport packets", file, offset + at));
        const bool table = packet->pid == ts::kPatPid || pmt_pids.contains(packet->pid);
        if (!table) continue;
        const auto section = tables[packet->pid].push(*packet);
        if (!section) continue;
        if (packet->pid == ts::kPatPid) {
            for (const auto& [number, pid] : ts::parse_pat(*section)) pmt_pids.insert(pid);
        } else if (const auto program = ts::parse_pmt(*section); program && program->copy_control != 0) {
            constexpr const char* kMeanings[] = {"", "no more copies", "one generation of copies", "no copies"};
            return fail(protected_error(fmt::format("its program table allows {}", kMeanings[program->copy_control]),
                                        file, offset + at));
        }
    }
    if (marked && out_of_step >= 16 && ++encrypted > 1) return fail(protected_error("encrypted units", file, offset));
    return {};
}

struct Clip {
    ClipInfo info;
    std::uint64_t size = 0;  // of the file
    bool has_info = false;
};

// What a clip's streams say at one place.
struct Probe {
    std::optional<mpeg2::Sequence> mpeg2;
    int frames = 0, repeated = 0, progressive = 0;
    bool captions = false;
    std::optional<Track> picture;  // of codecs other than MPEG-2: what its headers tell
    std::map<int, bitstream::AudioHeader> audio;
    std::map<int, bitstream::BluRayLpcmHeader> lpcm;
    std::vector<ts::ProgramStream> streams;  // of the program table
    std::optional<std::int64_t> first_pts;   // of video, 90 kHz
};

class TitleSource : public PacketSource {
  public:
    struct ClipFile {
        std::shared_ptr<base::ByteSource> file;
        ClipInfo info;
    };
    TitleSource(BluRayTitle title, std::vector<ClipFile> clips)
        : title_(std::move(title)), clips_(std::move(clips)), assembler_(title_.tracks) {
        for (std::size_t i = 0; i < title_.tracks.size(); ++i) {
            pids_[static_cast<std::size_t>(title_.tracks[i].id)].track = &title_.tracks[i];
        }
        start_item(0);
    }

    const std::vector<Track>& tracks() const override { return title_.tracks; }
    const std::vector<Chapter>& chapters() const override { return title_.chapters; }
    Time duration() const override { return title_.duration; }
    const std::vector<Problem>& problems() const override { return assembler_.problems(); }

    Result<std::optional<Packet>> read() override {
        while (true) {
            while (auto packet = assembler_.take()) {
                if (!described_) take_description();
                if (wanted(*packet)) return packet;
            }
            if (finished_) return std::optional<Packet>{};
            WAVECREST_TRY(read_more());
        }
    }

    Status seek(Time time) override {
        std::size_t index = 0;
        while (index + 1 < title_.items.size() && title_.items[index + 1].start <= time) ++index;
        finished_ = false;
        assembler_.restart(time);
        const BluRayItem& item = title_.items[index];
        start_item(index);
        const auto target =
            item.in_time + static_cast<std::uint32_t>(base::to_ticks(std::max(time - item.start, Time{}), kClock));
        offset_ = entry_before(clips_[index], target);
        return {};
    }

  private:
    // The packet where a picture begins that can be decoded alone, at or before a time of the clip.
    static std::uint64_t entry_before(const ClipFile& clip, std::uint32_t time) {
        // Times in the map are rounded down to 256 ticks: an entry that may be later does not count.
        const auto after =
            std::upper_bound(clip.info.entries.begin(), clip.info.entries.end(), time,
                             [](std::uint32_t t, const ClipInfo::Entry& e) { return t < std::uint64_t{e.time} + 255; });
        // From the first picture on means from the beginning: tables and audio may lie before it.
        if (after == clip.info.entries.begin() || std::prev(after) == clip.info.entries.begin()) return 0;
        return std::uint64_t{std::prev(after)->packet} * ts::kTimedPacket;
    }

    // The stream's own headers give what players need beside the pictures.
    void take_description() {
        const Track* told = assembler_.video_description();
        if (told == nullptr) return;
        described_ = true;
        for (Track& track : title_.tracks) {
            if (track.id != told->id) continue;
            track.codec_config = told->codec_config;
            track.profile = told->profile;
            track.level = told->level;
            track.reference_frames = told->reference_frames;
            track.reorder_frames = told->reorder_frames;
            track.bit_depth = told->bit_depth;
            if (track.frame_rate.num == 0) track.frame_rate = told->frame_rate;
            if (track.scan == Scan::unknown) track.scan = told->scan;
            if (track.colour.matrix == 2) track.colour = told->colour;
            track.mastering_display = told->mastering_display;
            track.content_light = told->content_light;
        }
    }

    void start_item(std::size_t index) {
        item_ = index;
        const BluRayItem& item = title_.items[index];
        offset_ = entry_before(clips_[index], item.in_time);
        for (PidState& pid : pids_) pid.continuity = -1;
        pictures_.clear();
        assembler_.start_clock(std::int64_t{item.in_time} * 2, item.start);
        past_end_ = 0;
    }
    const BluRayItem& item() const { return title_.items[item_]; }

    // Clips hold more than is played: what comes before the in-time and behind the out-time is not the title's.
    bool wanted(const Packet& packet) const {
        const TrackKind kind = pids_[static_cast<std::size_t>(packet.track)].track->kind;
        // Which item it belongs to can be told by its time alone: items follow one another without a gap.
        if (kind == TrackKind::video) {
            const Time half = packet.duration / 2;
            return packet.pts + half >= first_wanted_ && packet.pts + half < last_wanted_;
        }
        if (kind == TrackKind::subtitle) return packet.pts >= first_wanted_ && packet.pts < last_wanted_;
        return packet.pts + packet.duration > first_wanted_ && packet.pts < last_wanted_;
    }

    Status read_more() {
        ClipFile& clip = clips_[item_];
        first_wanted_ = item().start;
        last_wanted_ = item().start + item().duration;
        buffer_.resize(16 * kUnit);
        auto got = clip.file->read_at(offset_, buffer_);
        if (!got) {
            read_singly(clip);
            return status_;
        }
        if (*got < ts::kTimedPacket) {
            pass_on_pictures();
            assembler_.finish();  // pictures are told by whole groups: what is held back counts as reached
            const Time reached = assembler_.video_end();
            if (reached + std::chrono::milliseconds(500) < last_wanted_) {
                assembler_.report(fmt::format("clip {} ends before the title does", item().clips.front()), reached,
                                  last_wanted_);
            }
            leave_item();
            return {};
        }
        take_packets(ByteSpan(buffer_).first(*got));
        return status_;
    }

    // An interval that can't be read as a whole: unit by unit, and past a bad interval to the next entry point.
    void read_singly(ClipFile& clip) {
        const std::uint64_t end = offset_ + buffer_.size();
        int failed = 0;
        while (offset_ < end && offset_ < clip.file->size()) {
            const auto unit = std::span(buffer_).first(kUnit);
            const auto got = clip.file->read_at(offset_, unit);
            if (got && *got >= ts::kTimedPacket) {
                failed = 0;
                take_packets(ByteSpan(unit).first(*got));
                return;
            }
            lose();
            offset_ += kUnit;
            if (++failed < 4) continue;
            const auto packet = static_cast<std::uint32_t>(offset_ / ts::kTimedPacket);
            const auto next = std::upper_bound(clip.info.entries.begin(), clip.info.entries.end(), packet,
                                               [](std::uint32_t p, const ClipInfo::Entry& e) { return p < e.packet; });
            offset_ =
                next != clip.info.entries.end() ? std::uint64_t{next->packet} * ts::kTimedPacket : offset_ + 64 * kUnit;
            return;
        }
    }

    void lose() {
        if (!lost_since_) {
            pass_on_pictures();
            lost_since_ = assembler_.video_end();
            assembler_.lost();
        }
    }

    void take_packets(ByteSpan bytes) {
        std::size_t at = 0;
        while (at + ts::kTimedPacket <= bytes.size()) {
            const auto packet = ts::parse_packet(bytes.subspan(at + 4, ts::kPacket));
            if (!packet) {
                // Out of step: a damaged unit, or packets are missing. The next place where two sync bytes stand right.
                lose();
                std::size_t next = at + 1;
                while (next + 4 < bytes.size() &&
                       !(bytes[next + 4] == ts::kSync && (next + 4 + ts::kTimedPacket >= bytes.size() ||
                                                          bytes[next + 4 + ts::kTimedPacket] == ts::kSync)))
                    ++next;
                at = next;
                continue;
            }
            take_packet(*packet, offset_ + at);
            at += ts::kTimedPacket;
            if (!status_) return;
            if (past_end_ > 1) {
                leave_item();
                return;
            }
        }
        offset_ += std::max<std::size_t>(std::min(at, bytes.size()), 1);
    }

    void take_packet(const ts::TransportPacket& packet, std::uint64_t offset) {
        // All that belongs before a time has come when the clock has reached it: said twice, and within reason, since
        // rubbish may look like a clock.
        if (packet.pcr_27mhz) {
            const std::int64_t beyond = *packet.pcr_27mhz / 300 - std::int64_t{item().out_time} * 2;
            past_end_ = beyond >= kClock / 5 && beyond < 60 * 2 * kClock ? past_end_ + 1 : 0;
        }
        PidState& pid = pids_[static_cast<std::size_t>(packet.pid)];
        if (pid.track == nullptr || packet.payload.empty()) return;
        if (packet.scrambled) {
            status_ = fail(protected_error("scrambled transport packets", clips_[item_].file->name(), offset));
            return;
        }
        if (packet.continuity == pid.continuity) return;  // sent twice (2.4.3.3)
        if (pid.continuity >= 0 && packet.continuity != ((pid.continuity + 1) & 15) && !packet.discontinuity) {
            pass_on_pictures();
            assembler_.lost(packet.pid);
        }
        pid.continuity = packet.continuity;
        if (lost_since_) {
            assembler_.report("damaged packets skipped", *lost_since_, std::max(*lost_since_, assembler_.video_end()));
            lost_since_.reset();
        }
        ByteSpan payload = packet.payload;
        std::optional<std::int64_t> pts, dts;
        bool starts = false;
        if (packet.starts) {
            const auto pes = ts::parse_pes(payload);
            if (!pes) {
                assembler_.lost(packet.pid);
                return;
            }
            starts = true;
            payload = pes->payload;
            pts = pes->pts;
            dts = pes->dts;
            pid.extension = pes->stream_id_extension;
        }
        switch (pid.track->kind) {
            case TrackKind::video:
                // Packets are small: what belongs together is passed on in larger pieces.
                if (starts || packet.pid != pictures_pid_) {
                    pass_on_pictures();
                    pictures_pid_ = packet.pid;
                    pts_ = pts;
                    dts_ = dts;
                }
                pictures_.insert(pictures_.end(), payload.begin(), payload.end());
                break;
            case TrackKind::subtitle:
                assembler_.push(packet.pid, payload, pts);
                break;
            case TrackKind::audio:
                if (pid.track->codec != Codec::truehd || pid.extension == kTrueHdCore)
                    assembler_.push(packet.pid, payload, pts);
                break;
        }
    }

    void pass_on_pictures() {
        if (pictures_.empty()) return;
        assembler_.push(pictures_pid_, pictures_, pts_, dts_);
        pts_.reset();
        dts_.reset();
        pictures_.clear();
    }

    // The item is through. Its packets must be given out by its own limits, so they are taken out here.
    void leave_item() {
        pass_on_pictures();
        assembler_.finish();
        std::vector<Packet> rest;
        while (auto packet = assembler_.take()) {
            if (wanted(*packet)) rest.push_back(std::move(*packet));
        }
        if (item_ + 1 == title_.items.size()) {
            finished_ = true;
        } else {
            start_item(item_ + 1);
        }
        first_wanted_ = Time::min();
        last_wanted_ = Time::max();
        for (Packet& packet : rest) assembler_.give_back(std::move(packet));
    }

    bool described_ = false;
    BluRayTitle title_;
    std::vector<ClipFile> clips_;  // of each item
    struct PidState {
        const Track* track = nullptr;  // nothing for those that are not read
        int continuity = -1;
        std::uint8_t extension = 0;
    };
    std::vector<PidState> pids_{ts::kPids};  // ids of tracks are PIDs, which the tables limit
    TitleAssembler assembler_;
    std::size_t item_ = 0;
    std::uint64_t offset_ = 0;
    int past_end_ = 0;
    bool finished_ = false;
    Time first_wanted_ = Time::min(), last_wanted_ = Time::max();
    ByteVector pictures_;  // video not yet passed on, with its PID and timestamps
    TrackId pictures_pid_ = -1;
    std::optional<std::int64_t> pts_, dts_;
    std::optional<Time> lost_since_;
    Status status_;
    ByteVector buffer_;
};

}  // namespace

struct BluRayDisc::State {
    std::shared_ptr<DiscFiles> files;
    std::string folder;  // "BDMV" or ""
    std::vector<BluRayTitle> titles;
    std::vector<std::string> notes;
    std::map<std::string, Clip> clips;
    std::map<std::string, std::uint64_t> sizes;  // of the files in STREAM, by clip
    std::map<std::string, Probe> probes;

    std::string in_folder(const std::string& name) const { return folder.empty() ? name : folder + "/" + name; }
    Result<ByteVector> load(const std::string& name) const {
        WAVECREST_TRY_ASSIGN(file, files->open(in_folder(name)));
        if (file->size() == 0) return fail(ErrorKind::input, "the file is empty", file->name(), "rip the disc again");
        if (file->size() > kMaxTable)
            return fail(ErrorKind::input, "the file is too large for a table file", file->name(), "check the rip");
        return base::read_exactly(*file, 0, static_cast<std::size_t>(file->size()));
    }
    // A table file, or its copy under BACKUP when it can't be used.
    template <typename Parse>
    auto load_table(const std::string& name, Parse parse) -> decltype(parse(ByteSpan{}, std::string{})) {
        const auto one = [&](const std::string& path) -> decltype(parse(ByteSpan{}, std::string{})) {
            WAVECREST_TRY_ASSIGN(bytes, load(path));
            return parse(bytes, files->path() + "/" + in_folder(path));
        };
        auto result = one(name);
        if (result) return result;
        auto copy = one("BACKUP/" + name);
        if (!copy) return result;
        notes.push_back(fmt::format("backup read from BACKUP; {} unreadable ({})", name, result.error().what));
        return copy;
    }

    const Clip& clip(const std::string& name);
    const Probe& probe(const std::string& name);
    Status read_disc();
    void read_title(const std::string& name, const Playlist& playlist);
    void read_details(BluRayTitle& title);
};

const Clip& BluRayDisc::State::clip(const std::string& name) {
    const auto [it, fresh] = clips.try_emplace(name);
    Clip& c = it->second;
    if (!fresh || clips.size() > kMostClips) return c;
    if (const auto size = sizes.find(name); size != sizes.end()) c.size = size->second;
    auto info = load_table(fmt::format("CLIPINF/{}.clpi", name),
                           [](ByteSpan bytes, const std::string& n) { return parse_clip_info(bytes, n); });
    if (info) {
        c.info = std::move(*info);
        c.has_info = true;
    } else {
        notes.push_back(
            fmt::format("clip information {} unreadable ({}): seeking in it is slow", name, info.error().what));
    }
    return c;
}

const Probe& BluRayDisc::State::probe(const std::string& name) {
    const auto [it, fresh] = probes.try_emplace(name);
    Probe& p = it->second;
    if (!fresh) return p;
    auto file = files->open(in_folder(fmt::format("STREAM/{}.m2ts", name)));
    if (!file) return p;
    ByteVector bytes(static_cast<std::size_t>(std::min<std::uint64_t>(kProbeBytes, (*file)->size())));
    const auto got = (*file)->read_at(0, bytes);
    if (!got) return p;
    mpeg2::AccessUnitSplitter splitter;
    std::vector<mpeg2::AccessUnit> units;
    std::map<int, ts::SectionCollector> tables;
    std::set<int> pmt_pids;
    std::map<int, ByteVector> begun;  // the first PES packets of each PID
    for (std::size_t at = 0; at + ts::kTimedPacket <= *got; at += ts::kTimedPacket) {
        const auto packet = ts::parse_packet(ByteSpan(bytes).subspan(at + 4, ts::kPacket));
        if (!packet || packet->scrambled) continue;
        if (packet->pid == ts::kPatPid || pmt_pids.contains(packet->pid)) {
            const auto section = tables[packet->pid].push(*packet);
            if (!section) continue;
            if (packet->pid == ts::kPatPid) {
                for (const auto& [number, pid] : ts::parse_pat(*section)) pmt_pids.insert(pid);
            } else if (const auto program = ts::parse_pmt(*section)) {
                if (p.streams.empty()) p.streams = program->streams;
            }
            continue;
        }
        ByteSpan payload = packet->payload;
        if (packet->starts) {
            const auto pes = ts::parse_pes(payload);
            if (!pes) continue;
            payload = pes->payload;
            if (!p.first_pts && pes->stream_id >= 0xE0 && pes->stream_id <= 0xEF) p.first_pts = pes->pts;
        } else if (!begun.contains(packet->pid)) {
            continue;
        }
        const auto type = std::find_if(p.streams.begin(), p.streams.end(),
                                       [&](const ts::ProgramStream& s) { return s.pid == packet->pid; });
        ByteVector& held = begun[packet->pid];
        if (held.size() < 16384) held.insert(held.end(), payload.begin(), payload.end());
        if (type != p.streams.end() && (type->type == 0x02 || type->type == 0x01))
            splitter.push(payload, {}, {}, 0, units);
    }
    for (const ts::ProgramStream& stream : p.streams) {
        const ByteSpan data(begun[stream.pid]);
        const Codec codec = bitstream::codec_of_stream_type(stream.type);
        if (codec == Codec::lpcm) {
            if (const auto header = bitstream::parse_blu_ray_lpcm_header(data)) p.lpcm[stream.pid] = *header;
        } else if ((codec == Codec::h264 || codec == Codec::h265 || codec == Codec::vc1) && !p.picture) {
            Track told;
            told.kind = TrackKind::video;
            told.codec = codec;
            told.frame_rate = {0, 1};
            if (codec == Codec::vc1) {
                bitstream::describe_headers(told, data);
            } else {
                ByteVector lengths;
                for (const ByteSpan unit : bitstream::nal::split_byte_stream(data))
                    bitstream::nal::append(lengths, unit);
                bitstream::describe_headers(told, lengths);
            }
            if (!told.profile.empty()) p.picture = std::move(told);
        } else if (codec == Codec::ac3 || codec == Codec::eac3 || codec == Codec::dts || codec == Codec::truehd) {
            const Codec framing = codec == Codec::truehd ? Codec::ac3 : codec;
            for (std::size_t at = 0; at + bitstream::kAudioHeaderBytes <= data.size(); ++at) {
                const auto header = bitstream::parse_audio_header(framing, data.subspan(at));
                if (!header || header->dependent) continue;
                p.audio[stream.pid] = *header;
                break;
            }
        }
    }
    p.mpeg2 = splitter.sequence();
    for (const mpeg2::AccessUnit& unit : units) {
        ++p.frames;
        p.repeated += unit.picture.repeat_first_field ? 1 : 0;
        p.progressive += unit.picture.progressive_frame || (p.mpeg2 && p.mpeg2->progressive) ? 1 : 0;
        p.captions = p.captions || mpeg2::has_closed_captions(unit.data);
    }
    return p;
}

Status BluRayDisc::State::read_disc() {
    if (const auto streams = files->list(in_folder("STREAM"))) {
        for (const auto& entry : *streams) {
            if (entry.name.size() == 10 && same_name(entry.name.substr(5), ".m2ts"))
                sizes[entry.name.substr(0, 5)] = entry.size;
        }
    }
    std::optional<Error> first_error;
    std::vector<std::string> names;
    for (const char* place : {"PLAYLIST", "BACKUP/PLAYLIST"}) {
        const auto list = files->list(in_folder(place));
        if (!list) continue;
        for (const auto& entry : *list) {
            if (entry.name.size() == 10 && same_name(entry.name.substr(5), ".mpls"))
                names.push_back(entry.name.substr(0, 5));
        }
    }
    std::sort(names.begin(), names.end());
    names.erase(std::unique(names.begin(), names.end()), names.end());
    if (names.size() > kMostPlaylists) {
        notes.push_back(fmt::format("of {} playlists the first {} were read", names.size(), kMostPlaylists));
        names.resize(kMostPlaylists);
    }
    for (const std::string& name : names) {
        auto playlist = load_table(fmt::format("PLAYLIST/{}.mpls", name),
                                   [](ByteSpan bytes, const std::string& n) { return parse_playlist(bytes, n); });
        if (!playlist) {
            if (!first_error) first_error = playlist.error();
            notes.push_back(fmt::format("playlist {} can't be read: {}", name, playlist.error().what));
            continue;
        }
        read_title(name, *playlist);
    }
    if (titles.empty()) {
        // Without playlists every clip is a title; without its information, too, by what its stream says.
        for (const auto& [name, size] : sizes) {
            const Clip& c = clip(name);
            Playlist playlist;
            Playlist::Item item;
            item.clips.push_back(name);
            item.in_time = c.info.start_time;
            item.out_time = c.info.end_time;
            std::vector<StreamInfo> streams = c.info.streams;
            if (!c.has_info) {
                const Probe& p = probe(name);
                if (p.streams.empty()) continue;
                for (const auto& s : p.streams) streams.push_back({s.pid, s.type, 0, 0, s.language});
                // The last timestamps of the file give the length.
                const auto start = static_cast<std::uint32_t>(p.first_pts.value_or(0) / 2);
                item.in_time = item.out_time = start;
                if (auto file = files->open(in_folder(fmt::format("STREAM/{}.m2ts", name)))) {
                    const std::uint64_t from = (*file)->size() > kProbeBytes ? ((*file)->size() - kProbeBytes) /
                                                                                   ts::kTimedPacket * ts::kTimedPacket
                                                                             : 0;
                    ByteVector bytes(static_cast<std::size_t>(std::min<std::uint64_t>(kProbeBytes, (*file)->size())));
                    const auto got = (*file)->read_at(from, bytes);
                    for (std::size_t at = 0; got && at + ts::kTimedPacket <= *got; at += ts::kTimedPacket) {
                        const auto packet = ts::parse_packet(ByteSpan(bytes).subspan(at + 4, ts::kPacket));
                        if (!packet || !packet->starts) continue;
                        const auto pes = ts::parse_pes(packet->payload);
                        if (pes && pes->pts && pes->stream_id >= 0xE0 && pes->stream_id <= 0xEF)
                            item.out_time = std::max(item.out_time, static_cast<std::uint32_t>(*pes->pts / 2) + 1877);
                    }
                }
            }
            for (const StreamInfo& s : streams) {
                const Track track = describe(s);
                if (track.codec == Codec::unknown) continue;
                (track.kind == TrackKind::video   ? item.video
                 : track.kind == TrackKind::audio ? item.audio
                                                  : item.graphics)
                    .push_back(s);
            }
            if (item.video.empty() || item.out_time <= item.in_time) continue;
            playlist.items.push_back(std::move(item));
            read_title(name, playlist);
        }
        if (!titles.empty())
            notes.push_back("there is no playlist that can be read; every clip was taken as a title, without chapters");
    }
    if (titles.empty()) {
        if (first_error) return fail(*first_error);
        return fail(ErrorKind::input, "the disc has no playlists and no clips", files->path(), "rip the disc again");
    }
    for (BluRayTitle& title : titles) read_details(title);
    return {};
}

void BluRayDisc::State::read_title(const std::string& name, const Playlist& playlist) {
    BluRayTitle title;
    title.number = static_cast<int>(titles.size()) + 1;
    title.playlist = name;
    const Playlist::Item& first = playlist.items.front();
    for (const auto* list : {&first.video, &first.audio, &first.graphics}) {
        for (const StreamInfo& stream : *list) {
            const Track track = describe(stream);
            const bool known =
                std::any_of(title.tracks.begin(), title.tracks.end(), [&](const Track& t) { return t.id == track.id; });
            if (track.codec != Codec::unknown && !known) title.tracks.push_back(track);
        }
    }
    const Ratio rate = title.tracks.empty() ? Ratio{0, 1} : title.tracks.front().frame_rate;
    for (const Playlist::Item& from : playlist.items) {
        BluRayItem item;
        item.clips = from.clips;
        item.in_time = from.in_time;
        item.out_time = from.out_time;
        const Clip& c = clip(from.clips.front());
        // A playlist may claim more of a clip than there is.
        if (c.has_info && c.info.end_time > from.in_time && from.out_time > c.info.end_time + kClock) {
            title.differences.push_back(fmt::format("the playlist says {} of clip {}, its information {}",
                                                    base::format_clock(from_45k(from.out_time - from.in_time)),
                                                    from.clips.front(),
                                                    base::format_clock(from_45k(c.info.end_time - from.in_time))));
            item.out_time = c.info.end_time;
        }
        item.start = title.duration;
        item.duration = snap_to_pictures(std::int64_t{item.out_time} - item.in_time, rate);
        title.duration += item.duration;
        title.angles = std::max(title.angles, static_cast<int>(from.clips.size()));
        const auto packet_at = [&](std::uint32_t time, std::uint64_t beyond) {
            const auto& entries = c.info.entries;
            const auto after =
                std::lower_bound(entries.begin(), entries.end(), time,
                                 [](const ClipInfo::Entry& e, std::uint32_t t) { return e.time + 256 < t; });
            return after != entries.end() ? std::uint64_t{after->packet} : beyond;
        };
        const std::uint64_t all = c.info.packets > 0 ? c.info.packets : c.size / ts::kTimedPacket;
        const std::uint64_t begin = packet_at(from.in_time, 0), end = packet_at(from.out_time, all);
        item.bytes = (end > begin ? end - begin : all) * ts::kTimedPacket;
        title.size_bytes += item.bytes;
        if (!sizes.contains(from.clips.front())) {
            title.problems.push_back(
                {fmt::format("clip {} is missing", from.clips.front()), item.start, title.duration});
        } else if (c.size < std::uint64_t{c.info.packets} * ts::kTimedPacket) {
            title.problems.push_back(
                {fmt::format("clip {} is truncated: {} of {}", from.clips.front(), base::format_bytes(c.size),
                             base::format_bytes(std::uint64_t{c.info.packets} * ts::kTimedPacket)),
                 item.start, title.duration});
        }
        title.items.push_back(std::move(item));
    }
    for (const Playlist::Mark& mark : playlist.chapters) {
        const BluRayItem& item = title.items[static_cast<std::size_t>(mark.item)];
        const std::int64_t inside = std::clamp<std::int64_t>(mark.time, item.in_time, item.out_time) - item.in_time;
        title.chapters.push_back({item.start + from_45k(inside), fmt::format("Chapter {}", title.chapters.size() + 1)});
    }
    std::stable_sort(title.chapters.begin(), title.chapters.end(),
                     [](const Chapter& a, const Chapter& b) { return a.start < b.start; });
    for (Track& track : title.tracks) {
        track.duration = title.duration;
        if (track.kind == TrackKind::subtitle && !title.tracks.empty()) {
            track.width = title.tracks.front().width;
            track.height = title.tracks.front().height;
        }
    }
    if (!title.tracks.empty() && title.duration.count() > 0) titles.push_back(std::move(title));
}

// What the tables don't say, or say wrongly, is read from the streams of the title's longest clip.
void BluRayDisc::State::read_details(BluRayTitle& title) {
    const auto longest = std::max_element(title.items.begin(), title.items.end(),
                                          [](const auto& a, const auto& b) { return a.duration < b.duration; });
    const Probe& p = probe(longest->clips.front());
    for (Track& track : title.tracks) {
        if (const auto audio = p.audio.find(track.id); audio != p.audio.end()) {
            const bool lossless = track.codec == Codec::truehd || !track.profile.empty();
            track.channels = audio->second.channels;
            track.speakers = audio->second.speakers;
            track.sample_rate = audio->second.sample_rate;
            if (!lossless) track.bitrate_bps = audio->second.bitrate_bps;
            track.purpose = audio->second.purpose;
        }
        if (const auto lpcm = p.lpcm.find(track.id); lpcm != p.lpcm.end()) {
            track.channels = lpcm->second.channels;
            track.speakers = lpcm->second.speakers;
            track.sample_rate = lpcm->second.sample_rate;
            track.bit_depth = lpcm->second.bits;
            track.bitrate_bps = std::int64_t{track.sample_rate} * track.channels * track.bit_depth;
        }
        if (track.kind != TrackKind::video) continue;
        const auto differ = [&](int width, int height) {
            if (track.height > 0 && (width != track.width || height != track.height))
                title.differences.push_back(
                    fmt::format("declared as {}x{}, the video is {}x{}", track.width, track.height, width, height));
        };
        if (p.mpeg2 && p.frames > 0) {
            const mpeg2::Sequence& sequence = *p.mpeg2;
            track.profile = sequence.profile_name();
            track.level = sequence.level_name();
            differ(sequence.width, sequence.height);
            track.width = sequence.width;
            track.height = sequence.height;
            track.pixel_aspect = sequence.pixel_aspect();
            track.frame_rate = sequence.frame_rate;
            track.colour = sequence.colour;
            track.closed_captions = p.captions;
            track.scan = p.progressive * 10 < p.frames * 9                                  ? Scan::interlaced
                         : p.repeated * 10 > p.frames * 4 && p.repeated * 10 < p.frames * 6 ? Scan::pulldown
                                                                                            : Scan::progressive;
            if (track.scan == Scan::pulldown)
                track.frame_rate = base::reduced({track.frame_rate.num * 4, track.frame_rate.den * 5});
        } else if (p.picture) {
            const Track& told = *p.picture;
            differ(told.width, told.height);
            track.profile = told.profile;
            track.level = told.level;
            track.width = told.width;
            track.height = told.height;
            track.bit_depth = told.bit_depth;
            track.pixel_aspect = told.pixel_aspect;
            track.colour = told.colour;
            track.mastering_display = told.mastering_display;
            track.content_light = told.content_light;
            track.closed_captions = told.closed_captions;
            track.frame_packing = told.frame_packing;
            track.layers = told.layers;
            track.codec_config = told.codec_config;
            track.reference_frames = told.reference_frames;
            track.reorder_frames = told.reorder_frames;
            if (told.frame_rate.num > 0) track.frame_rate = told.frame_rate;
            if (told.scan != Scan::unknown) track.scan = told.scan;
        }
    }
}

bool BluRayDisc::is_blu_ray(const DiscFiles& files) {
    return find_entry(files, "", "BDMV").folder ||
           (find_entry(files, "", "PLAYLIST").folder && find_entry(files, "", "STREAM").folder);
}

Result<BluRayDisc> BluRayDisc::open(std::shared_ptr<DiscFiles> files) {
    auto state = std::make_shared<State>();
    const auto folder = find_entry(*files, "", "BDMV");
    state->files = std::move(files);
    if (folder.folder) state->folder = folder.name;
    WAVECREST_TRY(state->read_disc());
    return BluRayDisc(std::move(state));
}

BluRayDisc::BluRayDisc(std::shared_ptr<State> state) : state_(std::move(state)) {}
BluRayDisc::BluRayDisc(BluRayDisc&&) noexcept = default;
BluRayDisc::~BluRayDisc() = default;

const std::vector<BluRayTitle>& BluRayDisc::titles() const {
    return state_->titles;
}
const std::vector<std::string>& BluRayDisc::notes() const {
    return state_->notes;
}
std::string BluRayDisc::path() const {
    return state_->files->path();
}
std::string BluRayDisc::label() const {
    return state_->files->label();
}

Result<const BluRayTitle*> BluRayDisc::title(int number) const {
    for (const BluRayTitle& title : titles()) {
        if (title.number == number) return &title;
    }
    return fail(ErrorKind::usage, fmt::format("there is no title {}", number), path(),
                fmt::format("pick a title from 1 to {}, or \"main\"", titles().back().number));
}

Status BluRayDisc::check_protection(const BluRayTitle& title) const {
    std::set<std::string> seen;
    for (const BluRayItem& item : title.items) {
        if (!seen.insert(item.clips.front()).second) continue;
        auto file = state_->files->open(state_->in_folder(fmt::format("STREAM/{}.m2ts", item.clips.front())));
        if (!file) continue;  // missing clips are told as problems
        std::map<int, ts::SectionCollector> tables;
        std::set<int> pmt_pids;
        int encrypted = 0;
        const std::uint64_t units = (*file)->size() / kUnit;
        ByteVector unit(kUnit);
        // The first ones hold the program tables; then samples over the whole clip.
        const auto samples = static_cast<std::uint64_t>(
            std::max<std::size_t>(4, kProtectionSamples / std::max<std::size_t>(1, title.items.size())));
        for (std::uint64_t i = 0; i < samples + 4; ++i) {
            const std::uint64_t at = i < 4 ? i : (i - 4) * units / samples;
            const auto got = (*file)->read_at(at * kUnit, unit);
            if (!got || *got < kUnit) continue;
            WAVECREST_TRY(check_unit(unit, (*file)->name(), at * kUnit, tables, pmt_pids, encrypted));
        }
    }
    return {};
}

Result<std::unique_ptr<PacketSource>> BluRayDisc::open_title(int number, int angle) const {
    WAVECREST_TRY_ASSIGN(found, title(number));
    if (angle < 1 || angle > found->angles) {
        return fail(ErrorKind::usage, fmt::format("title {} has no angle {}", number, angle), path(),
                    fmt::format("pick an angle from 1 to {}", found->angles));
    }
    WAVECREST_TRY(check_protection(*found));
    std::vector<TitleSource::ClipFile> clips;
    bool any = false;
    for (const BluRayItem& item : found->items) {
        const std::string& name =
            item.clips[std::min<std::size_t>(static_cast<std::size_t>(angle - 1), item.clips.size() - 1)];
        auto file = state_->files->open(state_->in_folder(fmt::format("STREAM/{}.m2ts", name)));
        any = any || file.has_value();
        std::shared_ptr<base::ByteSource> source;
        if (file) {
            source = std::move(*file);
        } else {
            source = std::make_shared<base::MemorySource>(ByteVector{}, fmt::format("STREAM/{}.m2ts", name));
        }
        clips.push_back({std::move(source), state_->clip(name).info});
    }
    if (!any)
        return fail(ErrorKind::input, fmt::format("the clips of title {} are missing", number), path(),
                    "rip the disc again");
    return std::unique_ptr<PacketSource>(std::make_unique<TitleSource>(*found, std::move(clips)));
}

Result<std::vector<RatePiece>> BluRayDisc::rate(const BluRayTitle& title) const {
    std::vector<RatePiece> pieces;
    for (const BluRayItem& item : title.items) {
        const Clip& clip = state_->clip(item.clips.front());
        const auto& entries = clip.info.entries;
        for (std::size_t i = 0; i < entries.size(); ++i) {
            if (entries[i].time + 256 < item.in_time || entries[i].time >= item.out_time) continue;
            const bool last = i + 1 == entries.size() || entries[i + 1].time >= item.out_time;
            const Time from = item.start + from_45k(std::int64_t{entries[i].time} - item.in_time);
            const Time to = last ? item.start + item.duration
                                 : item.start + from_45k(std::int64_t{entries[i + 1].time} - item.in_time);
            const std::uint64_t end = i + 1 < entries.size() ? entries[i + 1].packet : clip.info.packets;
            if (to > from && end > entries[i].packet)
                pieces.push_back({std::max(from, item.start), to, (end - entries[i].packet) * ts::kTimedPacket});
        }
    }
    if (pieces.empty()) {
        return fail(ErrorKind::input, "the disc has no entry points of this title", path(),
                    "convert it: the result has an index");
    }
    return pieces;
}

}  // namespace wavecrest::disc
