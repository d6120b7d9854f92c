#include "disc/dvd_title_source.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <map>

#include "bitstream/lpcm.hpp"
#include "bitstream/mpeg2.hpp"
#include "container/mpeg_ps.hpp"
#include "disc/dvd_format.hpp"

namespace wavecrest::disc {
namespace {

using base::ByteReader;
using namespace dvd;
namespace ps = container::ps;
namespace mpeg2 = bitstream::mpeg2;

class DvdTitleSource : public PacketSource {
  public:
    DvdTitleSource(std::shared_ptr<VobRun> vobs, const DvdTitle& title) : vobs_(std::move(vobs)), title_(title) {
        for (const Track& track : title_.tracks) {
            if (track.codec == Codec::lpcm) sound_[track.id] = {};
        }
        start_cell(0);
    }

    const std::vector<Track>& tracks() const override { return title_.tracks; }
    const std::vector<Chapter>& chapters() const override { return title_.chapters; }
    Time duration() const override { return title_.duration; }
    const std::vector<Problem>& problems() const override { return problems_; }

    Result<std::optional<Packet>> read() override {
        while (ready_at_ == ready_.size()) {
            ready_.clear();
            ready_at_ = 0;
            if (finished_) return std::optional<Packet>{};
            WAVECREST_TRY(read_more());
        }
        return std::optional<Packet>(std::move(ready_[ready_at_++]));
    }

    Status seek(Time time) override {
        // Into the cell that holds the time, then in proportion to its sectors, to the VOBU at or before.
        Time cell_start{};
        std::size_t index = 0;
        while (index + 1 < title_.cells.size() && cell_start + title_.cells[index].duration <= time) {
            cell_start += title_.cells[index++].duration;
        }
        const DvdCell& cell = title_.cells[index];
        const std::int64_t span = cell.last_sector - cell.first_sector;
        std::int64_t guess = 0;
        if (cell.duration.count() > 0)
            guess = base::rescale(std::max<std::int64_t>((time - cell_start).count(), 0), span, cell.duration.count());
        guess = std::clamp<std::int64_t>(guess, 0, span);
        start_cell(index);
        ready_.clear();
        ready_at_ = 0;
        finished_ = false;
        splitter_.reset();
        timer_.reset();
        seen_picture_ = false;
        last_time_ = time;
        for (auto& [id, sound] : sound_) sound = {};
        // The cell's clock begins with its first navigation pack.
        WAVECREST_TRY_ASSIGN(first, read_pack(cell.first_sector));
        const auto cell_clock = vobu_start(first);
        if (!cell_clock) return {};  // unreadable there: from the cell's start on, whatever comes
        clock_offset_ = base::to_ticks(cell_start, 90000) - *cell_clock;
        has_clock_ = true;
        entered_cell_ = false;
        // Back from the guess to a VOBU that starts in time, then forward over the ones that still do.
        const auto starts_in_time = [&](ByteSpan sector) {
            const auto start = vobu_start(sector);
            return start && base::from_ticks(*start + clock_offset_, 90000) <= time;
        };
        for (std::int64_t at = guess; at > 0; --at) {
            WAVECREST_TRY_ASSIGN(sector, read_pack(cell.first_sector + static_cast<std::uint32_t>(at)));
            if (!starts_in_time(sector)) continue;
            sector_ = cell.first_sector + static_cast<std::uint32_t>(at);
            break;
        }
        while (true) {
            WAVECREST_TRY_ASSIGN(here, read_pack(sector_));
            base::ByteReader reader{ByteSpan(here)};
            reader.seek(nav::kDsiAt + nav::kDsiVobuEnd);
            const std::uint32_t length = reader.u32();
            if (!vobu_start(here) || length >= cell.last_sector - sector_) break;
            WAVECREST_TRY_ASSIGN(next, read_pack(sector_ + length + 1));
            if (!starts_in_time(next)) break;
            sector_ += length + 1;
        }
        return {};
    }

  private:
    struct SoundState {
        bool begun = false;
        Time next{};  // presentation time of the next sample
        Time last_end{};
    };

    void start_cell(std::size_t index) {
        cell_ = index;
        sector_ = title_.cells[index].first_sector;
        entered_cell_ = true;
    }

