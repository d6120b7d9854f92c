// A DVD title's bytes turned into timed packets: the sectors of its cells, joined on one timeline.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "base/byte_source.hpp"
#include "disc/dvd_reader.hpp"
#include "media/flow.hpp"

namespace wavecrest::disc {

// Track numbers are the stream's own: the video stream's, MPEG audio's (0xC0 ...), and the substream's of what lies in
// private stream 1 (dvd_format.hpp).
inline constexpr TrackId kDvdVideoTrack = 0xE0;

// A title set's VOB files as one run of bytes, as cell addresses count them.
class VobRun : public base::ByteSource {
  public:
    void add(std::unique_ptr<base::ByteSource> file);
    // A file that is not there takes its place: reading it fails.
    void add_missing(std::string name, std::uint64_t size);
    bool empty() const { return files_.empty(); }
    std::uint64_t size() const override { return ends_.empty() ? 0 : ends_.back(); }
    std::string name() const override { return files_.empty() ? "no VOB file" : files_.front()->name(); }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override;

  private:
    std::vector<std::unique_ptr<base::ByteSource>> files_;
    std::vector<std::uint64_t> ends_;
};

// What a navigation pack says about its VOBU.
struct Navigation {
    std::int64_t start = 0, end = 0;  // of what it shows, 90 kHz ticks of its clock
    Time elapsed{};                   // since the start of its cell, to a frame
    std::uint32_t last_sector = 0;    // of the VOBU, counted from the pack
    int vob = 0, cell = 0;
    bool interleaved = false;
    std::uint32_t unit_end = 0;              // last sector of the interleaved unit, counted from the pack
    std::optional<std::uint32_t> next_unit;  // first sector of the next, likewise
};
// Nothing for other sectors.
std::optional<Navigation> parse_navigation(ByteSpan sector);

// The final status of scrambled material, met at this sector.
Error protected_error(const std::string& file, std::uint64_t sector);

struct DvdTitleData {
    std::shared_ptr<base::ByteSource> vobs;
    std::vector<std::uint32_t> vobus;     // sectors of navigation packs, ascending; may be empty
    int time_map_unit_s = 0;              // of a title of one program chain; 0: no time map
    std::vector<std::uint32_t> time_map;  // sectors of the VOBU shown at each unit's end
};

// Packets of the title's tracks as seen from an angle, times from 0. Where the clock starts anew the timeline goes on;
// sectors that can't be read or parsed are passed over, and what is missing is in problems().
std::unique_ptr<PacketSource> make_title_source(DvdTitleData data, const DvdTitle& title, int angle);

}  // namespace wavecrest::disc
