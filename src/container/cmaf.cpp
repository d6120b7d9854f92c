#include "container/cmaf.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>

#include "container/mp4_boxes.hpp"
#include "container/mp4_reader.hpp"
#include "container/mp4_tables.hpp"
#include "container/subtitle_text.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteReader;
using base::ByteWriter;
using namespace std::chrono_literals;

// Fragments end where they are told to.
constexpr Time kNever = std::chrono::hours(10'000);
// Times that are rounded to their track's timescale still count as on the grid.
constexpr Time kTolerance = std::chrono::milliseconds(1);
constexpr std::size_t kMostSegments = 0xFFFF;  // of one index (reference_count has 16 bits)
constexpr std::size_t kSidxHead = 8 + 4 + 4 + 4 + 8 + 8 + 2 + 2, kSidxEntry = 12;
constexpr std::uint64_t kMostHeader = 1 << 20;

struct BoxHead {
    std::uint32_t type = 0;
    std::size_t size = 0;  // with its header; 0: doesn't fit
};
BoxHead box_at(ByteSpan bytes, std::size_t at) {
    ByteReader in(bytes.subspan(at));
    const std::uint64_t size = in.u32();
    const std::uint32_t type = in.u32();
    if (!in.ok() || size < 8 || size > bytes.size() - at) return {};
    return {type, static_cast<std::size_t>(size)};
}

// How many bytes from the beginning are boxes of the header.
std::size_t header_size(ByteSpan bytes) {
    std::size_t at = 0;
    while (at < bytes.size()) {
        const BoxHead box = box_at(bytes, at);
        if (box.size == 0 || box.type == fourcc("moof")) break;
        at += box.size;
    }
    return at;
}

// Collects a track's segments behind one another, and puts header and index in front at the end.
class FileSink : public PacketSink {
  public:
    FileSink(std::unique_ptr<base::ByteSink> file, std::uint32_t timescale)
        : file_(std::move(file)), timescale_(timescale) {}

    Status begin(Track track, Time length) {
        CmafTrack::Ends ends;
        ends.header = [this](ByteVector header) -> Status {
            header_ = std::move(header);
            return {};
        };
        ends.segment = [this](CmafSegment segment) { return take(segment); };
        WAVECREST_TRY_ASSIGN(segments, CmafTrack::create(std::move(track), length, std::move(ends)));
        segments_ = std::move(segments);
        return {};
    }
    Status write(const Packet& packet) override { return segments_->write(packet); }
    Status finish() override {
        WAVECREST_TRY(segments_->finish());
        if (entries_.empty())
            return fail(ErrorKind::input, "the track is empty", "", "leave the track out, or name another");
        set_duration();
        ByteWriter out;
        out.raw(header_);
        const std::size_t index = kSidxHead + entries_.size() * kSidxEntry;
        // The segments stay where they are in whole blocks of the file system: free space fills the rest.
        const std::size_t block = file_->block_size();
        const std::size_t total = (out.size() + 8 + index + block - 1) / block * block;
        const std::size_t spare = total - out.size() - index;
        out.u32(spare);
        out.u32(fourcc("free"));
        out.fill(spare - 8);
        write_index(out);
        WAVECREST_TRY(file_->insert_front(out.bytes()));
        return file_->commit();
    }

  private:
    struct Entry {
        std::uint32_t size;
        Time from, duration;
    };

    Status take(const CmafSegment& segment) {
        if (entries_.size() == kMostSegments)
            return fail(ErrorKind::input, fmt::format("the title has more than {} segments", kMostSegments), "",
                        "use a longer keyframe_interval");
        if (segment.bytes.size() > 0x7FFFFFFF)
            return fail(ErrorKind::input, "a segment is larger than 2 GB", "", "use a shorter keyframe_interval");
        entries_.push_back({static_cast<std::uint32_t>(segment.bytes.size()), segment.from, segment.duration});
        return file_->write(segment.bytes);
    }
    // The movie's length is known now (mehd, 14496-12, 8.8.2).
    void set_duration() {
        const ByteSpan movie = mp4::child(header_, "moov");
        const ByteSpan mvhd = mp4::child(movie, "mvhd"), mehd = mp4::child(mp4::child(movie, "mvex"), "mehd");
        if (mvhd.size() < 24 || mehd.size() < 12) return;
        ByteReader in(mvhd);
        in.skip(20);
        const std::uint32_t scale = in.u32();
        const auto length =
            static_cast<std::uint64_t>(base::to_ticks(entries_.back().from + entries_.back().duration, scale));
        ByteWriter field;
        field.u64(length);
        const auto at = mehd.data() + 4 - header_.data();
        std::copy(field.bytes().begin(), field.bytes().end(), header_.begin() + at);
    }
    void write_index(ByteWriter& out) const {
        out.u32(kSidxHead + entries_.size() * kSidxEntry);
        out.u32(fourcc("sidx"));
        out.u32(0x01000000);  // version 1
        out.u32(1);           // the track
        out.u32(timescale_);
        out.u64(static_cast<std::uint64_t>(base::to_ticks(entries_.front().from, timescale_)));
        out.u64(0);  // the first begins right behind
        out.u16(0);
        out.u16(entries_.size());
        for (const Entry& one : entries_) {
            out.u32(one.size);
            // Rounded so that sums stay right.
            out.u32(static_cast<std::uint64_t>(base::to_ticks(one.from + one.duration, timescale_) -
                                               base::to_ticks(one.from, timescale_)));
            out.u32(0x90000000);  // begins with a closed random access point (SAP type 1)
        }
    }

    std::unique_ptr<base::ByteSink> file_;
    const std::uint32_t timescale_;
    std::unique_ptr<CmafTrack> segments_;
    ByteVector header_;
    std::vector<Entry> entries_;
};

}  // namespace

