#include "container/mp4_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>
#include <optional>

#include "bitstream/aac.hpp"
#include "container/mp4_format.hpp"
#include "media/language.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteWriter;

constexpr std::size_t kMdatHeader = 16;  // with a 64-bit size
constexpr std::size_t kWriteBuffer = 1 << 20;

// A box is opened, filled and closed; closing writes its size.
class Box {
  public:
    Box(ByteWriter& out, const char (&type)[5]) : out_(out), start_(out.size()) {
        out.u32(0);
        out.u32(fourcc(type));
    }
    // A full box: version and flags.
    Box(ByteWriter& out, const char (&type)[5], unsigned version, std::uint32_t flags) : Box(out, type) {
        out.u8(version);
        out.u24(flags);
    }
    Box(const Box&) = delete;
    Box& operator=(const Box&) = delete;
    ~Box() { out_.put_u32(start_, out_.size() - start_); }

  private:
    ByteWriter& out_;
    std::size_t start_;
};

struct Sample {
    std::uint32_t size;
    std::uint32_t duration;     // decoding time to the next sample, in the track's timescale
    std::uint32_t composition;  // presentation minus decoding time
    bool key;
};

struct Chunk {
    std::uint64_t offset;  // from the start of the media data
    std::uint32_t samples;
};

struct TrackState {
    Track track;
    std::uint32_t timescale = 0;
    std::vector<Sample> samples;
    std::vector<Chunk> chunks;
    std::int64_t first_dts = 0;
    std::int64_t first_pts = 0;
    std::int64_t last_dts = 0;
    std::int64_t end_pts = 0;
    std::int64_t media_duration = 0;
    std::uint64_t bytes = 0;
};

void write_matrix(ByteWriter& out) {
    for (const std::uint32_t v : {0x10000u, 0u, 0u, 0u, 0x10000u, 0u, 0u, 0u, 0x40000000u}) out.u32(v);
}

// Equal values in a row are written as one entry (stts, ctts).
template <typename Value>
void write_runs(ByteWriter& out, const std::vector<Sample>& samples, Value value) {
    const std::size_t count_at = out.size();
    out.u32(0);
    std::uint32_t entries = 0;
    for (std::size_t i = 0; i < samples.size();) {
        std::size_t end = i + 1;
        while (end < samples.size() && value(samples[end]) == value(samples[i])) ++end;
        out.u32(end - i);
        out.u32(value(samples[i]));
        ++entries;
        i = end;
    }
    out.put_u32(count_at, entries);
}

std::uint16_t packed_language(const std::string& language) {
    const std::string code = media::language_639_2(language);
    return static_cast<std::uint16_t>((code[0] - 0x60) << 10 | (code[1] - 0x60) << 5 | (code[2] - 0x60));
}

// A timescale in which the track's frame or sample periods are whole numbers.
std::uint32_t choose_timescale(const Track& track) {
    if (track.kind == TrackKind::audio) return static_cast<std::uint32_t>(track.sample_rate);
    const std::int64_t rate = track.frame_rate.num;
    if (rate <= 0 || rate > 240000) return 90000;
    return static_cast<std::uint32_t>(rate < 1000 ? rate * 1000 : rate);
}

}  // namespace

struct Mp4Writer::State {
    base::AtomicFile file;
    Mp4Settings settings;
    std::vector<TrackState> tracks;
    ByteVector pending;
    std::uint64_t media_bytes = 0;
    TrackId last_track = -1;
    std::optional<TrackState> chapters;  // joins the others when the length is known
    std::uint32_t timescale = 90000;     // of the movie

    State(base::AtomicFile f, Mp4Settings s) : file(std::move(f)), settings(std::move(s)) {}

