#include "container/mp4_reader.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "bitstream/aac.hpp"
#include "bitstream/h264.hpp"
#include "container/mp4_format.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteReader;

constexpr std::uint64_t kMaxIndex = 512 << 20;
constexpr int kMaxTopLevelBoxes = 4096;

// One box of a parent that is in memory.
struct BoxView {
    std::uint32_t type = 0;
    ByteSpan body;
};

// The boxes directly inside `bytes`; stops at the first that does not fit.
std::vector<BoxView> children(ByteSpan bytes) {
    std::vector<BoxView> boxes;
    std::size_t at = 0;
    while (bytes.size() - at >= 8) {
        ByteReader reader(bytes.subspan(at));
        std::uint64_t size = reader.u32();
        BoxView box;
        box.type = reader.u32();
        std::size_t header = 8;
        if (size == 1) {
            size = reader.u64();
            header = 16;
        } else if (size == 0) {
            size = bytes.size() - at;
        }
        if (!reader.ok() || size < header || size > bytes.size() - at) break;
        box.body = bytes.subspan(at + header, static_cast<std::size_t>(size) - header);
        boxes.push_back(box);
        at += static_cast<std::size_t>(size);
    }
    return boxes;
}

ByteSpan child(ByteSpan bytes, const char (&type)[5]) {
    for (const BoxView& box : children(bytes)) {
        if (box.type == fourcc(type)) return box.body;
    }
    return {};
}

struct Edit {
    std::int64_t duration;    // movie timescale
    std::int64_t media_time;  // track timescale; -1: empty
};

struct RawTrack {
    std::uint32_t id = 0;
    std::uint32_t timescale = 0;
    std::uint32_t handler = 0;
    std::uint32_t chapter_track = 0;
    std::vector<Edit> edits;
    Mp4Track track;
};

class MovieParser {
  public:
    MovieParser(base::ByteSource& source, ByteSpan moov) : source_(source), moov_(moov) {}

    Result<Mp4Movie> parse() {
        ByteReader mvhd(child(moov_, "mvhd"));
        const bool wide = mvhd.u8() == 1;
        mvhd.skip(3 + (wide ? 16 : 8));
        timescale_ = mvhd.u32();
        if (!mvhd.ok() || timescale_ == 0) return damaged("the movie header is missing or damaged");
        if (!child(moov_, "mvex").empty()) {
            return fail(ErrorKind::input, "this MP4 file is fragmented, which can't be read yet", source_.name(),
                        "use a plain MP4 file");
        }
        std::vector<RawTrack> raw;
        for (const BoxView& box : children(moov_)) {
            if (box.type != fourcc("trak")) continue;
            RawTrack t;
            WAVECREST_TRY(parse_track(box.body, t));
            raw.push_back(std::move(t));
        }
        if (raw.empty()) return damaged("the index names no tracks");
        Mp4Movie movie;
        std::uint32_t chapter_track = 0;
        for (const RawTrack& t : raw) chapter_track = std::max(chapter_track, t.chapter_track);
        for (RawTrack& t : raw) {
            if (chapter_track != 0 && t.id == chapter_track) {
                WAVECREST_TRY(read_chapters(t, movie));
            } else if (t.handler == fourcc("vide") || t.handler == fourcc("soun") || t.handler == fourcc("sbtl") ||
                       t.handler == fourcc("text")) {
                movie.duration = std::max(movie.duration, t.track.end);
                movie.tracks.push_back(std::move(t.track));
            }
        }
        for (const Mp4Track& t : movie.tracks) {
            for (const Mp4Sample& s : t.samples) {
                const std::uint64_t end = s.offset + s.size;
                if (end > source_.size()) movie.missing_bytes += std::min<std::uint64_t>(s.size, end - source_.size());
            }
        }
        const ByteSpan titl = child(child(moov_, "udta"), "titl");
        if (titl.size() > 6) {
            const auto text = titl.subspan(6);
            movie.title.assign(text.begin(), std::find(text.begin(), text.end(), 0));
        }
        return movie;
    }

