#include <fmt/format.h>

#include <algorithm>
#include <optional>
#include <vector>

#include "container/from_time.hpp"
#include "container/mp4_movie.hpp"
#include "container/mp4_tables.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteWriter;

constexpr std::size_t kMdatHeader = 16;          // with a 64-bit size
constexpr std::uint64_t kMostText = 4 << 20;     // of tracks that are copied into the head
constexpr std::uint64_t kMostHead = 64 << 20;    // of what lies in front of the first fragment
const Time kPreRoll = base::from_seconds(0.08);  // of audio, to be decoded and not heard (RFC 7845, 4.6)

tl::unexpected<Error> not_cut(const base::ByteSource& source, std::string why) {
    return fail(ErrorKind::input, "this MP4 file can't be given from a time on: " + std::move(why), source.name(),
                "seek by bytes, or with HLS");
}

// What is left of a track.
struct Rest {
    const RawTrack* raw = nullptr;
    std::size_t first = 0;  // sample; the number of all where none is left
    SampleIndex samples;    // their offsets count from the first byte of the media that is sent, or of `text`
    std::int64_t media_duration = 0;
    // Text and chapters may lie anywhere in the file: their few bytes are copied into the head.
    bool in_head = false;

    const Mp4Samples& all() const { return raw->track.samples; }
    bool none() const { return first >= all().size(); }
};

// The last keyframe shown at or before a time; the first sample where there is none.
std::size_t keyframe_before(const Mp4Samples& samples, Time time) {
    std::size_t best = 0, number = 0;
    for (const Mp4Sample& sample : samples) {
        if (sample.key && sample.pts <= time) best = number;
        if (sample.dts > time) break;
        ++number;
    }
    return best;
}

// The first sample of which something is to be presented from then on.
std::size_t first_after(const Mp4Samples& samples, Time time) {
    std::size_t number = 0;
    for (const Mp4Sample& sample : samples) {
        if (sample.pts + sample.duration > time) break;
        ++number;
    }
    return number;
}

struct Beginning {
    Time time{};
    std::vector<Rest> tracks;
};
Beginning begin_at(const std::vector<RawTrack>& raw, Time wanted) {
    Beginning begin{wanted, {}};
    for (const RawTrack& t : raw) {
        if (t.handler != fourcc("vide") || t.track.samples.empty()) continue;
        begin.time = std::max(t.track.samples[keyframe_before(t.track.samples, wanted)].pts, Time{});
        break;
    }
    for (const RawTrack& t : raw) {
        Rest rest;
        rest.raw = &t;
        const Mp4Samples& samples = t.track.samples;
        if (t.handler == fourcc("vide") && !samples.empty())
            rest.first = keyframe_before(samples, begin.time);
        else
            rest.first = first_after(samples, t.handler == fourcc("soun") ? begin.time - kPreRoll : begin.time);
        begin.tracks.push_back(std::move(rest));
    }
    return begin;
}

void copy_box(ByteWriter& out, const BoxView& box) {
    out.u32(8 + box.body.size());
    out.u32(box.type);
    out.raw(box.body);
}

// Where in the new file the samples lie.
struct Offsets {
    std::uint64_t text = 0, media = 0;
    bool wide = false;  // some need 64 bits
};

// The movie box with an index of what is left.
class MovieWriter {
  public:
    MovieWriter(const Beginning& begin, std::uint32_t timescale, Offsets offsets)
        : begin_(begin), timescale_(timescale), offsets_(offsets) {}

    void write(ByteWriter& out, ByteSpan moov) {
        const Box box(out, "moov");
        std::size_t track = 0;
        for (const BoxView& child : children(moov)) {
            if (child.type == fourcc("mvhd")) {
                write_header(out, child, {16, 24}, length());
            } else if (child.type == fourcc("trak")) {
                if (track < begin_.tracks.size()) write_track(out, child.body, begin_.tracks[track++]);
            } else {
                copy_box(out, child);
            }
        }
    }

  private:
    std::int64_t movie_ticks(Time time) const { return std::max<std::int64_t>(base::to_ticks(time, timescale_), 0); }
    std::int64_t length() const {
        Time end{};
        for (const Rest& rest : begin_.tracks) {
            if (!rest.all().empty()) end = std::max(end, rest.raw->track.end);
        }
        return movie_ticks(end - begin_.time);
    }

    // A box of versions 0 and 1 with another duration, which lies at one of two places in its body.
    struct Places {
        std::size_t narrow, wide;
    };
    static void write_header(ByteWriter& out, const BoxView& box, Places places, std::int64_t duration) {
        ByteWriter body;
        body.raw(box.body);
        const bool wide = !box.body.empty() && box.body[0] == 1;
        ByteWriter value;
        if (wide)
            value.u64(static_cast<std::uint64_t>(duration));
        else
            value.u32(static_cast<std::uint64_t>(std::min<std::int64_t>(duration, 0xFFFFFFFE)));
        const std::size_t at = wide ? places.wide : places.narrow;
        if (at + value.size() <= body.size()) body.put(at, value.bytes());
        copy_box(out, {box.type, body.bytes()});
    }

