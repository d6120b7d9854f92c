// A DVD title's bytes turned into timed packets: the sectors of its cells, joined on one timeline.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "base/file.hpp"
#include "disc/dvd_reader.hpp"
#include "media/flow.hpp"

namespace wavecrest::disc {

// Track numbers are the stream's own: the video stream's, and the substream's of sound in private stream 1 (0xA0 ...).
inline constexpr TrackId kDvdVideoTrack = 0xE0;

// A title set's VOB files as one run of bytes, as cell addresses count them.
class VobRun : public base::ByteSource {
  public:
    void add(base::FileSource file) {
        size_ += file.size();
        ends_.push_back(size_);
        files_.push_back(std::move(file));
    }
    bool empty() const { return files_.empty(); }
    std::uint64_t size() const override { return size_; }
    std::string name() const override { return files_.empty() ? "no VOB file" : files_.front().name(); }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        std::size_t done = 0;
        for (std::size_t i = 0; i < files_.size() && done < buffer.size(); ++i) {
            const std::uint64_t begin = ends_[i] - files_[i].size();
            const std::uint64_t at = offset + done;
            if (at < begin || at >= ends_[i]) continue;
            const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size() - done, ends_[i] - at));
            WAVECREST_TRY_ASSIGN(got, files_[i].read_at(at - begin, buffer.subspan(done, count)));
            done += got;
            if (got < count) break;
        }
        return done;
    }

  private:
    std::vector<base::FileSource> files_;
    std::vector<std::uint64_t> ends_;
    std::uint64_t size_ = 0;
};

// When the VOBU whose navigation pack this sector is starts (and ends), in 90 kHz ticks of its clock; nothing for
// other sectors.
std::optional<std::int64_t> vobu_start(ByteSpan sector, std::int64_t* end = nullptr);

// The final status of scrambled material, met at this sector.
Error protected_error(const std::string& file, std::uint64_t sector);

// Packets of the title's video track and LPCM tracks, times from 0. Where the clock starts anew the timeline goes on;
// sectors that can't be parsed are passed over, and what is missing is in problems().
std::unique_ptr<PacketSource> make_title_source(std::shared_ptr<VobRun> vobs, const DvdTitle& title);

}  // namespace wavecrest::disc
