#include "disc/dvd_title_source.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "base/byte_source.hpp"
#include "bitstream/lpcm.hpp"
#include "container/mpeg_ps.hpp"
#include "disc/dvd_format.hpp"
#include "disc/title_assembler.hpp"

namespace wavecrest::disc {
namespace {

using base::ByteReader;
using namespace dvd;
namespace ps = container::ps;

constexpr std::uint32_t kRun = 64;    // sectors read at once
constexpr std::uint32_t kGiveUp = 4;  // unreadable sectors in a row: on to the next VOBU
constexpr std::uint32_t kLeap = 128;  // sectors passed over when no VOBU is known to follow

class DvdTitleSource : public PacketSource {
  public:
    DvdTitleSource(DvdTitleData data, const DvdTitle& title, int angle)
        : data_(std::move(data)), title_(title), cells_(title.cells_of(angle)), assembler_(title.tracks) {
        Time at{};
        for (const DvdCell& cell : cells_) {
            starts_.push_back(at);
            at += cell.duration;
        }
        start_cell(0);
    }

    const std::vector<Track>& tracks() const override { return title_.tracks; }
    const std::vector<Chapter>& chapters() const override { return title_.chapters; }
    Time duration() const override { return title_.duration; }
    const std::vector<Problem>& problems() const override { return assembler_.problems(); }

    Result<std::optional<Packet>> read() override {
        while (true) {
            if (auto packet = assembler_.take()) return packet;
            if (finished_) return std::optional<Packet>{};
            WAVECREST_TRY(read_more());
        }
    }

    Status seek(Time time) override;

  private:
    void start_cell(std::size_t index) {
        cell_ = index;
        sector_ = cells_[index].first_sector;
        unit_end_.reset();
        next_unit_.reset();
        entered_cell_ = true;
        foreign_ = false;
    }
    const DvdCell& cell() const { return cells_[cell_]; }

    void finish() {
        finished_ = true;
        assembler_.finish();
    }

    std::optional<Navigation> navigation_at(std::uint32_t sector) {
        ByteVector bytes(kSector);
        const auto got = data_.vobs->read_at(std::uint64_t{sector} * kSector, bytes);
        return got && *got == kSector ? parse_navigation(bytes) : std::nullopt;
    }
    bool belongs(const Navigation& n) const {
        return cell().vob == 0 || n.vob == 0 || (n.vob == cell().vob && n.cell == cell().cell);
    }

    // The last sector that can be read in one go from here; nothing when the cell is through.
    std::optional<std::uint32_t> end_of_interval() {
        if (sector_ > cell().last_sector) return std::nullopt;
        if (!cell().interleaved) return cell().last_sector;
        if (unit_end_ && sector_ > *unit_end_) {
            // On to this angle's next unit; it lies ahead, or the cell ends.
            if (!next_unit_ || *next_unit_ <= *unit_end_ || *next_unit_ > cell().last_sector) return std::nullopt;
            sector_ = *next_unit_;
            unit_end_.reset();
        }
        if (!unit_end_) {
            next_unit_.reset();
            const auto n = navigation_at(sector_);
            if (n && n->interleaved) {
                unit_end_ = std::min(sector_ + n->unit_end, cell().last_sector);
                if (n->next_unit) next_unit_ = sector_ + *n->next_unit;
            } else {
                unit_end_ = cell().last_sector;  // by the VOBUs' own names from here
            }
        }
        return unit_end_;
    }

    Status read_more() {
        const auto last = end_of_interval();
        if (!last) {
            if (cell_ + 1 == cells_.size()) {
                finish();
            } else {
                start_cell(cell_ + 1);
            }
            return {};
        }
        const std::uint32_t count = std::min(kRun, *last - sector_ + 1);
        buffer_.resize(std::size_t{count} * kSector);
        const auto got = data_.vobs->read_at(std::uint64_t{sector_} * kSector, buffer_);
        if (!got) {
            read_singly(count);
            return protection_;
        }
        const std::size_t sectors = *got / kSector;
        for (std::size_t i = 0; i < sectors; ++i) {
            take_sector(ByteSpan(buffer_).subspan(i * kSector, kSector), sector_ + static_cast<std::uint32_t>(i));
            if (!protection_) return protection_;
        }
        sector_ += static_cast<std::uint32_t>(sectors);
        if (sectors < count) {
            assembler_.report(fmt::format("{} sectors missing at the end", cells_.back().last_sector - sector_ + 1),
                              assembler_.video_end(), title_.duration);
            finish();
        }
        return {};
    }