  private:
    tl::unexpected<Error> damaged(std::string what) const {
        return fail(ErrorKind::input, std::move(what), source_.name(),
                    "the file is damaged or not finished; copy or make it again");
    }

    Status parse_track(ByteSpan trak, RawTrack& t) {
        ByteReader tkhd(child(trak, "tkhd"));
        const bool wide = tkhd.u8() == 1;
        tkhd.skip(3 + (wide ? 16 : 8));
        t.id = tkhd.u32();
        for (const BoxView& ref : children(child(trak, "tref"))) {
            if (ref.type == fourcc("chap")) t.chapter_track = ByteReader(ref.body).u32();
        }
        ByteReader elst(child(child(trak, "edts"), "elst"));
        const bool wide_edits = elst.u8() == 1;
        elst.skip(3);
        const std::uint32_t edits = elst.u32();
        for (std::uint32_t i = 0; i < edits && elst.remaining() >= (wide_edits ? 20u : 12u); ++i) {
            Edit edit{};
            edit.duration = wide_edits ? static_cast<std::int64_t>(elst.u64()) : elst.u32();
            edit.media_time =
                wide_edits ? static_cast<std::int64_t>(elst.u64()) : static_cast<std::int32_t>(elst.u32());
            elst.skip(4);
            t.edits.push_back(edit);
        }
        const ByteSpan mdia = child(trak, "mdia");
        ByteReader mdhd(child(mdia, "mdhd"));
        const bool wide_media = mdhd.u8() == 1;
        mdhd.skip(3 + (wide_media ? 16 : 8));
        t.timescale = mdhd.u32();
        mdhd.skip(wide_media ? 8 : 4);
        const std::uint16_t language = mdhd.u16();
        ByteReader hdlr(child(mdia, "hdlr"));
        hdlr.skip(8);
        t.handler = hdlr.u32();
        if (!tkhd.ok() || !mdhd.ok() || !hdlr.ok() || t.timescale == 0)
            return damaged(fmt::format("the headers of track {} are damaged", t.id));
        t.track.info.id = static_cast<TrackId>(t.id);
        t.track.info.language = {static_cast<char>(0x60 + (language >> 10 & 31)),
                                 static_cast<char>(0x60 + (language >> 5 & 31)),
                                 static_cast<char>(0x60 + (language & 31))};
        if (t.track.info.language == "und") t.track.info.language.clear();
        t.track.info.kind = t.handler == fourcc("vide")   ? TrackKind::video
                            : t.handler == fourcc("soun") ? TrackKind::audio
                                                          : TrackKind::subtitle;
        const ByteSpan stbl = child(child(mdia, "minf"), "stbl");
        parse_sample_entry(child(stbl, "stsd"), t);
        WAVECREST_TRY(parse_samples(stbl, t));
        finish_track(t);
        return {};
    }

