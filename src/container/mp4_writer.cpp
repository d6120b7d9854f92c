#include "container/mp4_writer.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <numeric>
#include <optional>

#include "base/atomic_file.hpp"
#include "base/bits.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/xiph.hpp"
#include "container/mp4_format.hpp"
#include "container/mp4_tables.hpp"
#include "container/sample_index.hpp"
#include "media/language.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteWriter;

constexpr std::size_t kMdatHeader = 16;  // with a 64-bit size
constexpr std::size_t kWriteBuffer = 1 << 20;
constexpr TrackId kChapterTrack = -2;

struct TrackState {
    Track track;
    std::uint32_t timescale = 0;
    SampleIndex samples;            // of the fragment, or of the whole; offsets count from the start of the media data
    std::int64_t fragment_dts = 0;  // of this fragment's first sample, from 0
    std::int64_t text_end = 0;      // of the last cue
    bool begun = false, described = false;
    std::int64_t first_dts = 0;
    std::int64_t first_pts = 0;
    std::int64_t last_dts = 0;
    std::int64_t end_pts = 0;
    std::int64_t media_duration = 0;
    std::uint64_t bytes = 0;
};

// The picture turned clockwise by so many degrees (8.3.2.3).
void write_matrix(ByteWriter& out, int rotation = 0) {
    const std::uint32_t one = 0x10000, minus = 0xFFFF0000;
    const std::uint32_t a = rotation == 0 ? one : rotation == 180 ? minus : 0;
    const std::uint32_t b = rotation == 90 ? one : rotation == 270 ? minus : 0;
    const std::uint32_t c = b == 0 ? 0 : b == one ? minus : one;
    for (const std::uint32_t v : {a, b, 0u, c, a, 0u, 0u, 0u, 0x40000000u}) out.u32(v);
}

std::uint16_t packed_language(const std::string& language) {
    const std::string code = media::language_639_2(language);
    return static_cast<std::uint16_t>((code[0] - 0x60) << 10 | (code[1] - 0x60) << 5 | (code[2] - 0x60));
}

// ES_Descriptor with its decoder configuration (14496-1, 7.2.6.5).
void write_esds(ByteWriter& out, int object_type, int stream_type, std::uint64_t buffer, std::uint64_t mean,
                ByteSpan config) {
    const Box esds(out, "esds", 0, 0);
    const auto descriptor = [&](std::uint8_t tag, std::size_t size) {
        out.u8(tag);
        // Always four bytes: configurations of video may be long.
        for (int shift = 21; shift > 0; shift -= 7) out.u8(0x80 | (size >> shift & 0x7F));
        out.u8(size & 0x7F);
    };
    const std::size_t specific = config.empty() ? 0 : 5 + config.size();
    descriptor(kEsDescriptor, 3 + 5 + 13 + specific + 5 + 1);
    out.u16(0);
    out.u8(0);
    descriptor(kDecoderConfig, 13 + specific);
    out.u8(static_cast<unsigned>(object_type));
    out.u8(static_cast<unsigned>(stream_type) << 2 | 1);
    out.u24(buffer);
    out.u32(mean);
    out.u32(mean);
    if (!config.empty()) {
        descriptor(kDecoderSpecific, config.size());
        out.raw(config);
    }
    descriptor(kSlConfig, 1);
    out.u8(2);
}