    // A run that can't be read as a whole: sector by sector, and past a bad interval to the next VOBU.
    void read_singly(std::uint32_t count) {
        std::uint32_t failed = 0;
        for (std::uint32_t i = 0; i < count; ++i, ++sector_) {
            const auto bytes = std::span(buffer_).first(kSector);
            const auto got = data_.vobs->read_at(std::uint64_t{sector_} * kSector, bytes);
            if (got && *got == kSector) {
                failed = 0;
                take_sector(bytes, sector_);
                continue;
            }
            lose();
            if (++failed < kGiveUp) continue;
            const auto next = std::upper_bound(data_.vobus.begin(), data_.vobus.end(), sector_);
            sector_ = next != data_.vobus.end() ? *next : sector_ + kLeap;
            return;
        }
    }

    void lose() {
        if (!lost_since_) {
            lost_since_ = assembler_.video_end();
            assembler_.lost();
        }
    }

    void take_sector(ByteSpan sector, std::uint32_t number) {
        // Every pack opens with its start code; zeros and rubbish don't.
        if (sector[0] != 0 || sector[1] != 0 || sector[2] != 1 || sector[3] != ps::kPackHeader) {
            lose();
            return;
        }
        if (const auto n = parse_navigation(sector)) {
            foreign_ = cell().interleaved && !belongs(*n);
            if (!foreign_) take_navigation(*n, number);
        } else if (lost_since_ && assembler_.has_clock()) {
            // Good again; what was lost is told when it is known where pictures go on.
            told_until_ = false;
        }
        if (foreign_) return;
        ps::parse_packs(sector, contents_);
        for (const ps::PesPacket& packet : contents_.packets) {
            if (packet.scrambled) {
                protection_ = fail(protected_error(data_.vobs->name(), number));
                return;
            }
            if (packet.stream_id == ps::kFirstVideo) {
                assembler_.push(kDvdVideoTrack, packet.payload, packet.pts, packet.dts);
            } else if (packet.stream_id >= ps::kFirstAudio && packet.stream_id < ps::kFirstAudio + 32) {
                assembler_.push(packet.stream_id, packet.payload, packet.pts);
            } else if (packet.stream_id == ps::kPrivate1 && !packet.payload.empty()) {
                take_private(packet);
            }
        }
        if (lost_since_ && !told_until_) {
            assembler_.report("unreadable sectors skipped", *lost_since_,
                              std::max(*lost_since_, assembler_.video_end()));
            lost_since_.reset();
            told_until_ = true;
        }
    }

    void take_navigation(const Navigation& n, std::uint32_t number) {
        if (lost_since_) told_until_ = false;
        if (entered_cell_) {
            const bool at_start = number == cell().first_sector;
            if (at_start) {
                assembler_.start_clock(n.start, starts_[cell_]);
            } else if (!assembler_.has_clock() || cell().new_clock) {
                assembler_.start_clock(n.start - base::to_ticks(n.elapsed, 90000), starts_[cell_]);
            }
            entered_cell_ = false;
        }
        // A clock that starts anew inside a cell, against the tables.
        const Time at = assembler_.time_of(n.start);
        constexpr std::chrono::seconds slack{2};
        if (at < starts_[cell_] - slack || at > starts_[cell_] + cell().duration + slack)
            assembler_.start_clock(n.start, vobu_end_);
        vobu_end_ = assembler_.time_of(n.end);
    }

    void take_private(const ps::PesPacket& packet) {
        const int substream = packet.payload[0];
        const ByteSpan data = packet.payload.subspan(1);
        if (substream >= kSubpictureStream && substream < kSubpictureStream + 32) {
            assembler_.push(substream, data, packet.pts);
        } else if (substream >= kAc3Stream && substream < kDtsStream + 8) {
            if (data.size() >= kAudioSubstreamHeader - 1)
                assembler_.push(substream, data.subspan(kAudioSubstreamHeader - 1), packet.pts);
        } else if (substream >= kLpcmStream && substream < kLpcmStream + 8) {
            take_lpcm(substream, data, packet.pts);
        }
    }

