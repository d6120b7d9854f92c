// Tracks of the Common Media Application Format (ISO/IEC 23000-19): fragmented MP4 of one track each, whose segments
// begin with a keyframe at even times, so that players can go over from one encode of a title to another between any
// two of them. The same segments serve HLS (RFC 8216) and DASH (ISO/IEC 23009-1).
#pragma once

#include <functional>
#include <memory>
#include <vector>

#include "base/byte_sink.hpp"
#include "base/byte_source.hpp"
#include "container/byte_range.hpp"
#include "container/mp4_writer.hpp"

namespace wavecrest::container {

// A segment on its own: one movie fragment with its media data.
struct CmafSegment {
    ByteVector bytes;
    Time from{}, duration{};        // presentation
    std::uint64_t start_bytes = 0;  // up to the end of its first sample: all that a keyframe alone needs
};

// Cuts a track into segments.
class CmafTrack : public PacketSink {
  public:
    // The CMAF header (ftyp, moov) comes in front of the first segment. A segment ends with the last packet before a
    // keyframe that is shown at or behind the next multiple of `length` from `origin` on: tracks with the same two are
    // cut at the same times, audio to within a packet.
    struct Ends {
        std::function<Status(ByteVector header)> header;
        std::function<Status(CmafSegment segment)> segment;
    };
    // Fails (kind input) for a track MP4 can't hold.
    static Result<std::unique_ptr<CmafTrack>> create(Track track, Time length, Ends ends, Time origin = {});
    ~CmafTrack() override;

    Status write(const Packet& packet) override;
    Status finish() override;

  private:
    CmafTrack(TrackId track, Time length, Ends ends, Time origin)
        : track_(track), length_(length), origin_(origin), ends_(std::move(ends)) {}
    std::int64_t number_at(Time shown) const;
    Status take_segment(Time end);

    const TrackId track_;
    const Time length_, origin_;
    const Ends ends_;
    ByteVector bytes_;  // that the writer has written since
    std::unique_ptr<Mp4Writer> writer_;
    bool begun_ = false, has_header_ = false;
    Time from_{}, end_{};             // presentation: of the segment, of what has come
    std::int64_t number_ = 0;         // of the segment on the grid of `length`
    std::uint64_t first_sample_ = 0;  // bytes, of the segment
};

// A segment of subtitles: WebVTT in samples (ISO/IEC 14496-30, 6), which fill the interval [from, to) without a gap,
// each with the cues that are shown during it, or with none. `cues` hold plain text; a cue that lasts longer is in the
// next segment, too, known as the same by its number there. With the header that goes in front of all segments.
struct CmafText {
    ByteVector header, segment;
};
Result<CmafText> cmaf_text(Track track, const std::vector<Packet>& cues, Time from, Time to);

// Writes such a track as one file: header, index of segments (sidx, ISO/IEC 14496-12, 8.16.3), segments. Packets,
// tracks and errors as CmafTrack has them; the file appears with finish(). `file` must seek back.
Result<std::unique_ptr<PacketSink>> create_cmaf_file(std::unique_ptr<base::ByteSink> file, Track track, Time length);

// What such a file has, for playlists and manifests.
struct CmafFile {
    struct Segment {
        ByteRange range;
        Time from{}, duration{};
        ByteRange keyframe;  // from its beginning to the end of its first sample
    };
    Track track;
    ByteRange header, index;  // ftyp and moov; sidx
    ByteVector head;          // the bytes of the header
    std::vector<Segment> segments;

    Time duration() const { return segments.empty() ? Time{} : segments.back().from + segments.back().duration; }
    // Bits a second, the headers of fragments with it: of all, and of the segments in a row that need most and together
    // last half to one and a half of the longest (RFC 8216, 4.1: the peak segment bit rate).
    std::int64_t average_bps() const;
    std::int64_t peak_bps() const;
};
// An index of segments (a whole sidx box) that lies `offset` bytes into a file of so many bytes. Fails (kind input) for
// what is none, names what lies beyond the file, or has several levels. Keyframes aren't known by it.
Result<std::vector<CmafFile::Segment>> parse_segment_index(ByteSpan box, std::uint64_t offset, std::uint64_t file_size,
                                                           const std::string& name);
// Fails (kind input) for files that aren't of this form: several tracks, no index in front of the first fragment, an
// index that contradicts the file.
Result<CmafFile> read_cmaf_file(base::ByteSource& source, const std::string& name);

}  // namespace wavecrest::container