    TrackState* find(TrackId id) {
        for (TrackState& t : tracks) {
            if (t.track.id == id) return &t;
        }
        return nullptr;
    }
    Status write_pending() {
        WAVECREST_TRY(file.write(pending));
        pending.clear();
        return {};
    }
    void begin_chapters();
    void end_chapters();
    std::uint64_t to_movie(std::int64_t ticks, std::uint32_t scale) const {
        return static_cast<std::uint64_t>(base::rescale(ticks, timescale, scale));
    }
    // How long the track is presented, in its own timescale: from time 0 (or its first sample) to its end or the cut.
    std::int64_t presented(const TrackState& t) const {
        std::int64_t end = t.end_pts;
        if (settings.duration.count() > 0) end = std::min(end, base::to_ticks(settings.duration, t.timescale));
        return std::max<std::int64_t>(end - std::max<std::int64_t>(t.first_pts, 0), 0);
    }
    std::uint64_t movie_duration() const {
        std::uint64_t longest = 0;
        for (const TrackState& t : tracks)
            longest = std::max(longest, to_movie(presented(t) + std::max<std::int64_t>(t.first_pts, 0), t.timescale));
        return longest;
    }
    void write_header(ByteWriter& out, std::uint64_t offset) const;
    void write_track(ByteWriter& out, const TrackState& t, std::uint32_t number, std::uint32_t text_track,
                     std::uint64_t offset) const;
    void write_sample_entry(ByteWriter& out, const TrackState& t) const;
    void write_sample_table(ByteWriter& out, const TrackState& t, std::uint64_t offset) const;
};

Mp4Writer::Mp4Writer(std::unique_ptr<State> state) : state_(std::move(state)) {}
Mp4Writer::~Mp4Writer() = default;

Result<std::unique_ptr<Mp4Writer>> Mp4Writer::create(base::AtomicFile file, std::vector<Track> tracks,
                                                     Mp4Settings settings) {
    auto state = std::make_unique<State>(std::move(file), std::move(settings));
    std::uint64_t common = 1;
    for (Track& track : tracks) {
        if (track.codec != Codec::h264 && track.codec != Codec::aac) {
            return fail(ErrorKind::input,
                        fmt::format("MP4 can't hold a track of codec {} here", media::short_name(track.codec)),
                        fmt::format("track {}", track.id), "transcode the track or leave it out");
        }
        TrackState t;
        t.timescale = choose_timescale(track);
        common = std::lcm(common, std::uint64_t{t.timescale});
        t.track = std::move(track);
        state->tracks.push_back(std::move(t));
    }
    // Edit lists count in the movie's timescale: one in which all tracks' times are whole, where it fits.
    if (common <= 10'000'000) state->timescale = static_cast<std::uint32_t>(common);

    ByteWriter header;
    header.u32(1);
    header.u32(fourcc("mdat"));
    header.u64(0);
    WAVECREST_TRY(state->file.write(header.bytes()));
    state->begin_chapters();
    return std::unique_ptr<Mp4Writer>(new Mp4Writer(std::move(state)));
}

Status Mp4Writer::write(const Packet& packet) {
    State& s = *state_;
    TrackState* t = s.find(packet.track);
    if (t == nullptr) return {};
    const std::int64_t dts = base::to_ticks(packet.dts, t->timescale);
    const std::int64_t pts = base::to_ticks(packet.pts, t->timescale);
    const std::int64_t duration = std::max<std::int64_t>(base::to_ticks(packet.duration, t->timescale), 1);
    if (t->samples.empty()) {
        t->first_dts = dts;
        t->first_pts = pts;
    } else {
        t->samples.back().duration = static_cast<std::uint32_t>(std::max<std::int64_t>(dts - t->last_dts, 0));
    }
    t->last_dts = dts;
    t->first_pts = std::min(t->first_pts, pts);
    t->end_pts = std::max(t->end_pts, pts + duration);
    t->media_duration = dts - t->first_dts + duration;
    t->samples.push_back({static_cast<std::uint32_t>(packet.data.size()), static_cast<std::uint32_t>(duration),
                          static_cast<std::uint32_t>(std::max<std::int64_t>(pts - dts, 0)), packet.key});
    if (s.last_track != packet.track) {
        t->chunks.push_back({s.media_bytes, 0});
        s.last_track = packet.track;
    }
    ++t->chunks.back().samples;
    t->bytes += packet.data.size();
    s.media_bytes += packet.data.size();
    s.pending.insert(s.pending.end(), packet.data.view().begin(), packet.data.view().end());
    return s.pending.size() >= kWriteBuffer ? s.write_pending() : Status{};
}