    static void parse_sample_entry(ByteSpan stsd, RawTrack& t) {
        Track& info = t.track.info;
        if (stsd.size() < 8) return;
        const auto entries = children(stsd.subspan(8));
        if (entries.empty()) return;
        const BoxView& entry = entries.front();
        switch (entry.type) {
            case fourcc("avc1"):
            case fourcc("avc3"):
                info.codec = Codec::h264;
                break;
            case fourcc("hvc1"):
            case fourcc("hev1"):
                info.codec = Codec::h265;
                break;
            case fourcc("av01"):
                info.codec = Codec::av1;
                break;
            case fourcc("vp09"):
                info.codec = Codec::vp9;
                break;
            case fourcc("mp4v"):
                info.codec = Codec::mpeg4;
                break;
            case fourcc("mp4a"):
                info.codec = Codec::aac;
                break;
            case fourcc("ac-3"):
                info.codec = Codec::ac3;
                break;
            case fourcc("ec-3"):
                info.codec = Codec::eac3;
                break;
            case fourcc("Opus"):
                info.codec = Codec::opus;
                break;
            case fourcc("fLaC"):
                info.codec = Codec::flac;
                break;
            case fourcc("tx3g"):
                info.codec = Codec::text;
                break;
            default:
                break;
        }
        if (info.kind == TrackKind::video && entry.body.size() >= 78) {
            ByteReader reader(entry.body);
            reader.skip(24);
            info.width = reader.u16();
            info.height = reader.u16();
            const ByteSpan boxes = entry.body.subspan(78);
            info.bit_depth = 8;
            ByteReader pasp(child(boxes, "pasp"));
            const std::uint32_t horizontal = pasp.u32(), vertical = pasp.u32();
            if (horizontal != 0 && vertical != 0) info.pixel_aspect = base::reduced({horizontal, vertical});
            ByteReader colr(child(boxes, "colr"));
            if (colr.u32() == fourcc("nclx")) {
                info.colour = {colr.u16(), colr.u16(), colr.u16(), false};
                info.colour.full_range = (colr.u8() & 0x80) != 0;
            }
            const ByteSpan avcc = child(boxes, "avcC");
            info.codec_config = Bytes(ByteVector(avcc.begin(), avcc.end()));
            if (const auto sps = bitstream::h264::parse_config(avcc); sps && info.codec == Codec::h264) {
                info.profile = sps->profile_name();
                info.level = sps->level_name();
                info.reference_frames = sps->reference_frames;
                info.bit_depth = sps->bit_depth;
                info.scan = sps->frames_only ? Scan::progressive : Scan::interlaced;
                if (info.colour.matrix == 2) info.colour = sps->colour;
                if (pasp.remaining() == 0 && horizontal == 0) info.pixel_aspect = sps->pixel_aspect;
            } else if (info.codec == Codec::h264) {
                t.track.problem = "its decoder configuration is missing or damaged";
            }
        } else if (info.kind == TrackKind::audio && entry.body.size() >= 28) {
            ByteReader reader(entry.body);
            reader.skip(16);
            info.channels = reader.u16();
            reader.skip(6);
            info.sample_rate = static_cast<int>(reader.u32() >> 16);
            const ByteSpan config = decoder_specific(child(entry.body.subspan(28), "esds"));
            info.codec_config = Bytes(ByteVector(config.begin(), config.end()));
            if (const auto aac = bitstream::aac::parse_config(config); aac && info.codec == Codec::aac) {
                info.profile = aac->profile_name();
                info.sample_rate = aac->sample_rate;
                if (aac->channels > 0) info.channels = aac->channels;
            }
        }
    }

    // The DecoderSpecificInfo inside an esds box (14496-1, 7.2.6).
    static ByteSpan decoder_specific(ByteSpan esds) {
        ByteReader reader(esds);
        reader.skip(4);
        const auto open = [&](std::uint8_t tag) -> std::size_t {
            if (reader.u8() != tag) return 0;
            std::size_t size = 0;
            for (int i = 0; i < 4; ++i) {
                const std::uint8_t byte = reader.u8();
                size = size << 7 | (byte & 0x7Fu);
                if ((byte & 0x80) == 0) break;
            }
            return size;
        };
        if (open(kEsDescriptor) == 0) return {};
        reader.skip(2);
        const std::uint8_t flags = reader.u8();
        reader.skip(((flags & 0x80) != 0 ? 2u : 0u) + ((flags & 0x20) != 0 ? 2u : 0u));
        if ((flags & 0x40) != 0) reader.skip(reader.u8());
        if (open(kDecoderConfig) == 0) return {};
        reader.skip(13);
        const std::size_t size = open(kDecoderSpecific);
        return reader.ok() ? reader.take(size) : ByteSpan{};
    }

