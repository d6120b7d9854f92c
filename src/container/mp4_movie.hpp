// The index of an MP4 file: its movie box and movie fragments become tracks with their samples.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "base/window_reader.hpp"
#include "container/mp4_boxes.hpp"
#include "container/mp4_edits.hpp"
#include "container/mp4_reader.hpp"

namespace wavecrest::container::mp4 {

using base::ByteWriter;

// Defaults of a track's fragments (trex).
struct FragmentDefaults {
    std::uint32_t duration = 0, size = 0, flags = 0;
};

struct RawTrack {
    std::uint32_t id = 0;
    std::uint32_t handler = 0;
    std::uint32_t chapter_track = 0;
    std::vector<Edit> edits;
    std::int64_t media_duration = 0;  // as its header says; 0: not told
    FragmentDefaults defaults;
    std::int64_t next_dts = 0;  // where the next fragment goes on
    Mp4Track track;
};

// A top-level box's header.
struct TopBox {
    std::uint32_t type = 0;
    std::uint64_t at = 0, header = 0, size = 0;  // the size with the header
};

// None behind the last one. Fails (kind input) where the size can't be.
Result<std::optional<TopBox>> top_box_at(base::ByteSource& source, std::uint64_t at);

// Reads the movie box, then movie fragments as they are found.
class MovieParser {
  public:
    explicit MovieParser(base::ByteSource& source) : source_(source) {}

    // Goes through the top-level boxes. Stops behind the first fragment when `lazy`.
    Status scan(bool lazy);
    bool ended() const { return ended_; }
    // Only what the movie box says besides its tables of samples, which aren't read: a film's length, not where what
    // lies. False where that isn't enough to know the length: fragments, several edits.
    Result<bool> scan_headers(base::WindowReader& bytes);
    Status conclude(Mp4Movie& movie);
    // Takes in what further fragments tell since.
    std::vector<RawTrack>& raw() { return raw_; }
    std::uint32_t timescale() const { return timescale_; }

  private:
    tl::unexpected<Error> damaged(std::string what) const {
        return fail(ErrorKind::input, std::move(what), source_.name(),
                    "the file is damaged or not finished; copy or make it again");
    }
    Status parse_movie(ByteSpan moov);
    Status read_without_tables(base::WindowReader& bytes, std::uint64_t at, std::uint64_t end, ByteWriter& out);
    Status parse_track(ByteSpan trak, RawTrack& t);
    bool believable(std::uint32_t samples);
    Status parse_samples(ByteSpan stbl, RawTrack& t);
    void parse_fragment(ByteSpan moof, std::uint64_t at);
    void parse_run(ByteSpan trun, RawTrack& t, const FragmentDefaults& defaults, std::uint64_t base,
                   std::uint64_t& offset);
    void finish_track(RawTrack& t, Mp4Movie& movie) const;
    Status read_chapters(const RawTrack& t, Mp4Movie& movie);

    base::ByteSource& source_;
    std::uint32_t timescale_ = 0;
    std::vector<RawTrack> raw_;
    media::Tags tags_;
    std::vector<std::string> notes_;
    std::uint64_t told_ = 0;  // samples that no bytes of the index stand for
    std::uint64_t at_ = 0;
    bool first_ = true, media_seen_ = false, has_movie_ = false, ended_ = false;
    bool fragmented_ = false, quicktime_ = false, headers_only_ = false;
    std::size_t boxes_ = 0;  // looked at by scan_headers
    bool index_in_front_ = false;
    std::uint64_t index_end_ = 0;
    std::optional<std::uint64_t> cut_at_;  // a box that runs over the end
};

}  // namespace wavecrest::container::mp4