    Result<ByteVector> read_pack(std::uint32_t sector) {
        return base::read_exactly(*vobs_, std::uint64_t{sector} * kSector, kSector);
    }

    void finish() {
        finished_ = true;
        units_.clear();
        splitter_.flush(units_);
        take_units();
        timed_.clear();
        timer_.flush(timed_);
        take_timed();
    }

    Status read_more() {
        const DvdCell& cell = title_.cells[cell_];
        if (sector_ > cell.last_sector) {
            if (cell_ + 1 == title_.cells.size()) {
                finish();
                return {};
            }
            start_cell(cell_ + 1);
            return {};
        }
        constexpr std::uint32_t kRun = 64;
        const std::uint32_t count = std::min(kRun, cell.last_sector - sector_ + 1);
        buffer_.resize(std::size_t{count} * kSector);
        WAVECREST_TRY_ASSIGN(got, vobs_->read_at(std::uint64_t{sector_} * kSector, buffer_));
        const std::size_t sectors = got / kSector;
        for (std::size_t i = 0; i < sectors; ++i) {
            WAVECREST_TRY(
                take_sector(ByteSpan(buffer_).subspan(i * kSector, kSector), sector_ + static_cast<std::uint32_t>(i)));
        }
        sector_ += static_cast<std::uint32_t>(sectors);
        if (sectors < count) {
            problems_.push_back({fmt::format("the VOB files end {} sectors before the title does",
                                             title_.cells.back().last_sector - sector_ + 1),
                                 last_time_, title_.duration});
            finish();
        }
        return {};
    }

    Status take_sector(ByteSpan sector, std::uint32_t number) {
        std::int64_t end = 0;
        if (const auto start = vobu_start(sector, &end)) take_navigation(*start, end);
        ps::parse_packs(sector, contents_);
        if (contents_.skipped_bytes > kSector / 2) {
            if (problems_.empty() || problems_.back().what != kUnreadable || problems_.back().to != last_time_) {
                problems_.push_back({kUnreadable, last_time_, last_time_});
            }
        }
        for (const ps::PesPacket& packet : contents_.packets) {
            if (packet.scrambled) return fail(protected_error(vobs_->name(), number));
            if (packet.stream_id == ps::kFirstVideo) {
                units_.clear();
                splitter_.push(packet.payload, shifted(packet.pts), shifted(packet.dts), 0, units_);
                take_units();
            } else if (packet.stream_id == ps::kPrivate1 && !packet.payload.empty()) {
                take_sound(packet);
            }
        }
        return {};
    }

    std::optional<std::int64_t> shifted(std::optional<std::int64_t> stamp) const {
        if (stamp) *stamp += clock_offset_;
        return stamp;
    }

    // A navigation pack tells when its VOBU is shown; where the clock starts anew, the timeline goes on.
    void take_navigation(std::int64_t start, std::int64_t end) {
        const bool new_clock = entered_cell_ && title_.cells[cell_].new_clock;
        if (!has_clock_ || (new_clock && start + clock_offset_ != vobu_end_)) {
            clock_offset_ = (has_clock_ ? vobu_end_ : 0) - start;
            has_clock_ = true;
        }
        entered_cell_ = false;
        vobu_end_ = end + clock_offset_;
    }

    void take_units() {
        for (mpeg2::AccessUnit& unit : units_) {
            if (!splitter_.sequence()) continue;  // pictures before the first sequence header can't be decoded
            timed_.clear();
            timer_.push(std::move(unit), *splitter_.sequence(), timed_);
            take_timed();
        }
        units_.clear();
    }

    void take_timed() {
        for (mpeg2::TimedUnit& timed : timed_) {
            Packet packet;
            packet.track = kDvdVideoTrack;
            packet.pts = timed.pts;
            packet.dts = timed.dts;
            packet.duration = timed.duration;
            packet.key = timed.unit.picture.coding_type == 1 && timed.unit.starts_group;
            packet.data = Bytes(std::move(timed.unit.data));
            // Reordering moves a picture by a few; farther ahead means that those in between are lost.
            if (seen_picture_ && packet.pts > last_time_ + 6 * packet.duration) {
                problems_.push_back({"pictures are missing", last_time_, packet.pts});
            }
            seen_picture_ = true;
            last_time_ = std::max(last_time_, packet.pts + packet.duration);
            ready_.push_back(std::move(packet));
        }
    }