    Status parse_samples(ByteSpan stbl, RawTrack& t) {
        const auto bad = [&](const char* table) {
            return damaged(fmt::format("the {} table of track {} is damaged", table, t.id));
        };
        // Sizes decide how many samples there are; every count is checked against the bytes that are really there.
        ByteReader stsz(child(stbl, "stsz"));
        stsz.skip(4);
        const std::uint32_t fixed = stsz.u32();
        const std::uint32_t count = stsz.u32();
        if (!stsz.ok()) return bad("sample size");
        if (fixed == 0 ? count > stsz.remaining() / 4 : std::uint64_t{count} * fixed > source_.size())
            return bad("sample size");
        std::vector<Mp4Sample>& samples = t.track.samples;
        samples.resize(count);
        for (Mp4Sample& s : samples) s.size = fixed != 0 ? fixed : stsz.u32();

        ByteReader stts(child(stbl, "stts"));
        stts.skip(4);
        std::size_t at = 0;
        std::int64_t dts = 0;
        for (std::uint32_t entries = stts.u32(); entries > 0 && stts.remaining() >= 8; --entries) {
            const std::uint32_t run = stts.u32(), delta = stts.u32();
            if (run > count - at) return bad("decoding time");
            for (std::uint32_t i = 0; i < run; ++i, ++at, dts += delta) {
                samples[at].dts = base::from_ticks(dts, t.timescale);
                samples[at].duration = base::from_ticks(delta, t.timescale);
            }
        }
        if (at != count) return bad("decoding time");
        for (Mp4Sample& s : samples) s.pts = s.dts;
        ByteReader ctts(child(stbl, "ctts"));
        const bool negative = ctts.u8() == 1;
        ctts.skip(3);
        at = 0;
        for (std::uint32_t entries = ctts.u32(); entries > 0 && ctts.remaining() >= 8; --entries) {
            const std::uint32_t run = ctts.u32(), offset = ctts.u32();
            if (run > count - at) return bad("composition time");
            const std::int64_t shift = negative ? static_cast<std::int32_t>(offset) : std::int64_t{offset};
            for (std::uint32_t i = 0; i < run; ++i, ++at) samples[at].pts += base::from_ticks(shift, t.timescale);
        }

        const ByteSpan sync = child(stbl, "stss");
        if (sync.empty()) {
            for (Mp4Sample& s : samples) s.key = true;
        } else {
            ByteReader stss(sync);
            stss.skip(4);
            for (std::uint32_t entries = stss.u32(); entries > 0 && stss.remaining() >= 4; --entries) {
                const std::uint32_t number = stss.u32();
                if (number == 0 || number > count) return bad("sync sample");
                samples[number - 1].key = true;
            }
        }

        // Chunks: runs of chunks hold equally many samples.
        const ByteSpan wide_offsets = child(stbl, "co64");
        const bool wide = !wide_offsets.empty();
        ByteReader offsets(wide ? wide_offsets : child(stbl, "stco"));
        offsets.skip(4);
        const std::uint32_t chunks = offsets.u32();
        if (count > 0 && (!offsets.ok() || chunks > offsets.remaining() / (wide ? 8 : 4))) return bad("chunk offset");
        ByteReader stsc(child(stbl, "stsc"));
        stsc.skip(4);
        std::uint32_t runs = stsc.u32();
        std::uint32_t per_chunk = 0;
        std::uint32_t next_first = runs > 0 ? stsc.u32() : 0;
        at = 0;
        for (std::uint32_t chunk = 1; chunk <= chunks && at < count; ++chunk) {
            while (runs > 0 && chunk == next_first) {
                per_chunk = stsc.u32();
                stsc.skip(4);
                --runs;
                const std::uint32_t previous = next_first;
                next_first = runs > 0 ? stsc.u32() : 0;
                if (runs > 0 && next_first <= previous) return bad("sample to chunk");
            }
            std::uint64_t offset = wide ? offsets.u64() : offsets.u32();
            for (std::uint32_t i = 0; i < per_chunk && at < count; ++i, ++at) {
                samples[at].offset = offset;
                offset += samples[at].size;
            }
        }
        if (at != count || !stsc.ok()) return bad("sample to chunk");
        return {};
    }