Result<std::unique_ptr<CmafTrack>> CmafTrack::create(Track track, Time length, Ends ends, Time origin) {
    std::unique_ptr<CmafTrack> made(new CmafTrack(track.id, length, std::move(ends), origin));
    WriterSettings settings;
    settings.fragments = kNever;
    settings.cmaf = true;
    WAVECREST_TRY_ASSIGN(writer, Mp4Writer::create(std::make_unique<base::MemorySink>(made->bytes_, false),
                                                   {std::move(track)}, settings));
    made->writer_ = std::move(writer);
    return made;
}

CmafTrack::~CmafTrack() = default;

std::int64_t CmafTrack::number_at(Time shown) const {
    return std::max<std::int64_t>((shown - origin_ + kTolerance) / length_, 0);
}

Status CmafTrack::write(const Packet& packet) {
    if (packet.track != track_) return {};
    if (begun_ && packet.key && number_at(packet.pts) > number_) {
        WAVECREST_TRY(take_segment(packet.pts));
        begun_ = false;
    }
    if (!begun_) {
        begun_ = true;
        from_ = std::max(packet.pts, Time{});
        number_ = number_at(packet.pts);
        first_sample_ = packet.data.size();
    }
    end_ = std::max(end_, packet.pts + packet.duration);
    return writer_->write(packet);
}

Status CmafTrack::take_segment(Time end) {
    WAVECREST_TRY(writer_->end_fragment());
    ByteVector bytes = std::exchange(bytes_, {});
    if (!has_header_) {
        const auto size = static_cast<std::ptrdiff_t>(header_size(bytes));
        WAVECREST_TRY(ends_.header(ByteVector(bytes.begin(), bytes.begin() + size)));
        bytes.erase(bytes.begin(), bytes.begin() + size);
        has_header_ = true;
    }
    CmafSegment segment;
    segment.from = from_;
    segment.duration = std::max(end - from_, Time{});
    segment.start_bytes = box_at(bytes, 0).size + 8 + first_sample_;
    segment.bytes = std::move(bytes);
    return ends_.segment(std::move(segment));
}

Status CmafTrack::finish() {
    return begun_ ? take_segment(end_) : Status{};
}