    void take_lpcm(TrackId track, ByteSpan data, std::optional<std::int64_t> pts) {
        const auto header = bitstream::parse_dvd_lpcm_header(data);
        if (!header) return;
        data = data.subspan(bitstream::kDvdLpcmHeaderSize);
        // The timestamp is that of the first frame that begins here; what comes before it belongs to the one before.
        std::optional<std::int64_t> timestamp;
        const auto lead = static_cast<std::size_t>(std::max(header->first_frame_at, 0));
        if (pts && header->first_frame_at >= 0 && lead <= data.size()) {
            if (assembler_.samples_begun(track)) {
                const auto lead_samples =
                    static_cast<std::int64_t>(lead / header->group_bytes()) * header->group_samples();
                timestamp = *pts - base::rescale(lead_samples, 90000, header->sample_rate);
            } else {
                data = data.subspan(lead);
                timestamp = pts;
            }
        } else if (!assembler_.samples_begun(track)) {
            return;
        }
        const auto frames = static_cast<std::int64_t>(data.size() / header->group_bytes()) * header->group_samples();
        assembler_.samples(track, bitstream::plain_dvd_lpcm(*header, data), frames, header->sample_rate, timestamp);
    }

    DvdTitleData data_;
    const DvdTitle title_;
    const std::vector<DvdCell> cells_;
    std::vector<Time> starts_;  // of each cell on the title's timeline
    TitleAssembler assembler_;

    std::size_t cell_ = 0;
    std::uint32_t sector_ = 0;
    std::optional<std::uint32_t> unit_end_, next_unit_;
    bool entered_cell_ = true;
    bool foreign_ = false;  // this VOBU belongs to another angle
    bool finished_ = false;
    Time vobu_end_{};
    std::optional<Time> lost_since_;
    bool told_until_ = true;
    Status protection_;
    ByteVector buffer_;
    ps::PackContents contents_;
};

Status DvdTitleSource::seek(Time time) {
    std::size_t index = 0;
    while (index + 1 < cells_.size() && starts_[index + 1] <= time) ++index;
    start_cell(index);
    finished_ = false;
    lost_since_.reset();
    told_until_ = true;
    assembler_.restart(time);
    // The cell's clock begins with its first navigation pack.
    const auto first = navigation_at(cell().first_sector);
    if (!first) return {};  // unreadable there: from the cell's start on, whatever comes
    const auto starts_in_time = [&](std::uint32_t sector) {
        const auto n = navigation_at(sector);
        return n && starts_[index] + base::from_ticks(n->start - first->start, 90000) <= time;
    };
    // VOBUs of the cell by the address map, and the interval of them that the time map names.
    auto from = std::lower_bound(data_.vobus.begin(), data_.vobus.end(), cell().first_sector);
    auto to = std::upper_bound(from, data_.vobus.end(), cell().last_sector);
    if (from == to) return {};
    if (data_.time_map_unit_s > 0) {
        const auto entry = static_cast<std::size_t>(std::max(0.0, base::to_seconds(time))) /
                           static_cast<std::size_t>(data_.time_map_unit_s);
        if (entry > 0 && entry <= data_.time_map.size()) {
            const auto low = std::lower_bound(from, to, data_.time_map[entry - 1]);
            if (low != to && *low == data_.time_map[entry - 1] && starts_in_time(*low)) from = low;
        }
        if (entry < data_.time_map.size()) {
            const auto high = std::upper_bound(from, to, data_.time_map[entry]);
            // Only when it is later than the time looked for: tables may lie.
            if (high != to && !starts_in_time(*high)) to = high;
        }
    }
    // The last that starts in time; the first of the cell does.
    while (to - from > 1) {
        const auto middle = from + (to - from) / 2;
        if (starts_in_time(*middle)) {
            from = middle;
        } else {
            to = middle;
        }
    }
    // In interleaved cells other angles' VOBUs lie between: back to one of this.
    while (cell().interleaved && from != data_.vobus.begin() && *from > cell().first_sector) {
        const auto n = navigation_at(*from);
        if (n && belongs(*n)) break;
        --from;
    }
    sector_ = *from;
    assembler_.start_clock(first->start, starts_[index]);
    entered_cell_ = false;
    return {};
}

class MissingFile : public base::ByteSource {
  public:
    MissingFile(std::string name, std::uint64_t size) : name_(std::move(name)), size_(size) {}
    std::uint64_t size() const override { return size_; }
    std::string name() const override { return name_; }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t>) override {
        return fail(ErrorKind::input, "the file is missing", fmt::format("{}, byte {}", name_, offset),
                    "rip the disc again");
    }