void write_video_entry(ByteWriter& out, const Track& track, std::uint64_t mean) {
    const char(*type)[5] = &"mp4v";
    if (track.codec == Codec::h264) type = &"avc1";
    if (track.codec == Codec::h265) type = &"hvc1";
    if (track.codec == Codec::av1) type = &"av01";
    if (track.codec == Codec::vp9) type = &"vp09";
    const Box entry(out, *type);
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
    const ByteSpan config = track.codec_config.view();
    switch (track.codec) {
        case Codec::h264: {
            const Box box(out, "avcC");
            out.raw(config);
            break;
        }
        case Codec::h265: {
            const Box box(out, "hvcC");
            out.raw(config);
            break;
        }
        case Codec::av1: {
            const Box box(out, "av1C");
            out.raw(config);
            break;
        }
        case Codec::vp9: {
            const Box box(out, "vpcC", 1, 0);
            out.raw(config);
            break;
        }
        default:
            write_esds(out,
                       track.codec == Codec::mpeg1   ? kObjectMpeg1
                       : track.codec == Codec::mpeg2 ? kObjectMpeg2Main
                                                     : kObjectMpeg4Video,
                       kVisualStream, 0, mean, config);
    }
    {
        const Box box(out, "pasp");
        out.u32(static_cast<std::uint64_t>(track.pixel_aspect.num));
        out.u32(static_cast<std::uint64_t>(track.pixel_aspect.den));
    }
    if (track.colour.matrix != 2 || track.colour.primaries != 2 || track.colour.transfer != 2) {
        const Box box(out, "colr");
        out.text("nclx");
        out.u16(static_cast<std::uint64_t>(track.colour.primaries));
        out.u16(static_cast<std::uint64_t>(track.colour.transfer));
        out.u16(static_cast<std::uint64_t>(track.colour.matrix));
        out.u8(track.colour.full_range ? 0x80 : 0);
    }
    if (const auto& display = track.mastering_display) {
        const Box box(out, "mdcv");  // 14496-12, 12.1.7; green, blue, red
        for (const int i : {1, 2, 0}) {
            out.u16(static_cast<std::uint64_t>(display->primaries_x[i]));
            out.u16(static_cast<std::uint64_t>(display->primaries_y[i]));
        }
        out.u16(static_cast<std::uint64_t>(display->white_x));
        out.u16(static_cast<std::uint64_t>(display->white_y));
        out.u32(static_cast<std::uint64_t>(display->max_luminance));
        out.u32(static_cast<std::uint64_t>(display->min_luminance));
    }
    if (track.content_light) {
        const Box box(out, "clli");
        out.u16(static_cast<std::uint64_t>(track.content_light->max_content));
        out.u16(static_cast<std::uint64_t>(track.content_light->max_frame_average));
    }
}

// DTSSpecificBox (ETSI TS 102 114, annex E.2.2.3).
void write_dts_box(ByteWriter& out, const Track& track, std::uint64_t mean) {
    const Box box(out, "ddts");
    const bool low = (track.speakers & media::speaker::kLowFrequency) != 0;
    base::BitWriter bits;
    bits.bits(static_cast<std::uint32_t>(track.sample_rate), 32);
    bits.bits(static_cast<std::uint32_t>(mean), 32);
    bits.bits(static_cast<std::uint32_t>(mean), 32);
    bits.bits(24, 8);                             // sample depth
    bits.bits(0, 2);                              // 512 samples a frame
    bits.bits(track.profile.empty() ? 1 : 2, 5);  // core alone, or with an extension behind it
    bits.bits(low ? 1 : 0, 1);
    bits.bits(track.channels - (low ? 1 : 0) >= 5 ? 9 : track.channels == 1 ? 0 : 2, 6);
    bits.bits(0, 14);
    bits.bits(0, 1);
    bits.bits(0, 3);
    bits.bits(0, 16);
    bits.bits(0, 1 + 1 + 1 + 5);
    out.raw(bits.release());
}