Status Mp4Writer::finish() {
    State& s = *state_;
    s.end_chapters();
    WAVECREST_TRY(s.write_pending());
    ByteWriter mdat;
    mdat.u32(1);
    mdat.u32(fourcc("mdat"));
    mdat.u64(kMdatHeader + s.media_bytes);
    WAVECREST_TRY(s.file.write_at(0, mdat.bytes()));

    // The header's size does not depend on the offsets in it, so it is made once to be measured and once for good.
    // A free box fills it up to whole blocks: then the body need not move (see AtomicFile::insert_front).
    ByteWriter measured;
    s.write_header(measured, 0);
    const std::size_t block = s.file.block_size();
    const std::size_t total = (measured.size() + 8 + block - 1) / block * block;
    ByteWriter header;
    s.write_header(header, total + kMdatHeader);
    {
        const Box free_space(header, "free");
        header.pad_to(total);
    }
    WAVECREST_TRY(s.file.insert_front(header.bytes()));
    return s.file.commit();
}

// Chapters are a text track whose samples last from one chapter to the next. Their text lies first in the media data,
// right behind the index, so that whoever reads the index over a network has them at once.
void Mp4Writer::State::begin_chapters() {
    if (settings.chapters.size() < 2) return;
    TrackState t;
    t.track.id = -2;
    t.track.kind = TrackKind::subtitle;
    t.track.codec = Codec::text;
    t.timescale = timescale;
    t.chunks.push_back({media_bytes, 0});
    for (const Chapter& chapter : settings.chapters) {
        ByteWriter text;
        text.u16(chapter.name.size());
        text.text(chapter.name);
        t.samples.push_back({static_cast<std::uint32_t>(text.size()), 0, 0, true});
        t.bytes += text.size();
        media_bytes += text.size();
        ++t.chunks.back().samples;
        pending.insert(pending.end(), text.bytes().begin(), text.bytes().end());
    }
    chapters = std::move(t);
}

void Mp4Writer::State::end_chapters() {
    if (!chapters) return;
    TrackState& t = *chapters;
    const auto end = static_cast<std::int64_t>(movie_duration());
    for (std::size_t i = 0; i < t.samples.size(); ++i) {
        const auto& marks = settings.chapters;
        const std::int64_t start = base::to_ticks(marks[i].start, timescale);
        const std::int64_t next = i + 1 < marks.size() ? base::to_ticks(marks[i + 1].start, timescale) : end;
        t.samples[i].duration = static_cast<std::uint32_t>(std::max<std::int64_t>(next - start, 0));
    }
    t.end_pts = t.media_duration = end;
    tracks.push_back(std::move(t));
    chapters.reset();
}

std::uint64_t Mp4Writer::size() const {
    return state_->file.size() + state_->pending.size();
}

void Mp4Writer::State::write_header(ByteWriter& out, std::uint64_t offset) const {
    {
        const Box box(out, "ftyp");
        out.text("isom");
        out.u32(0x200);
        for (const char* brand : {"isom", "iso2", "avc1", "mp41"}) out.text(brand);
    }
    const Box moov(out, "moov");
    {
        const Box box(out, "mvhd", 1, 0);
        out.u64(0);
        out.u64(0);
        out.u32(timescale);
        out.u64(movie_duration());
        out.u32(0x10000);
        out.u16(0x100);
        out.fill(10);
        write_matrix(out);
        out.fill(24);
        out.u32(tracks.size() + 1);
    }
    const bool has_chapters = !tracks.empty() && tracks.back().track.codec == Codec::text;
    const auto text_track = static_cast<std::uint32_t>(has_chapters ? tracks.size() : 0);
    std::uint32_t number = 0;
    for (const TrackState& t : tracks) write_track(out, t, ++number, text_track, offset);
    if (!settings.title.empty()) {
        const Box udta(out, "udta");
        {
            const Box box(out, "titl", 0, 0);  // 3GPP TS 26.244, 8.2
            out.u16(packed_language("und"));
            out.text(settings.title);
            out.u8(0);
        }
        if (settings.year != 0) {
            const Box box(out, "yrrc", 0, 0);
            out.u16(static_cast<std::uint64_t>(settings.year));
        }
    }
}