namespace {

// The same for a cue in each sample that shows it (14496-30, 6.2.5: source_ID): FNV-1a of its time and text.
std::uint32_t source_id(const Packet& cue) {
    std::uint32_t sum = 0x811C9DC5;
    const auto mix = [&](std::uint64_t byte) { sum = (sum ^ static_cast<std::uint32_t>(byte & 0xFF)) * 0x01000193; };
    for (int shift = 0; shift < 64; shift += 8) mix(static_cast<std::uint64_t>(cue.pts.count()) >> shift);
    for (const std::uint8_t byte : cue.data.view()) mix(byte);
    return sum & 0x7FFFFFFF;
}

// What is shown at a time, as a sample: a box for each cue, or one that says that there is none.
ByteVector text_sample(const std::vector<Packet>& cues, Time at) {
    ByteWriter out;
    for (const Packet& cue : cues) {
        if (cue.pts > at || cue.pts + cue.duration <= at) continue;
        const ByteSpan plain = cue.data.view();
        const std::string text = escaped_web_vtt({reinterpret_cast<const char*>(plain.data()), plain.size()});
        const Box shown(out, "vttc");
        {
            const Box id(out, "vsid");
            out.u32(source_id(cue));
        }
        const Box payload(out, "payl");
        out.text(text);
    }
    if (out.size() == 0) {
        const Box nothing(out, "vtte");
    }
    return out.release();
}

}  // namespace

Result<CmafText> cmaf_text(Track track, const std::vector<Packet>& cues, Time from, Time to) {
    // A sample ends wherever a cue begins or ends.
    std::vector<Time> edges = {from, to};
    for (const Packet& cue : cues) {
        for (const Time edge : {cue.pts, cue.pts + cue.duration}) {
            if (edge > from && edge < to) edges.push_back(edge);
        }
    }
    std::sort(edges.begin(), edges.end());
    edges.erase(std::unique(edges.begin(), edges.end()), edges.end());
    CmafText made;
    CmafTrack::Ends ends;
    ends.header = [&](ByteVector header) -> Status {
        made.header = std::move(header);
        return {};
    };
    ends.segment = [&](CmafSegment segment) -> Status {
        made.segment = std::move(segment.bytes);
        return {};
    };
    const TrackId id = track.id;
    WAVECREST_TRY_ASSIGN(segment, CmafTrack::create(std::move(track), kNever, std::move(ends)));
    for (std::size_t i = 0; i + 1 < edges.size(); ++i) {
        Packet packet;
        packet.track = id;
        packet.pts = packet.dts = edges[i];
        packet.duration = edges[i + 1] - edges[i];
        packet.key = true;
        packet.data = Bytes(text_sample(cues, edges[i]));
        WAVECREST_TRY(segment->write(packet));
    }
    WAVECREST_TRY(segment->finish());
    return made;
}

Result<std::unique_ptr<PacketSink>> create_cmaf_file(std::unique_ptr<base::ByteSink> file, Track track, Time length) {
    if (!file->seeks_back())
        return fail(ErrorKind::usage, "a file with an index in front can't be written to what only takes bytes", "",
                    "write it to a file");
    auto sink = std::make_unique<FileSink>(std::move(file), track_timescale(track));
    WAVECREST_TRY(sink->begin(std::move(track), length));
    return sink;
}

std::int64_t CmafFile::average_bps() const {
    double bits = 0, seconds = 0;
    for (const Segment& one : segments) {
        bits += static_cast<double>(one.range.length) * 8;
        seconds += base::to_seconds(one.duration);
    }
    return seconds > 0 ? static_cast<std::int64_t>(bits / seconds) : 0;
}

std::int64_t CmafFile::peak_bps() const {
    Time longest{};
    for (const Segment& one : segments) longest = std::max(longest, one.duration);
    double most = 0;
    // All ranges of segments whose length is in those bounds; a title shorter than the least counts as a whole.
    for (std::size_t from = 0; from < segments.size(); ++from) {
        double bits = 0;
        Time length{};
        for (std::size_t i = from; i < segments.size(); ++i) {
            bits += static_cast<double>(segments[i].range.length) * 8;
            length += segments[i].duration;
            if (length > longest + longest / 2) break;
            if (length >= longest / 2 && length.count() > 0) most = std::max(most, bits / base::to_seconds(length));
        }
    }
    return static_cast<std::int64_t>(most);
}