void write_audio_entry(ByteWriter& out, const Track& track, std::uint64_t mean) {
    const char(*type)[5] = &"mp4a";
    if (track.codec == Codec::ac3) type = &"ac-3";
    if (track.codec == Codec::eac3) type = &"ec-3";
    if (track.codec == Codec::dts) type = &"dtsc";
    if (track.codec == Codec::flac) type = &"fLaC";
    if (track.codec == Codec::opus) type = &"Opus";
    if (track.codec == Codec::lpcm) type = &"ipcm";
    const Box entry(out, *type);
    out.fill(6);
    out.u16(1);
    out.fill(8);
    out.u16(static_cast<std::uint64_t>(track.channels));
    out.u16(track.bit_depth > 0 ? static_cast<std::uint64_t>(track.bit_depth) : 16);
    out.fill(4);
    // Rates above 65535 Hz don't fit; the codec's own configuration counts for them.
    out.u32(track.sample_rate <= 0xFFFF ? static_cast<std::uint64_t>(track.sample_rate) << 16 : 0);
    const ByteSpan config = track.codec_config.view();
    switch (track.codec) {
        case Codec::ac3: {
            const Box box(out, "dac3");
            out.raw(config);
            break;
        }
        case Codec::eac3: {
            const Box box(out, "dec3");
            out.raw(config);
            break;
        }
        case Codec::dts:
            write_dts_box(out, track, mean);
            break;
        case Codec::flac: {
            const Box box(out, "dfLa", 0, 0);
            out.u32(0x80000000u | config.size());
            out.raw(config);
            break;
        }
        case Codec::opus: {
            const Box box(out, "dOps");
            if (const auto head = bitstream::parse_opus_head(config)) out.raw(bitstream::make_opus_box(*head));
            break;
        }
        case Codec::lpcm: {
            const Box box(out, "pcmC", 0, 0);  // ISO/IEC 23003-5, 5.3
            out.u8(0);
            out.u8(track.bit_depth == 20 ? 24 : static_cast<std::uint64_t>(track.bit_depth));
            break;
        }
        case Codec::mp2:
        case Codec::mp3:
            write_esds(out, track.sample_rate >= 32000 ? kObjectMpeg1Audio : kObjectMpeg2Audio, kAudioStream, 0, mean,
                       {});
            break;
        default:
            write_esds(out, kObjectAac, kAudioStream, 6144 * static_cast<std::uint64_t>(track.channels) / 8, mean,
                       config);
    }
}

// WebVTT (ISO/IEC 14496-30, 6.4), as CMAF has text.
void write_web_vtt_entry(ByteWriter& out) {
    const Box entry(out, "wvtt");
    out.fill(6);
    out.u16(1);
    const Box config(out, "vttC");
    out.text("WEBVTT");
}

// Timed text (3GPP TS 26.245, 5.16): white on clear, at the foot of the picture.
void write_text_entry(ByteWriter& out, const Track& track) {
    const Box entry(out, "tx3g");
    out.fill(6);
    out.u16(1);
    out.u32(track.forced ? kSomeForced | kAllForced : 0);
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

}  // namespace

std::uint32_t track_timescale(const Track& track) {
    if (track.kind == TrackKind::audio) return static_cast<std::uint32_t>(track.sample_rate);
    if (track.kind == TrackKind::subtitle) return 90000;
    const std::int64_t rate = track.frame_rate.num;
    if (rate <= 0 || rate > 240000) return 90000;
    // (Fields may be shown for half a picture's time.)
    const std::int64_t fields = track.scan == Scan::progressive ? 1 : 2;
    return static_cast<std::uint32_t>(rate < 1000 ? rate * 1000 : rate * fields);
}

struct Mp4Writer::State {
    std::unique_ptr<base::ByteSink> file;
    WriterSettings settings;
    std::vector<TrackState> tracks;
    ByteVector pending;
    std::uint64_t media_bytes = 0;
    TrackId last_track = -1;
    std::vector<std::uint32_t> chapter_sizes;
    std::optional<TrackState> chapters;  // joins the others when the length is known
    std::uint32_t timescale = 90000;     // of the movie

    struct RandomAccess {
        std::uint32_t track;
        std::int64_t dts;
        std::uint64_t moof;  // offset in the file
    };
    std::vector<RandomAccess> random_access;
    bool fragment_begun = false, header_written = false;
    Time fragment_from{};
    std::uint32_t fragment_number = 0;
    std::size_t duration_field = 0;  // of the movie extends header, in the file

    State(std::unique_ptr<base::ByteSink> f, WriterSettings s) : file(std::move(f)), settings(std::move(s)) {}