void Mp4Writer::State::write_track(ByteWriter& out, const TrackState& t, std::uint32_t number, std::uint32_t text_track,
                                   std::uint64_t offset) const {
    const bool video = t.track.kind == TrackKind::video, audio = t.track.kind == TrackKind::audio;
    const Box trak(out, "trak");
    {
        const Box box(out, "tkhd", 1, video || audio ? kTrackEnabled | kTrackInMovie : 0);
        out.u64(0);
        out.u64(0);
        out.u32(number);
        out.u32(0);
        out.u64(to_movie(presented(t) + std::max<std::int64_t>(t.first_pts, 0), t.timescale));
        out.fill(8);
        out.u16(0);
        out.u16(audio ? 1 : 0);  // alternate group: one audio track at a time
        out.u16(audio ? 0x100 : 0);
        out.u16(0);
        write_matrix(out);
        // As it is to be shown: wide pixels widen the picture.
        out.u32(video ? static_cast<std::uint64_t>(
                            base::rescale(t.track.width * 65536LL, t.track.pixel_aspect.num, t.track.pixel_aspect.den))
                      : 0);
        out.u32(video ? static_cast<std::uint64_t>(t.track.height) << 16 : 0);
    }
    if (video && text_track != 0) {
        const Box tref(out, "tref");
        const Box box(out, "chap");
        out.u32(text_track);
    }
    {
        const Box edts(out, "edts");
        const Box box(out, "elst", 1, 0);
        const bool late = t.first_pts > 0;
        out.u32(late ? 2 : 1);
        if (late) {
            out.u64(to_movie(t.first_pts, t.timescale));
            out.u64(~0ull);
            out.u32(0x10000);
        }
        out.u64(to_movie(presented(t), t.timescale));
        out.u64(static_cast<std::uint64_t>(std::max<std::int64_t>(t.first_pts, 0) - t.first_dts));
        out.u32(0x10000);
    }
    const Box mdia(out, "mdia");
    {
        const Box box(out, "mdhd", 1, 0);
        out.u64(0);
        out.u64(0);
        out.u32(t.timescale);
        out.u64(static_cast<std::uint64_t>(t.media_duration));
        out.u16(packed_language(t.track.language));
        out.u16(0);
    }
    {
        const Box box(out, "hdlr", 0, 0);
        out.u32(0);
        out.text(video ? "vide" : audio ? "soun" : "text");
        out.fill(12);
        out.text(video ? "Picture" : audio ? "Sound" : "Chapters");
        out.u8(0);
    }
    const Box minf(out, "minf");
    if (video) {
        const Box box(out, "vmhd", 0, 1);
        out.fill(8);
    } else if (audio) {
        const Box box(out, "smhd", 0, 0);
        out.fill(4);
    } else {
        const Box box(out, "nmhd", 0, 0);
    }
    {
        const Box dinf(out, "dinf");
        const Box dref(out, "dref", 0, 0);
        out.u32(1);
        const Box url(out, "url ", 0, 1);  // the data is in this file
    }
    write_sample_table(out, t, offset);
}

void Mp4Writer::State::write_sample_entry(ByteWriter& out, const TrackState& t) const {
    const Track& track = t.track;
    const double seconds = static_cast<double>(t.media_duration) / t.timescale;
    const auto mean = static_cast<std::uint64_t>(seconds > 0 ? static_cast<double>(t.bytes) * 8 / seconds : 0);
    if (track.kind == TrackKind::video) {
        const Box entry(out, "avc1");
        out.fill(6);
        out.u16(1);
        out.fill(16);
        out.u16(static_cast<std::uint64_t>(track.width));
        out.u16(static_cast<std::uint64_t>(track.height));
        out.u32(0x480000);
        out.u32(0x480000);
        out.u32(0);
        out.u16(1);
        out.fill(32);
        out.u16(24);
        out.u16(0xFFFF);
        {
            const Box box(out, "avcC");
            out.raw(track.codec_config.view());
        }
        {
            const Box box(out, "pasp");
            out.u32(static_cast<std::uint64_t>(track.pixel_aspect.num));
            out.u32(static_cast<std::uint64_t>(track.pixel_aspect.den));
        }
        if (track.colour.matrix != 2) {
            const Box box(out, "colr");
            out.text("nclx");
            out.u16(static_cast<std::uint64_t>(track.colour.primaries));
            out.u16(static_cast<std::uint64_t>(track.colour.transfer));
            out.u16(static_cast<std::uint64_t>(track.colour.matrix));
            out.u8(track.colour.full_range ? 0x80 : 0);
        }
    } else if (track.kind == TrackKind::audio) {
        const Box entry(out, "mp4a");
        out.fill(6);
        out.u16(1);
        out.fill(8);
        out.u16(static_cast<std::uint64_t>(track.channels));
        out.u16(16);
        out.fill(4);
        out.u32(static_cast<std::uint64_t>(track.sample_rate) << 16);
        const Box esds(out, "esds", 0, 0);
        const std::size_t config = track.codec_config.size();
        out.u8(kEsDescriptor);
        out.u8(3 + 2 + 13 + 2 + config + 3);
        out.u16(0);
        out.u8(0);
        out.u8(kDecoderConfig);
        out.u8(13 + 2 + config);
        out.u8(kObjectAac);
        out.u8(5 << 2 | 1);                                              // audio stream
        out.u24(6144 * static_cast<std::uint64_t>(track.channels) / 8);  // decoder input buffer
        out.u32(mean);
        out.u32(mean);
        out.u8(kDecoderSpecific);
        out.u8(config);
        out.raw(track.codec_config.view());
        out.u8(kSlConfig);
        out.u8(1);
        out.u8(2);
    } else {
        const Box entry(out, "tx3g");  // 3GPP TS 26.245, 5.16
        out.fill(6);
        out.u16(1);
        out.u32(0);
        out.u8(1);
        out.u8(0xFF);
        out.u32(0);
        out.fill(8);
        out.fill(4);
        out.u16(1);
        out.u8(0);
        out.u8(12);
        out.u32(0xFFFFFFFF);
        const Box fonts(out, "ftab");
        out.u16(1);
        out.u16(1);
        out.u8(5);
        out.text("Serif");
    }
}