    void write_track(ByteWriter& out, ByteSpan trak, const Rest& rest) {
        const Box box(out, "trak");
        for (const BoxView& child : children(trak)) {
            if (child.type == fourcc("edts")) continue;
            if (child.type == fourcc("tkhd")) {
                write_header(out, child, {20, 28}, movie_ticks(rest.raw->track.end - begin_.time));
                write_edits(out, rest);
            } else if (child.type == fourcc("mdia")) {
                write_media(out, child.body, rest);
            } else {
                copy_box(out, child);
            }
        }
    }

    // 8.6.6: what has to wait, and what is decoded but not presented.
    void write_edits(ByteWriter& out, const Rest& rest) {
        if (rest.none()) return;
        const Mp4Sample first = rest.all()[rest.first];
        const std::int64_t composition = base::to_ticks(first.pts - first.dts, rest.all().timescale);
        const Box edts(out, "edts");
        const Box box(out, "elst", 1, 0);
        const bool late = first.pts > begin_.time;
        out.u32(late ? 2 : 1);
        if (late) {
            out.u64(static_cast<std::uint64_t>(movie_ticks(first.pts - begin_.time)));
            out.u64(~0ull);
            out.u32(0x10000);
        }
        const Time from = std::max(first.pts, begin_.time);
        out.u64(static_cast<std::uint64_t>(movie_ticks(rest.raw->track.end - from)));
        out.u64(static_cast<std::uint64_t>(composition + base::to_ticks(from - first.pts, rest.all().timescale)));
        out.u32(0x10000);
    }

    void write_media(ByteWriter& out, ByteSpan mdia, const Rest& rest) {
        const Box box(out, "mdia");
        for (const BoxView& child : children(mdia)) {
            if (child.type == fourcc("mdhd")) {
                write_header(out, child, {16, 24}, rest.media_duration);
            } else if (child.type == fourcc("minf")) {
                const Box minf(out, "minf");
                for (const BoxView& part : children(child.body)) {
                    if (part.type != fourcc("stbl")) {
                        copy_box(out, part);
                        continue;
                    }
                    // Only what a sample is coded in stays as it is; groups and dependencies tell of samples by number.
                    const Box stbl(out, "stbl");
                    for (const BoxView& table : children(part.body)) {
                        if (table.type == fourcc("stsd")) copy_box(out, table);
                    }
                    write_sample_tables(out, rest.samples, rest.in_head ? offsets_.text : offsets_.media,
                                        offsets_.wide);
                }
            } else {
                copy_box(out, child);
            }
        }
    }

    const Beginning& begin_;
    std::uint32_t timescale_;
    Offsets offsets_;
};

// Why a track isn't cut; empty when it is.
std::string why_not(ByteSpan trak, const Rest& rest) {
    const Mp4Samples& samples = rest.all();
    const ByteSpan stbl = child(child(child(trak, "mdia"), "minf"), "stbl");
    if (samples.edited) return "it has several edits";
    if (rest.raw->track.info.codec == Codec::lpcm) return "it has LPCM audio";
    if (!child(stbl, "saio").empty()) return "it is encrypted";
    base::ByteReader stsd(child(stbl, "stsd"));
    stsd.skip(4);
    if (stsd.u32() > 1 && stsd.ok()) return "it has several sample descriptions";
    if (!rest.none() && samples[rest.first].pts < samples[rest.first].dts) return "its composition times are negative";
    return {};
}