    TrackState* find(TrackId id) {
        for (TrackState& t : tracks) {
            if (t.track.id == id) return &t;
        }
        return nullptr;
    }
    Status write_pending() {
        WAVECREST_TRY(file->write(pending));
        pending.clear();
        return {};
    }
    bool fragmented() const { return settings.fragments.count() > 0; }
    bool has_video() const {
        return std::any_of(tracks.begin(), tracks.end(),
                           [](const TrackState& t) { return t.track.kind == TrackKind::video; });
    }
    // Decoding times of CMAF tracks count from time 0 of the title, or from their first where that is before it: what
    // begins later does so by its times, since players of segments pass over empty edits.
    static std::int64_t cmaf_zero(const TrackState& t) { return std::min<std::int64_t>(t.first_dts, 0); }
    Status add(TrackState& t, const Packet& packet);
    Status add_text(TrackState& t, const Packet& packet);
    Status write_fragment();
    Status finish_fragments();
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
    void write_header(ByteWriter& out, std::uint64_t offset);
    void write_track(ByteWriter& out, const TrackState& t, std::uint32_t number, std::uint32_t text_track,
                     std::uint64_t offset) const;
    void write_sample_entry(ByteWriter& out, const TrackState& t) const;
    void write_sample_table(ByteWriter& out, const TrackState& t, std::uint64_t offset) const;
};

Mp4Writer::Mp4Writer(std::unique_ptr<State> state) : state_(std::move(state)) {}
Mp4Writer::~Mp4Writer() = default;

Result<std::unique_ptr<Mp4Writer>> Mp4Writer::create(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                                     WriterSettings settings) {
    auto state = std::make_unique<State>(std::move(file), std::move(settings));
    std::uint64_t common = 1;
    for (Track& track : tracks) {
        if (const std::string why = why_not("mp4", track); !why.empty())
            return fail(ErrorKind::input, why, fmt::format("track {}", track.id),
                        "transcode the track or leave it out");
        TrackState t;
        t.timescale = track_timescale(track);
        common = std::lcm(common, std::uint64_t{t.timescale});
        t.track = std::move(track);
        state->tracks.push_back(std::move(t));
    }
    // Edit lists count in the movie's timescale: one in which all tracks' times are whole, where it fits.
    if (common <= 10'000'000) state->timescale = static_cast<std::uint32_t>(common);

    if (!state->fragmented()) {
        ByteWriter header;
        header.u32(1);
        header.u32(fourcc("mdat"));
        header.u64(0);
        WAVECREST_TRY(state->file->write(header.bytes()));
        state->begin_chapters();
    }
    return std::unique_ptr<Mp4Writer>(new Mp4Writer(std::move(state)));
}

Status Mp4Writer::write(const Packet& packet) {
    State& s = *state_;
    TrackState* t = s.find(packet.track);
    if (t == nullptr) return {};
    // (CMAF's samples of text are made by cmaf_text().)
    if (t->track.kind == TrackKind::subtitle && !s.settings.cmaf) return s.add_text(*t, packet);
    return s.add(*t, packet);
}

// Cues become samples without a gap: empty ones stand for the time between.
Status Mp4Writer::State::add_text(TrackState& t, const Packet& packet) {
    const auto sample = [&](Time from, Time to, ByteSpan text) {
        ByteWriter body;
        body.u16(text.size());
        body.raw(text);
        Packet whole;
        whole.track = packet.track;
        whole.pts = whole.dts = from;
        whole.duration = to - from;
        whole.key = true;
        whole.data = Bytes(body.release());
        return add(t, whole);
    };
    const Time reached = base::from_ticks(t.text_end, t.timescale);
    const Time from = std::max(packet.pts, reached), to = packet.pts + packet.duration;
    if (to <= from || packet.data.size() > 0xFFFF) return {};
    if (from > reached) WAVECREST_TRY(sample(reached, from, {}));
    t.text_end = base::to_ticks(to, t.timescale);
    return sample(from, base::from_ticks(t.text_end, t.timescale), packet.data.view());
}