    // Moves the samples to the presentation timeline and sums up.
    void finish_track(RawTrack& t) const {
        Time shift{};
        Time presented = Time::max();
        Time lead{};
        for (const Edit& edit : t.edits) {
            if (edit.media_time < 0) {
                lead += base::from_ticks(edit.duration, timescale_);
                continue;
            }
            shift = lead - base::from_ticks(edit.media_time, t.timescale);
            if (edit.duration > 0) presented = lead + base::from_ticks(edit.duration, timescale_);
            break;  // further edits (cut scenes) are rare; the first decides
        }
        Time end{};
        std::uint64_t bytes = 0;
        for (Mp4Sample& s : t.track.samples) {
            s.dts += shift;
            s.pts += shift;
            end = std::max(end, s.pts + s.duration);
            bytes += s.size;
        }
        t.track.end = std::min(end, presented);
        Track& info = t.track.info;
        info.duration = t.track.end;
        if (t.track.samples.empty()) return;
        info.start = std::max(t.track.samples.front().pts, Time{});
        if (t.track.end.count() > 0)
            info.bitrate_bps =
                static_cast<std::int64_t>(static_cast<double>(bytes) * 8 / base::to_seconds(t.track.end));
        if (info.kind == TrackKind::video) {
            // The commonest duration gives the rate.
            const Time typical = t.track.samples[t.track.samples.size() / 2].duration;
            if (typical.count() > 0) info.frame_rate = base::reduced({base::kFlicksPerSecond, typical.count()});
        }
    }

    Status read_chapters(RawTrack& t, Mp4Movie& movie) {
        constexpr std::size_t kMostChapters = 10000;
        for (const Mp4Sample& s : t.track.samples) {
            if (movie.chapters.size() >= kMostChapters) break;
            if (s.size < 2 || s.size > 4096) continue;
            auto bytes = base::read_exactly(source_, s.offset, s.size);
            if (!bytes) break;  // a file cut short has lost them: no reason to refuse the rest
            ByteReader reader{ByteSpan(*bytes)};
            const std::size_t length = std::min<std::size_t>(reader.u16(), reader.remaining());
            movie.chapters.push_back({s.pts, reader.text(length)});
        }
        return {};
    }

    base::ByteSource& source_;
    ByteSpan moov_;
    std::uint32_t timescale_ = 0;
};

}  // namespace

bool looks_like_mp4(ByteSpan first_bytes) {
    ByteReader reader(first_bytes);
    reader.skip(4);
    const std::uint32_t type = reader.u32();
    return reader.ok() &&
           (type == fourcc("ftyp") || type == fourcc("moov") || type == fourcc("mdat") || type == fourcc("free"));
}