void Mp4Writer::State::write_sample_table(ByteWriter& out, const TrackState& t, std::uint64_t offset) const {
    const Box stbl(out, "stbl");
    {
        const Box box(out, "stsd", 0, 0);
        out.u32(1);
        write_sample_entry(out, t);
    }
    {
        const Box box(out, "stts", 0, 0);
        write_runs(out, t.samples, [](const Sample& s) { return s.duration; });
    }
    if (std::any_of(t.samples.begin(), t.samples.end(), [](const Sample& s) { return s.composition != 0; })) {
        const Box box(out, "ctts", 0, 0);
        write_runs(out, t.samples, [](const Sample& s) { return s.composition; });
    }
    if (!std::all_of(t.samples.begin(), t.samples.end(), [](const Sample& s) { return s.key; })) {
        const Box box(out, "stss", 0, 0);
        out.u32(static_cast<std::uint64_t>(
            std::count_if(t.samples.begin(), t.samples.end(), [](const Sample& s) { return s.key; })));
        for (std::size_t i = 0; i < t.samples.size(); ++i) {
            if (t.samples[i].key) out.u32(i + 1);
        }
    }
    {
        const Box box(out, "stsz", 0, 0);
        out.u32(0);
        out.u32(t.samples.size());
        for (const Sample& s : t.samples) out.u32(s.size);
    }
    {
        const Box box(out, "stsc", 0, 0);
        const std::size_t count_at = out.size();
        out.u32(0);
        std::uint32_t entries = 0;
        for (std::size_t i = 0; i < t.chunks.size(); ++i) {
            if (i > 0 && t.chunks[i].samples == t.chunks[i - 1].samples) continue;
            out.u32(i + 1);
            out.u32(t.chunks[i].samples);
            out.u32(1);
            ++entries;
        }
        out.put_u32(count_at, entries);
    }
    if (media_bytes < 0xF0000000) {
        const Box box(out, "stco", 0, 0);
        out.u32(t.chunks.size());
        for (const Chunk& c : t.chunks) out.u32(offset + c.offset);
    } else {
        const Box box(out, "co64", 0, 0);
        out.u32(t.chunks.size());
        for (const Chunk& c : t.chunks) out.u64(offset + c.offset);
    }
    if (t.track.codec == Codec::aac) {
        // Each AAC frame needs the one before it to be decoded rightly (14496-12, 10.1).
        {
            const Box box(out, "sgpd", 1, 0);
            out.text("roll");
            out.u32(2);
            out.u32(1);
            out.u16(0xFFFF);  // -1
        }
        const Box box(out, "sbgp", 0, 0);
        out.text("roll");
        out.u32(1);
        out.u32(t.samples.size());
        out.u32(1);
    }
}

}  // namespace wavecrest::container