Status Mp4Writer::State::add(TrackState& t, const Packet& packet) {
    if (packet.data.size() > SampleIndex::kLargestSample)
        return fail(ErrorKind::input, "a packet is larger than MP4 supports", fmt::format("track {}", packet.track),
                    "leave the track out");
    if (fragmented() && packet.key && (t.track.kind == TrackKind::video || !has_video())) {
        if (fragment_begun && packet.dts - fragment_from >= settings.fragments) WAVECREST_TRY(write_fragment());
    }
    // Decoding times never go back: behind a step back in damaged input samples share one until the times are ahead of
    // it again. (A step left out would keep all that follows behind the other tracks.)
    const std::int64_t dts = t.begun ? std::max(base::to_ticks(packet.dts, t.timescale), t.last_dts)
                                     : base::to_ticks(packet.dts, t.timescale);
    const std::int64_t pts = base::to_ticks(packet.pts, t.timescale);
    const std::int64_t duration = std::max<std::int64_t>(base::to_ticks(packet.duration, t.timescale), 1);
    if (!t.begun) {
        t.begun = true;
        t.first_dts = dts;
        t.first_pts = pts;
    } else if (!t.samples.empty()) {
        t.samples.set_last_duration(static_cast<std::uint32_t>(dts - t.last_dts));
    }
    if (!fragment_begun) {
        fragment_begun = true;
        fragment_from = packet.dts;
    }
    t.last_dts = dts;
    t.first_pts = std::min(t.first_pts, pts);
    t.end_pts = std::max(t.end_pts, pts + duration);
    t.media_duration = dts - t.first_dts + duration;
    if (last_track != packet.track || t.samples.empty()) {
        if (t.samples.empty()) t.fragment_dts = dts - (settings.cmaf ? cmaf_zero(t) : t.first_dts);
        t.samples.begin_chunk(media_bytes, dts - t.first_dts);
        last_track = packet.track;
    }
    t.samples.add(static_cast<std::uint32_t>(packet.data.size()), packet.key, static_cast<std::uint32_t>(duration),
                  static_cast<std::int32_t>(std::clamp<std::int64_t>(pts - dts, INT32_MIN, INT32_MAX)));
    t.bytes += packet.data.size();
    media_bytes += packet.data.size();
    if (t.track.codec_config.empty() || !t.described) {
        bitstream::describe_headers(t.track, packet.data.view());
        t.described = true;
    }
    pending.insert(pending.end(), packet.data.view().begin(), packet.data.view().end());
    return !fragmented() && pending.size() >= kWriteBuffer ? write_pending() : Status{};
}

Status Mp4Writer::finish() {
    State& s = *state_;
    if (s.fragmented()) return s.finish_fragments();
    s.end_chapters();
    WAVECREST_TRY(s.write_pending());
    ByteWriter mdat;
    mdat.u32(1);
    mdat.u32(fourcc("mdat"));
    mdat.u64(kMdatHeader + s.media_bytes);
    WAVECREST_TRY(s.file->write_at(0, mdat.bytes()));

    // The header's size does not depend on the offsets in it, so it is made once to be measured and once for good.
    // A free box fills it up to whole blocks: then the body need not move (see AtomicFile::insert_front).
    std::size_t total = 0;
    {
        ByteWriter measured;
        s.write_header(measured, 0);
        const std::size_t block = s.file->block_size();
        total = (measured.size() + 8 + block - 1) / block * block;
    }
    ByteWriter header;
    s.write_header(header, total + kMdatHeader);
    {
        const Box free_space(header, "free");
        header.pad_to(total);
    }
    WAVECREST_TRY(s.file->insert_front(header.bytes()));
    return s.file->commit();
}

Status Mp4Writer::end_fragment() {
    return state_->fragment_begun ? state_->write_fragment() : Status{};
}