namespace {

// sidx (14496-12, 8.16.3): the segments, from where they begin in the file.
Status parse_index(ByteSpan body, std::uint64_t anchor, std::uint64_t file_size, const std::string& name,
                   std::vector<CmafFile::Segment>& segments) {
    const auto refuse = [&](const char* what) {
        return fail(ErrorKind::input, what, name, "the file is damaged, or made by another program: make it anew");
    };
    ByteReader in(body);
    const int version = in.u8();
    in.skip(3 + 4);
    const std::uint32_t timescale = in.u32();
    std::uint64_t time = version == 0 ? in.u32() : in.u64();
    std::uint64_t at = version == 0 ? in.u32() : in.u64();
    in.skip(2);
    const std::size_t count = in.u16();
    if (!in.ok() || timescale == 0 || time >> 62 != 0) return refuse("the index of segments can't be read");
    if (at > file_size || anchor > file_size - at) return refuse("the index of segments points beyond the file");
    at += anchor;
    for (std::size_t i = 0; i < count; ++i) {
        const std::uint32_t size = in.u32(), duration = in.u32();
        in.skip(4);
        if (!in.ok()) return refuse("the index of segments is cut short");
        if (size >> 31 != 0) return refuse("the index of segments is in several levels, which isn't supported");
        if (size > file_size - at) return refuse("the file is truncated: its index names segments beyond its end");
        CmafFile::Segment one;
        one.range = {at, size};
        one.from = base::from_ticks(static_cast<std::int64_t>(time), timescale);
        one.duration = base::from_ticks(static_cast<std::int64_t>(time + duration), timescale) - one.from;
        segments.push_back(one);
        at += size;
        time += duration;
    }
    return {};
}

}  // namespace

Result<std::vector<CmafFile::Segment>> parse_segment_index(ByteSpan box, std::uint64_t offset, std::uint64_t file_size,
                                                           const std::string& name) {
    const BoxHead head = box.size() >= 8 ? box_at(box, 0) : BoxHead{};
    if (head.type != fourcc("sidx") || head.size > box.size())
        return fail(ErrorKind::input, "there is no index of segments where the manifest has it", name,
                    "check what the server sends at this address");
    std::vector<CmafFile::Segment> segments;
    WAVECREST_TRY(parse_index(box.subspan(8, head.size - 8), offset + head.size, file_size, name, segments));
    return segments;
}

Result<CmafFile> read_cmaf_file(base::ByteSource& source, const std::string& name) {
    const auto refuse = [&](std::string what) {
        return fail(ErrorKind::input, std::move(what), name, "name a file of a ladder that Wavecrest made");
    };
    CmafFile file;
    std::uint64_t at = 0;
    while (at < source.size()) {
        WAVECREST_TRY_ASSIGN(head, base::read_exactly(source, at, std::min<std::uint64_t>(8, source.size() - at)));
        ByteReader in(head);
        const std::uint64_t size = in.u32();
        const std::uint32_t type = in.u32();
        if (in.ok() && (type == fourcc("moof") || type == fourcc("mdat"))) break;
        if (!in.ok() || size < 8 || size > source.size() - at) return refuse("a box doesn't fit into the file");
        if (type == fourcc("moov")) file.header = {0, at + size};
        if (type == fourcc("sidx")) {
            if (size > kMostHeader || !file.segments.empty()) return refuse("the index of segments can't be read");
            WAVECREST_TRY_ASSIGN(body, base::read_exactly(source, at + 8, static_cast<std::size_t>(size - 8)));
            WAVECREST_TRY(parse_index(body, at + size, source.size(), name, file.segments));
            file.index = {at, size};
        }
        at += size;
    }
    if (file.header.length == 0) return refuse("the file has no movie header");
    if (file.segments.empty()) return refuse("the file has no index of segments");
    if (file.header.length > kMostHeader) return refuse("the movie header is too large");
    WAVECREST_TRY_ASSIGN(head, base::read_exactly(source, 0, static_cast<std::size_t>(file.header.length)));
    file.head = std::move(head);
    WAVECREST_TRY_ASSIGN(movie, read_mp4(source));
    if (movie.tracks.size() != 1) return refuse(fmt::format("the file has {} tracks, not one", movie.tracks.size()));
    const Mp4Track& track = movie.tracks.front();
    if (!track.problem.empty()) return refuse(track.problem);
    file.track = track.info;
    std::size_t next = 0;
    for (const Mp4Sample sample : track.samples) {
        if (next < file.segments.size() && sample.offset >= file.segments[next].range.offset) {
            CmafFile::Segment& segment = file.segments[next++];
            const std::uint64_t end = sample.offset + sample.size;
            if (end > segment.range.end()) return refuse("the index of segments contradicts the fragments");
            segment.keyframe = {segment.range.offset, end - segment.range.offset};
        }
    }
    if (next != file.segments.size()) return refuse("the index of segments contradicts the fragments");
    return file;
}

}  // namespace wavecrest::container