    void take_sound(const ps::PesPacket& pes) {
        const auto found = sound_.find(pes.payload[0]);
        if (found == sound_.end()) return;
        SoundState& state = found->second;
        ByteSpan data = pes.payload.subspan(1);
        const auto header = bitstream::parse_dvd_lpcm_header(data);
        if (!header || !has_clock_) return;
        data = data.subspan(bitstream::kDvdLpcmHeaderSize);
        const std::size_t frame_bytes = static_cast<std::size_t>(header->channels * header->bits / 8);
        if (header->first_frame_at >= 0 && static_cast<std::size_t>(header->first_frame_at) <= data.size() && pes.pts) {
            const auto lead = static_cast<std::size_t>(header->first_frame_at);
            const Time lead_time = base::from_ticks(static_cast<std::int64_t>(lead / frame_bytes), header->sample_rate);
            const Time stamped = base::from_ticks(*shifted(pes.pts), 90000);
            if (!state.begun) {
                data = data.subspan(lead);
                state.next = stamped;
                state.begun = true;
            } else if (std::chrono::abs(stamped - lead_time - state.next) > std::chrono::milliseconds(2)) {
                // Something is missing: go on where the stamp says, at a whole frame.
                problems_.push_back({"sound is missing", state.next, stamped});
                data = data.subspan(lead);
                state.next = stamped;
            }
        } else if (!state.begun) {
            return;
        }
        const std::size_t samples = data.size() / frame_bytes;
        Packet packet;
        packet.track = found->first;
        packet.pts = packet.dts = state.next;
        packet.duration = base::from_ticks(static_cast<std::int64_t>(samples), header->sample_rate);
        packet.key = true;
        packet.data =
            Bytes(ByteVector(data.begin(), data.begin() + static_cast<std::ptrdiff_t>(samples * frame_bytes)));
        state.next += packet.duration;
        ready_.push_back(std::move(packet));
    }

    static constexpr const char* kUnreadable = "unreadable sectors were passed over";

    std::shared_ptr<VobRun> vobs_;
    const DvdTitle title_;
    std::vector<Problem> problems_;
    std::size_t cell_ = 0;
    std::uint32_t sector_ = 0;
    bool entered_cell_ = true;
    bool finished_ = false;
    bool has_clock_ = false;
    std::int64_t clock_offset_ = 0;  // 90 kHz, added to every stamp
    std::int64_t vobu_end_ = 0;      // 90 kHz, on the title's timeline
    Time last_time_{};               // up to which pictures have come
    bool seen_picture_ = false;      // since the start or the last skip
    ByteVector buffer_;
    ps::PackContents contents_;
    mpeg2::AccessUnitSplitter splitter_;
    mpeg2::PictureTimer timer_;
    std::vector<mpeg2::AccessUnit> units_;
    std::vector<mpeg2::TimedUnit> timed_;
    std::map<TrackId, SoundState> sound_;
    std::vector<Packet> ready_;
    std::size_t ready_at_ = 0;
};

}  // namespace

std::optional<std::int64_t> vobu_start(ByteSpan sector, std::int64_t* end) {
    if (sector.size() < kSector) return std::nullopt;
    ByteReader reader(sector);
    reader.seek(nav::kPciAt - 7);
    if (reader.u32() != (0x100u | ps::kPrivate2)) return std::nullopt;
    reader.seek(nav::kPciAt - 1);
    if (reader.u8() != nav::kPciSubstream) return std::nullopt;
    reader.seek(nav::kPciAt + nav::kPciStart);
    const std::int64_t start = reader.u32();
    const std::int64_t stop = reader.u32();
    if (end != nullptr) *end = stop;
    return start;
}

Error protected_error(const std::string& file, std::uint64_t sector) {
    return {ErrorKind::input, "this title is protected: its packs are marked as scrambled",
            fmt::format("{}, byte {}", file, sector * kSector),
            "protected material can't be converted, and trying again won't change that; use an unprotected source"};
}

std::unique_ptr<PacketSource> make_title_source(std::shared_ptr<VobRun> vobs, const DvdTitle& title) {
    return std::make_unique<DvdTitleSource>(std::move(vobs), title);
}

}  // namespace wavecrest::disc