// One movie fragment and its media data; the movie box before the first, when the tracks' beginnings are known.
Status Mp4Writer::State::write_fragment() {
    ByteWriter out;
    if (!header_written) {
        write_header(out, 0);
        header_written = true;
    }
    const std::size_t moof_at = out.size();
    std::vector<std::size_t> offset_fields;
    {
        const Box moof(out, "moof");
        {
            const Box box(out, "mfhd", 0, 0);
            out.u32(++fragment_number);
        }
        std::uint32_t number = 0;
        for (TrackState& t : tracks) {
            ++number;
            if (t.samples.empty()) continue;
            const Box traf(out, "traf");
            {
                const Box box(out, "tfhd", 0, 0x020000);  // offsets count from the fragment
                out.u32(number);
            }
            {
                const Box box(out, "tfdt", 1, 0);
                out.u64(static_cast<std::uint64_t>(t.fragment_dts));
            }
            // A run for each interval of the media data.
            std::size_t sample = 0;
            for (std::size_t chunk = 0; chunk < t.samples.chunks(); ++chunk) {
                const std::size_t count = t.samples.chunk_samples(chunk);
                const Box box(out, "trun", 1, 0x01 | 0x100 | 0x200 | 0x400 | 0x800);
                out.u32(count);
                offset_fields.push_back(out.size());
                out.u32(t.samples.chunk_offset(chunk));
                auto cursor = t.samples.at(sample);
                for (std::size_t i = 0; i < count; ++i, ++cursor) {
                    out.u32(cursor->duration);
                    out.u32(cursor->size);
                    out.u32(cursor->key ? 0x02000000 : 0x01010000);
                    out.u32(static_cast<std::uint32_t>(cursor->composition));
                }
                sample += count;
            }
            if (t.track.kind == TrackKind::video || !has_video()) {
                if (t.samples.begin()->key) random_access.push_back({number, t.fragment_dts, file->size() + moof_at});
            }
        }
    }
    const std::size_t moof_size = out.size() - moof_at;
    for (const std::size_t field : offset_fields) {
        base::ByteReader old(ByteSpan(out.bytes()).subspan(field, 4));
        out.put_u32(field, old.u32() + moof_size + 8);
    }
    out.u32(8 + pending.size());
    out.u32(fourcc("mdat"));
    WAVECREST_TRY(file->write(out.bytes()));
    WAVECREST_TRY(write_pending());
    for (TrackState& t : tracks) t.samples = {};
    media_bytes = 0;
    last_track = -1;
    fragment_begun = false;
    return {};
}

Status Mp4Writer::State::finish_fragments() {
    WAVECREST_TRY(write_fragment());
    // Where fragments begin, for skipping without a search (14496-12, 8.8.9).
    ByteWriter out;
    {
        const Box mfra(out, "mfra");
        std::uint32_t number = 0;
        for ([[maybe_unused]] const TrackState& t : tracks) {
            ++number;
            const auto count = std::count_if(random_access.begin(), random_access.end(),
                                             [&](const RandomAccess& r) { return r.track == number; });
            if (count == 0) continue;
            const Box box(out, "tfra", 1, 0);
            out.u32(number);
            out.u32(0);  // numbers of one byte
            out.u32(static_cast<std::uint64_t>(count));
            for (const RandomAccess& r : random_access) {
                if (r.track != number) continue;
                out.u64(static_cast<std::uint64_t>(r.dts));
                out.u64(r.moof);
                out.u24(0x010101);
            }
        }
        const std::size_t size = out.size() + 16;
        const Box box(out, "mfro", 0, 0);
        out.u32(size);
    }
    WAVECREST_TRY(file->write(out.bytes()));
    if (duration_field > 0 && file->seeks_back()) {
        ByteWriter length;
        length.u64(movie_duration());
        WAVECREST_TRY(file->write_at(duration_field, length.bytes()));
    }
    return file->commit();
}

// Chapters are a text track whose samples last from one chapter to the next. Their text lies first in the media data,
// right behind the index, so that whoever reads the index over a network has them at once.
void Mp4Writer::State::begin_chapters() {
    if (settings.chapters.size() < 2) return;
    TrackState t;
    t.track.id = kChapterTrack;
    t.track.kind = TrackKind::subtitle;
    t.track.codec = Codec::text;
    t.timescale = timescale;
    t.samples.begin_chunk(media_bytes, 0);
    for (const Chapter& chapter : settings.chapters) {
        ByteWriter text;
        text.u16(chapter.name.size());
        text.text(chapter.name);
        chapter_sizes.push_back(static_cast<std::uint32_t>(text.size()));
        t.bytes += text.size();
        media_bytes += text.size();
        pending.insert(pending.end(), text.bytes().begin(), text.bytes().end());
    }
    chapters = std::move(t);
}