  private:
    std::string name_;
    std::uint64_t size_;
};

}  // namespace

std::vector<DvdCell> DvdTitle::cells_of(int angle) const {
    std::vector<DvdCell> chosen;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (cells[i].angle == 0) {
            chosen.push_back(cells[i]);
        } else if (cells[i].angle == 1) {
            // The first of a block: take the wanted one, or the first where the block has fewer.
            std::size_t pick = i;
            for (std::size_t k = i; k < cells.size() && cells[k].angle == static_cast<int>(k - i) + 1; ++k) {
                if (cells[k].angle == angle) pick = k;
            }
            chosen.push_back(cells[pick]);
        }
    }
    return chosen;
}

void VobRun::add(std::unique_ptr<base::ByteSource> file) {
    ends_.push_back(size() + file->size());
    files_.push_back(std::move(file));
}

void VobRun::add_missing(std::string name, std::uint64_t size) {
    add(std::make_unique<MissingFile>(std::move(name), size));
}

Result<std::size_t> VobRun::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    std::size_t done = 0;
    auto i = static_cast<std::size_t>(std::upper_bound(ends_.begin(), ends_.end(), offset) - ends_.begin());
    for (; i < files_.size() && done < buffer.size(); ++i) {
        const std::uint64_t begin = ends_[i] - files_[i]->size();
        const std::uint64_t at = offset + done;
        const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size() - done, ends_[i] - at));
        WAVECREST_TRY_ASSIGN(got, files_[i]->read_at(at - begin, buffer.subspan(done, count)));
        done += got;
        if (got < count) break;
    }
    return done;
}

std::optional<Navigation> parse_navigation(ByteSpan sector) {
    if (sector.size() < kSector) return std::nullopt;
    ByteReader reader(sector);
    reader.seek(nav::kPciAt - 7);
    if (reader.u32() != (0x100u | ps::kPrivate2)) return std::nullopt;
    reader.seek(nav::kPciAt - 1);
    if (reader.u8() != nav::kPciSubstream) return std::nullopt;
    Navigation n;
    reader.seek(nav::kPciAt + nav::kPciStart);
    n.start = reader.u32();
    n.end = reader.u32();
    reader.seek(nav::kPciAt + nav::kPciElapsed);
    n.elapsed = decode_bcd_time(reader.u32());
    reader.seek(nav::kDsiAt - 7);
    if (reader.u32() != (0x100u | ps::kPrivate2)) return n;
    reader.seek(nav::kDsiAt + nav::kDsiVobuEnd);
    n.last_sector = reader.u32();
    reader.seek(nav::kDsiAt + nav::kDsiVob);
    n.vob = reader.u16();
    reader.skip(1);
    n.cell = reader.u8();
    reader.seek(nav::kDsiAt + nav::kDsiUnit);
    n.interleaved = (reader.u16() & nav::kInterleavedUnit) != 0;
    n.unit_end = reader.u32();
    const std::uint32_t next = reader.u32();
    if (next != 0 && next != nav::kNoUnit) n.next_unit = next;
    return n;
}

Error protected_error(const std::string& file, std::uint64_t sector) {
    return {
        ErrorKind::input, "this title is copy-protected (scrambled packs)",
        fmt::format("{}, byte {}", file, sector * kSector),
        "copy-protected material can't be converted, and trying again won't change that; use an unprotected source"};
}

std::unique_ptr<PacketSource> make_title_source(DvdTitleData data, const DvdTitle& title, int angle) {
    return std::make_unique<DvdTitleSource>(std::move(data), title, angle);
}

}  // namespace wavecrest::disc