Result<Mp4Movie> read_mp4(base::ByteSource& source) {
    std::uint64_t at = 0;
    bool media_seen = false;
    for (int i = 0; i < kMaxTopLevelBoxes && at + 8 <= source.size(); ++i) {
        ByteVector header(static_cast<std::size_t>(std::min<std::uint64_t>(16, source.size() - at)));
        WAVECREST_TRY(source.read_at(at, header));
        if (i == 0 && !looks_like_mp4(header)) {
            return fail(ErrorKind::input, "this is no MP4 file", fmt::format("{}, byte 0", source.name()),
                        "name an MP4 file");
        }
        ByteReader reader{ByteSpan(header)};
        std::uint64_t size = reader.u32();
        const std::uint32_t type = reader.u32();
        std::uint64_t header_size = 8;
        if (size == 1) {
            size = reader.u64();
            header_size = 16;
        } else if (size == 0) {
            size = source.size() - at;
        }
        if (size < header_size || !reader.ok()) {
            return fail(ErrorKind::input, "a box of the file has an impossible size",
                        fmt::format("{}, byte {}", source.name(), at), "the file is damaged; copy or make it again");
        }
        if (type == fourcc("mdat")) media_seen = true;
        if (type == fourcc("moov")) {
            if (size > kMaxIndex || at + size > source.size()) {
                return fail(ErrorKind::input, "the file ends inside its index",
                            fmt::format("{}, byte {}", source.name(), at), "the file is cut short; copy it again");
            }
            WAVECREST_TRY_ASSIGN(
                moov, base::read_exactly(source, at + header_size, static_cast<std::size_t>(size - header_size)));
            WAVECREST_TRY_ASSIGN(movie, MovieParser(source, moov).parse());
            movie.index_end = at + size;
            movie.index_in_front = !media_seen;
            return movie;
        }
        if (size > source.size() - at) break;
        at += size;
    }
    return fail(ErrorKind::input, "the file has no index: it is cut short or was never finished",
                fmt::format("{}, byte {}", source.name(), at), "copy or make the file again");
}

Mp4Source::Mp4Source(std::unique_ptr<base::ByteSource> bytes, Mp4Movie movie)
    : bytes_(std::move(bytes)), movie_(std::move(movie)), next_(movie_.tracks.size(), 0) {
    for (const Mp4Track& track : movie_.tracks) tracks_.push_back(track.info);
}

Result<std::optional<Packet>> Mp4Source::read() {
    // File order: the track whose next sample lies first.
    std::size_t best = movie_.tracks.size();
    for (std::size_t i = 0; i < movie_.tracks.size(); ++i) {
        if (next_[i] >= movie_.tracks[i].samples.size()) continue;
        if (best == movie_.tracks.size() ||
            movie_.tracks[i].samples[next_[i]].offset < movie_.tracks[best].samples[next_[best]].offset)
            best = i;
    }
    if (best == movie_.tracks.size()) return std::optional<Packet>{};
    const Mp4Sample& s = movie_.tracks[best].samples[next_[best]];
    if (s.offset > bytes_->size() || s.size > bytes_->size() - s.offset) {
        problems_.push_back({"the file ends before its last pictures and sound", s.pts, movie_.duration});
        for (std::size_t i = 0; i < next_.size(); ++i) next_[i] = movie_.tracks[i].samples.size();
        return std::optional<Packet>{};
    }
    ++next_[best];
    WAVECREST_TRY_ASSIGN(data, base::read_exactly(*bytes_, s.offset, s.size));
    Packet packet;
    packet.track = movie_.tracks[best].info.id;
    packet.pts = s.pts;
    packet.dts = s.dts;
    packet.duration = s.duration;
    packet.key = s.key;
    packet.data = Bytes(std::move(data));
    return std::optional<Packet>(std::move(packet));
}

Status Mp4Source::seek(Time time) {
    Time from = time;
    for (std::size_t i = 0; i < movie_.tracks.size(); ++i) {
        if (movie_.tracks[i].info.kind != TrackKind::video) continue;
        next_[i] = 0;
        for (std::size_t k = 0; k < movie_.tracks[i].samples.size(); ++k) {
            const Mp4Sample& s = movie_.tracks[i].samples[k];
            if (s.key && s.pts <= time) {
                next_[i] = k;
                from = s.pts;
            }
        }
    }
    for (std::size_t i = 0; i < movie_.tracks.size(); ++i) {
        if (movie_.tracks[i].info.kind == TrackKind::video) continue;
        const auto& samples = movie_.tracks[i].samples;
        next_[i] = static_cast<std::size_t>(
            std::partition_point(samples.begin(), samples.end(),
                                 [&](const Mp4Sample& s) { return s.pts + s.duration <= from; }) -
            samples.begin());
    }
    return {};
}

}  // namespace wavecrest::container