Result<FileFromTime> from_index(base::ByteSource& source, const TopBox& moov_box, std::optional<TopBox> type_box,
                                const std::vector<RawTrack>& raw, std::uint32_t timescale, Time time) {
    WAVECREST_TRY_ASSIGN(moov, base::read_exactly(source, moov_box.at + moov_box.header,
                                                  static_cast<std::size_t>(moov_box.size - moov_box.header)));
    Beginning begin = begin_at(raw, time);
    std::size_t number = 0;
    for (const BoxView& box : children(moov)) {
        if (box.type != fourcc("trak") || number >= begin.tracks.size()) continue;
        if (std::string why = why_not(box.body, begin.tracks[number++]); !why.empty())
            return not_cut(source, std::move(why));
    }
    FileFromTime found;
    found.time = begin.time;
    found.offset = source.size();
    std::uint64_t text_size = 0;
    for (Rest& rest : begin.tracks) {
        rest.in_head = rest.raw->handler != fourcc("vide") && rest.raw->handler != fourcc("soun");
        for (auto cursor = rest.all().index.at(rest.first); !cursor.done(); ++cursor) {
            if (rest.in_head) {
                text_size += cursor->size;
                continue;
            }
            found.offset = std::min(found.offset, cursor->offset);
            found.end = std::max(found.end, cursor->offset + cursor->size);
        }
    }
    found.end = std::min(found.end, source.size());
    if (found.offset >= found.end) return not_cut(source, "nothing is left then");
    if (text_size > kMostText) return not_cut(source, "its text is too large");
    ByteVector text;
    for (Rest& rest : begin.tracks) {
        std::uint64_t expected = ~0ull;
        if (!rest.none()) rest.samples.reserve(rest.all().size() - rest.first);
        for (auto cursor = rest.all().index.at(rest.first); !cursor.done(); ++cursor) {
            if (rest.in_head) {
                rest.samples.begin_chunk(text.size(), rest.media_duration);
                WAVECREST_TRY_ASSIGN(sample, base::read_exactly(source, cursor->offset, cursor->size));
                text.insert(text.end(), sample.begin(), sample.end());
            } else if (cursor->offset != expected) {
                rest.samples.begin_chunk(cursor->offset - found.offset, rest.media_duration);
            }
            rest.samples.add(cursor->size, cursor->key, cursor->duration,
                             static_cast<std::int32_t>(cursor->composition));
            rest.media_duration += cursor->duration;
            expected = cursor->offset + cursor->size;
        }
    }
    const std::uint64_t media = found.end - found.offset;
    ByteWriter head;
    if (type_box) {
        WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(source, type_box->at, static_cast<std::size_t>(type_box->size)));
        head.raw(bytes);
    }
    const auto movie = [&](Offsets offsets) {
        ByteWriter box;
        MovieWriter(begin, timescale, offsets).write(box, moov);
        return box.release();
    };
    // Its size is known when it has been written once.
    Offsets offsets{.wide = media >= 0xF0000000};
    offsets.text = head.size() + movie(offsets).size() + 8;
    offsets.media = offsets.text + text.size() + kMdatHeader;
    head.raw(movie(offsets));
    head.u32(8 + text.size());
    head.u32(fourcc("mdat"));
    head.raw(text);
    head.u32(1);
    head.u32(fourcc("mdat"));
    head.u64(kMdatHeader + media);
    found.head = Bytes(head.release());
    return found;
}

// Fragments go on from what lies in front of the first one.
Result<FileFromTime> from_fragment(base::ByteSource& source, const std::vector<RawTrack>& raw, Time time) {
    const Beginning begin = begin_at(raw, time);
    std::uint64_t first_media = source.size();
    for (const Rest& rest : begin.tracks) {
        if (!rest.none()) first_media = std::min(first_media, rest.all()[rest.first].offset);
    }
    FileFromTime found;
    found.time = begin.time;
    found.end = source.size();
    ByteWriter head;
    bool before = true;  // the first fragment
    std::uint64_t at = 0;
    while (true) {
        auto next = top_box_at(source, at);
        if (!next || !*next) break;
        const TopBox box = **next;
        if (box.type == fourcc("moof")) {
            before = false;
            if (box.at < first_media) found.offset = box.at;
        } else if (box.type == fourcc("mfra")) {
            found.end = box.at;  // it tells of fragments by their place in the whole file
            break;
        } else if (before && (box.type == fourcc("ftyp") || box.type == fourcc("moov"))) {
            if (box.size > kMostHead) return not_cut(source, "its index is too large");
            WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(source, box.at, static_cast<std::size_t>(box.size)));
            head.raw(bytes);
        }
        if (box.size > source.size() - at) break;
        at += box.size;
    }
    if (found.offset == 0 || found.offset >= found.end) return not_cut(source, "nothing is left then");
    WAVECREST_TRY_ASSIGN(moof, top_box_at(source, found.offset));
    if (moof && moof->size <= kMostHead && moof->size > moof->header) {
        WAVECREST_TRY_ASSIGN(body, base::read_exactly(source, moof->at + moof->header,
                                                      static_cast<std::size_t>(moof->size - moof->header)));
        for (const BoxView& box : children(body)) {
            base::ByteReader tfhd(box.type == fourcc("traf") ? child(box.body, "tfhd") : ByteSpan{});
            if ((tfhd.u32() & 1) != 0 && tfhd.ok())
                return not_cut(source, "its fragments tell where in the file they lie");
        }
    }
    found.head = Bytes(head.release());
    return found;
}

}  // namespace

Result<FileFromTime> mp4_from_time(base::ByteSource& source, Time time) {
    MovieParser parser(source);
    WAVECREST_TRY(parser.scan(false));
    Mp4Movie movie;
    WAVECREST_TRY(parser.conclude(movie));
    if (movie.fragmented) return from_fragment(source, parser.raw(), time);
    std::optional<TopBox> type, moov;
    for (std::uint64_t at = 0; !moov;) {
        WAVECREST_TRY_ASSIGN(box, top_box_at(source, at));
        if (!box) return not_cut(source, "it has no index");
        if (box->type == fourcc("ftyp") && box->size <= 4096) type = box;
        if (box->type == fourcc("moov")) moov = box;
        at += box->size;
    }
    return from_index(source, *moov, type, parser.raw(), parser.timescale(), time);
}

}  // namespace wavecrest::container