void Mp4Writer::State::end_chapters() {
    if (!chapters) return;
    TrackState& t = *chapters;
    const auto end = static_cast<std::int64_t>(movie_duration());
    for (std::size_t i = 0; i < chapter_sizes.size(); ++i) {
        const auto& marks = settings.chapters;
        const std::int64_t start = base::to_ticks(marks[i].start, timescale);
        const std::int64_t next = i + 1 < marks.size() ? base::to_ticks(marks[i + 1].start, timescale) : end;
        t.samples.add(chapter_sizes[i], true, static_cast<std::uint32_t>(std::max<std::int64_t>(next - start, 0)), 0);
    }
    t.end_pts = t.media_duration = end;
    tracks.push_back(std::move(t));
    chapters.reset();
}

std::uint64_t Mp4Writer::size() const {
    return state_->file->size() + state_->pending.size();
}

void Mp4Writer::State::write_header(ByteWriter& out, std::uint64_t offset) {
    {
        const Box box(out, "ftyp");
        out.text("isom");
        out.u32(0x200);
        for (const char* brand : {"isom", "iso2", "mp41"}) out.text(brand);
        const auto holds = [&](Codec codec) {
            return std::any_of(tracks.begin(), tracks.end(),
                               [&](const TrackState& t) { return t.track.codec == codec; });
        };
        if (holds(Codec::h264)) out.text("avc1");
        if (holds(Codec::av1)) out.text("av01");
        if (fragmented()) out.text("iso6");
        if (settings.cmaf) out.text("cmfc");
    }
    const Box moov(out, "moov");
    {
        const Box box(out, "mvhd", 1, 0);
        out.u64(0);
        out.u64(0);
        out.u32(timescale);
        out.u64(fragmented() ? 0 : movie_duration());
        out.u32(0x10000);
        out.u16(0x100);
        out.fill(10);
        write_matrix(out);
        out.fill(24);
        out.u32(tracks.size() + 1);
    }
    const bool has_chapters = !tracks.empty() && tracks.back().track.id == kChapterTrack;
    const auto text_track = static_cast<std::uint32_t>(has_chapters ? tracks.size() : 0);
    std::uint32_t number = 0;
    for (const TrackState& t : tracks) write_track(out, t, ++number, text_track, offset);
    if (fragmented()) {
        const Box mvex(out, "mvex");
        {
            const Box box(out, "mehd", 1, 0);
            duration_field = out.size();
            out.u64(0);
        }
        for (std::uint32_t i = 1; i <= tracks.size(); ++i) {
            const Box box(out, "trex", 0, 0);
            out.u32(i);
            out.u32(1);
            out.fill(12);
        }
    }
    const media::Tags& tags = settings.tags;
    if (!settings.title.empty() || !tags.empty()) {
        // 3GPP TS 26.244, 8: texts with their language.
        const Box udta(out, "udta");
        const auto text = [&](const char(&type)[5], const std::string& value) {
            if (value.empty()) return;
            const Box box(out, type, 0, 0);
            out.u16(packed_language("und"));
            out.text(value);
            out.u8(0);
            if (std::string_view(type) == "albm" && tags.number > 0 && tags.number < 256)
                out.u8(static_cast<unsigned>(tags.number));
        };
        text("titl", tags.title.empty() ? settings.title : tags.title);
        text("perf", tags.performer);
        text("albm", tags.album);
        text("gnre", tags.genre);
        const int year = settings.year != 0 ? settings.year : std::atoi(tags.date.c_str());
        if (year > 0 && year < 65536) {
            const Box box(out, "yrrc", 0, 0);
            out.u16(static_cast<std::uint64_t>(year));
        }
    }
}

void Mp4Writer::State::write_track(ByteWriter& out, const TrackState& t, std::uint32_t number, std::uint32_t text_track,
                                   std::uint64_t offset) const {
    const bool video = t.track.kind == TrackKind::video, audio = t.track.kind == TrackKind::audio;
    const Box trak(out, "trak");
    {
        const bool chapters_only = t.track.id == kChapterTrack;
        const Box box(out, "tkhd", 1, chapters_only ? 0 : kTrackInMovie | (t.track.preferred ? kTrackEnabled : 0));
        out.u64(0);
        out.u64(0);
        out.u32(number);
        out.u32(0);
        out.u64(fragmented() ? 0 : to_movie(presented(t) + std::max<std::int64_t>(t.first_pts, 0), t.timescale));
        out.fill(8);
        out.u16(0);
        out.u16(audio ? 1 : video ? 0 : 2);  // alternate groups: one audio track at a time
        out.u16(audio ? 0x100 : 0);
        out.u16(0);
        write_matrix(out, video ? t.track.rotation : 0);
        // As it is to be shown: wide pixels widen the picture.
        out.u32(video ? static_cast<std::uint64_t>(
                            base::rescale(t.track.width * 65536LL, t.track.pixel_aspect.num, t.track.pixel_aspect.den))
                      : 0);
        out.u32(video ? static_cast<std::uint64_t>(t.track.height) << 16 : 0);
    }
    if ((video || (audio && number == 1)) && text_track != 0) {
        const Box tref(out, "tref");
        const Box box(out, "chap");
        out.u32(text_track);
    }
    {
        const Box edts(out, "edts");
        const Box box(out, "elst", 1, 0);
        const bool late = t.first_pts > 0 && !settings.cmaf;
        out.u32(late ? 2 : 1);
        if (late) {
            out.u64(to_movie(t.first_pts, t.timescale));
            out.u64(~0ull);
            out.u32(0x10000);
        }
        out.u64(fragmented() ? 0 : to_movie(presented(t), t.timescale));
        out.u64(static_cast<std::uint64_t>(settings.cmaf ? -cmaf_zero(t)
                                                         : std::max<std::int64_t>(t.first_pts, 0) - t.first_dts));
        out.u32(0x10000);
    }
    const Box mdia(out, "mdia");
    {
        const Box box(out, "mdhd", 1, 0);
        out.u64(0);
        out.u64(0);
        out.u32(t.timescale);
        out.u64(fragmented() ? 0 : static_cast<std::uint64_t>(t.media_duration));
        out.u16(packed_language(t.track.language));
        out.u16(0);
    }
    {
        const Box box(out, "hdlr", 0, 0);
        out.u32(0);
        const bool text = t.track.id == kChapterTrack || settings.cmaf;
        out.text(video ? "vide" : audio ? "soun" : text ? "text" : "sbtl");
        out.fill(12);
        out.text(!t.track.name.empty()         ? t.track.name
                 : video                       ? "Picture"
                 : audio                       ? "AudioFrames"
                 : t.track.id == kChapterTrack ? "Chapters"
                                               : "Subtitles");
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
    const double seconds = static_cast<double>(t.media_duration) / t.timescale;
    const auto mean = static_cast<std::uint64_t>(seconds > 0 ? static_cast<double>(t.bytes) * 8 / seconds : 0);
    if (t.track.kind == TrackKind::video) {
        write_video_entry(out, t.track, mean);
    } else if (t.track.kind == TrackKind::audio) {
        write_audio_entry(out, t.track, mean);
    } else if (settings.cmaf) {
        write_web_vtt_entry(out);
    } else {
        write_text_entry(out, t.track);
    }
}

void Mp4Writer::State::write_sample_table(ByteWriter& out, const TrackState& t, std::uint64_t offset) const {
    const Box stbl(out, "stbl");
    {
        const Box box(out, "stsd", 0, 0);
        out.u32(1);
        write_sample_entry(out, t);
    }
    if (fragmented()) {
        for (const char(*type)[5] : {&"stts", &"stsc", &"stco"}) {
            const Box box(out, *type, 0, 0);
            out.u32(0);
        }
        const Box box(out, "stsz", 0, 0);
        out.u64(0);
        return;
    }
    write_sample_tables(out, t.samples, offset, media_bytes >= 0xF0000000);
    if (t.track.codec == Codec::aac && !t.samples.empty()) {
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
