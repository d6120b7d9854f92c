#include "container/mp4_movie.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "base/byte_source.hpp"
#include "container/mp4_entries.hpp"
#include "container/mp4_sample_tables.hpp"
#include "container/timing.hpp"

namespace wavecrest::container::mp4 {

using base::ByteReader;

namespace {

constexpr std::uint64_t kMaxIndex = 512 << 20;
constexpr std::uint64_t kMaxFragmentIndex = 64 << 20;
constexpr std::uint32_t kLpcmPiece = 4096;       // sample frames in a packet
constexpr std::uint64_t kMostSamples = 1 << 25;  // of a track: a week at 50 pictures a second
constexpr std::uint64_t kCutSamples = 1 << 20;   // more of a file that is cut short
constexpr std::size_t kMostTracks = 256;
constexpr std::size_t kMostHeaderBoxes = 20'000;
constexpr std::uint64_t kMostHeaderBox = 1 << 20;
// What tells of samples one by one (14496-12, 8.6 to 8.9).
constexpr std::uint32_t kTables[] = {fourcc("stts"), fourcc("ctts"), fourcc("cslg"), fourcc("stss"), fourcc("stsh"),
                                     fourcc("stsz"), fourcc("stz2"), fourcc("stsc"), fourcc("stco"), fourcc("co64"),
                                     fourcc("sdtp"), fourcc("stdp"), fourcc("padb"), fourcc("subs"), fourcc("saiz"),
                                     fourcc("saio"), fourcc("sbgp"), fourcc("sgpd")};

}  // namespace

Result<std::optional<TopBox>> top_box_at(base::ByteSource& source, std::uint64_t at) {
    ByteVector bytes(16);
    WAVECREST_TRY_ASSIGN(got, source.read_at(at, bytes));
    if (got < 8) return std::optional<TopBox>{};
    bytes.resize(got);
    ByteReader reader{ByteSpan(bytes)};
    TopBox box;
    box.at = at;
    box.size = reader.u32();
    box.type = reader.u32();
    box.header = 8;
    if (box.size == 1) {
        box.size = reader.u64();
        box.header = 16;
    } else if (box.size == 0) {
        box.size = source.size() - at;
    }
    if (box.size < box.header || !reader.ok()) {
        return fail(ErrorKind::input, "a box of the file has an impossible size",
                    fmt::format("{}, byte {}", source.name(), at), "the file is damaged; copy or make it again");
    }
    return std::optional(box);
}

Status MovieParser::scan(bool lazy) {
    while (!ended_) {
        auto found = top_box_at(source_, at_);
        if (!found) {
            // Rubbish behind a whole index takes nothing from it.
            if (!has_movie_) return fail(std::move(found).error());
            cut_at_ = at_;
            ended_ = true;
            break;
        }
        if (!*found) {
            ended_ = true;
            break;
        }
        const TopBox box = **found;
        if (first_) {
            ByteVector head(16);
            WAVECREST_TRY(source_.read_at(0, head));
            if (!looks_like_mp4(head)) {
                return fail(ErrorKind::input, "not an MP4 file", fmt::format("{}, byte 0", source_.name()),
                            "name an MP4 file");
            }
            quicktime_ = std::equal(head.begin() + 8, head.begin() + 12, "qt  ");
            first_ = false;
        }
        const bool pipe = source_.size() == base::kUnknownSize;
        const bool over = !pipe && box.size > source_.size() - box.at;
        if (box.type == fourcc("mdat")) {
            media_seen_ = true;
            if (pipe && !has_movie_) {
                return fail(ErrorKind::input, "the index of this MP4 file is at its end: can't seek in piped input",
                            source_.name(), "save it to a file and name that");
            }
            // A plain file's index is known by now; over a pipe nothing behind the data can be looked at before it.
            if (pipe && has_movie_ && !fragmented_) return {};
        }
        if (box.type == fourcc("moov") && !has_movie_) {
            if (box.size > kMaxIndex || over) {
                return fail(ErrorKind::input, "the file ends inside its index",
                            fmt::format("{}, byte {}", source_.name(), box.at), "file is truncated; copy it again");
            }
            WAVECREST_TRY_ASSIGN(moov, base::read_exactly(source_, box.at + box.header,
                                                          static_cast<std::size_t>(box.size - box.header)));
            WAVECREST_TRY(parse_movie(moov));
            has_movie_ = true;
            index_in_front_ = !media_seen_;
            index_end_ = box.at + box.size;
            if (!fragmented_) {
                ended_ = true;
                at_ += box.size;
                break;
            }
        }
        bool fragment = false;
        if (box.type == fourcc("moof") && has_movie_ && !over && box.size <= kMaxFragmentIndex) {
            WAVECREST_TRY_ASSIGN(moof, base::read_exactly(source_, box.at + box.header,
                                                          static_cast<std::size_t>(box.size - box.header)));
            parse_fragment(moof, box.at);
            fragment = true;
        }
        if (over) {
            cut_at_ = box.at;
            ended_ = true;
            break;
        }
        at_ += box.size;
        if (fragment && lazy) return {};
    }
    if (!has_movie_) {
        return fail(ErrorKind::input, "the file has no index: truncated, or never finished",
                    fmt::format("{}, byte {}", source_.name(), at_), "copy or make the file again");
    }
    return {};
}

// The boxes of an interval of the file but for the tables of samples.
Status MovieParser::read_without_tables(base::WindowReader& bytes, std::uint64_t at, std::uint64_t end,
                                        ByteWriter& out) {
    while (end - at >= 8) {
        if (++boxes_ > kMostHeaderBoxes) return damaged("the index has too many boxes");
        WAVECREST_TRY_ASSIGN(view, bytes.view(at, 16));
        ByteReader head(view);
        std::uint64_t size = head.u32();
        const std::uint32_t type = head.u32();
        std::uint64_t header = 8;
        if (size == 1) {
            size = head.u64();
            header = 16;
        } else if (size == 0) {
            size = end - at;
        }
        if (!head.ok() || size < header || size > end - at) return {};
        const std::size_t begin = out.size();
        out.u32(0);
        out.u32(type);
        if (type == fourcc("trak") || type == fourcc("mdia") || type == fourcc("minf") || type == fourcc("stbl")) {
            WAVECREST_TRY(read_without_tables(bytes, at + header, at + size, out));
        } else if (size <= kMostHeaderBox &&
                   std::find(std::begin(kTables), std::end(kTables), type) == std::end(kTables)) {
            WAVECREST_TRY_ASSIGN(body, bytes.view(at + header, static_cast<std::size_t>(size - header)));
            out.raw(body);
        }
        out.put_u32(begin, out.size() - begin);
        at += size;
    }
    return {};
}

Result<bool> MovieParser::scan_headers(base::WindowReader& bytes) {
    headers_only_ = true;
    while (true) {
        WAVECREST_TRY_ASSIGN(box, top_box_at(source_, at_));
        if (!box || box->size > source_.size() - at_) return false;
        if (box->type == fourcc("mdat")) media_seen_ = true;
        if (box->type == fourcc("moov")) {
            ByteWriter moov;
            WAVECREST_TRY(read_without_tables(bytes, box->at + box->header, box->at + box->size, moov));
            WAVECREST_TRY(parse_movie(moov.bytes()));
            index_in_front_ = !media_seen_;
            ended_ = true;
            const bool told = std::all_of(raw_.begin(), raw_.end(), [](const RawTrack& t) {
                const auto shown = std::count_if(t.edits.begin(), t.edits.end(),
                                                 [](const Edit& edit) { return edit.media_time >= 0; });
                return t.media_duration > 0 && shown <= 1 &&
                       std::none_of(t.edits.begin(), t.edits.end(), [](const Edit& e) { return e.dwell; });
            });
            return told && !fragmented_;
        }
        at_ += box->size;
    }
}

Status MovieParser::parse_movie(ByteSpan moov) {
    ByteReader mvhd(child(moov, "mvhd"));
    const bool wide = mvhd.u8() == 1;
    mvhd.skip(3 + (wide ? 16 : 8));
    timescale_ = mvhd.u32();
    if (!mvhd.ok() || timescale_ == 0) return damaged("the movie header is missing or damaged");
    const ByteSpan mvex = child(moov, "mvex");
    fragmented_ = !mvex.empty();
    for (const BoxView& box : children(moov)) {
        if (box.type != fourcc("trak")) continue;
        if (raw_.size() == kMostTracks) {
            notes_.push_back(fmt::format("only the first {} tracks are read", kMostTracks));
            break;
        }
        RawTrack t;
        WAVECREST_TRY(parse_track(box.body, t));
        raw_.push_back(std::move(t));
    }
    if (raw_.empty()) return damaged("the index has no tracks");
    for (const BoxView& box : children(mvex)) {
        if (box.type != fourcc("trex")) continue;
        ByteReader trex(box.body);
        trex.skip(4);
        const std::uint32_t id = trex.u32();
        trex.skip(4);
        FragmentDefaults defaults;
        defaults.duration = trex.u32();
        defaults.size = trex.u32();
        defaults.flags = trex.u32();
        for (RawTrack& t : raw_) {
            if (t.id == id && trex.ok()) t.defaults = defaults;
        }
    }
    // 3GPP TS 26.244, 8: version, flags and language, then text that ends with 0.
    const ByteSpan udta = child(moov, "udta");
    const auto text_of = [&](const char(&type)[5], std::string& into) {
        const ByteSpan box = child(udta, type);
        if (box.size() <= 6) return ByteSpan{};
        const ByteSpan text = box.subspan(6);
        const auto end = std::find(text.begin(), text.end(), 0);
        into.assign(text.begin(), end);
        return end == text.end() ? ByteSpan{} : text.subspan(static_cast<std::size_t>(end - text.begin()) + 1);
    };
    text_of("titl", tags_.title);
    text_of("perf", tags_.performer);
    text_of("gnre", tags_.genre);
    if (const ByteSpan rest = text_of("albm", tags_.album); !rest.empty()) tags_.number = rest[0];
    if (const ByteSpan year = child(udta, "yrrc"); year.size() >= 6)
        tags_.date = std::to_string(year[4] << 8 | year[5]);
    return {};
}

Status MovieParser::conclude(Mp4Movie& movie) {
    movie.tags = tags_;
    movie.notes.insert(movie.notes.end(), notes_.begin(), notes_.end());
    movie.fragmented = fragmented_;
    movie.index_in_front = index_in_front_;
    movie.index_end = index_end_;
    std::uint32_t chapter_track = 0;
    for (const RawTrack& t : raw_) chapter_track = std::max(chapter_track, t.chapter_track);
    for (RawTrack& t : raw_) {
        finish_track(t, movie);
        if (chapter_track != 0 && t.id == chapter_track) {
            WAVECREST_TRY(read_chapters(t, movie));
        } else if (t.handler == fourcc("vide") || t.handler == fourcc("soun") || t.handler == fourcc("sbtl") ||
                   t.handler == fourcc("text") || t.handler == fourcc("subt") || t.handler == fourcc("clcp")) {
            movie.duration = std::max(movie.duration, t.track.end);
            movie.tracks.push_back(t.track);
        }
    }
    if (cut_at_ && fragmented_)
        movie.notes.push_back(
            fmt::format("the file ends inside the fragment at byte {}: truncated, or still being written", *cut_at_));
    return {};
}

Status MovieParser::parse_track(ByteSpan trak, RawTrack& t) {
    ByteReader tkhd(child(trak, "tkhd"));
    const bool wide = tkhd.u8() == 1;
    const std::uint32_t flags = tkhd.u24();
    tkhd.skip(wide ? 16 : 8);
    t.id = tkhd.u32();
    tkhd.skip(4 + (wide ? 8 : 4) + 8 + 8);
    std::int32_t matrix[9] = {};
    for (std::int32_t& value : matrix) value = static_cast<std::int32_t>(tkhd.u32());
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
        edit.media_time = wide_edits ? static_cast<std::int64_t>(elst.u64()) : static_cast<std::int32_t>(elst.u32());
        edit.dwell = elst.u16() == 0;  // the rate's whole part: 1 or 0
        elst.skip(2);
        t.edits.push_back(edit);
    }
    const ByteSpan mdia = child(trak, "mdia");
    ByteReader mdhd(child(mdia, "mdhd"));
    const bool wide_media = mdhd.u8() == 1;
    mdhd.skip(3 + (wide_media ? 16 : 8));
    const std::uint32_t timescale = mdhd.u32();
    t.media_duration = wide_media ? static_cast<std::int64_t>(mdhd.u64()) : mdhd.u32();
    if (!wide_media && t.media_duration == 0xFFFFFFFF) t.media_duration = 0;
    const std::uint16_t language = mdhd.u16();
    ByteReader hdlr(child(mdia, "hdlr"));
    hdlr.skip(8);
    t.handler = hdlr.u32();
    if (!tkhd.ok() || !mdhd.ok() || !hdlr.ok() || timescale == 0)
        return damaged(fmt::format("the headers of track {} are damaged", t.id));
    Track& info = t.track.info;
    t.track.samples.timescale = timescale;
    info.id = static_cast<TrackId>(t.id);
    info.preferred = (flags & kTrackEnabled) != 0;
    if (language >= 0x400) {  // below are QuickTime's own numbers
        info.language = {static_cast<char>(0x60 + (language >> 10 & 31)),
                         static_cast<char>(0x60 + (language >> 5 & 31)), static_cast<char>(0x60 + (language & 31))};
    }
    if (info.language == "und") info.language.clear();
    info.kind = t.handler == fourcc("vide")   ? TrackKind::video
                : t.handler == fourcc("soun") ? TrackKind::audio
                                              : TrackKind::subtitle;
    // The turn of the picture: a, b, c, d of the matrix.
    if (matrix[0] == 0 && matrix[4] == 0 && info.kind == TrackKind::video) info.rotation = matrix[1] > 0 ? 90 : 270;
    if (matrix[0] < 0 && matrix[4] < 0 && info.kind == TrackKind::video) info.rotation = 180;
    const ByteSpan stbl = child(child(mdia, "minf"), "stbl");
    parse_sample_entries(child(stbl, "stsd"), t.track);
    return parse_samples(stbl, t);
}

namespace {

// ctts: signed in version 1; some write negative offsets in version 0, too.
std::int64_t composition_of(const RunTable& table) {
    const std::uint32_t value = table.value();
    return table.version() == 1 || value > 0xF0000000 ? static_cast<std::int32_t>(value) : std::int64_t{value};
}

}  // namespace

// One number can tell of four thousand million samples. A file that is cut short holds fewer than it tells of, but none
// tells of more than the whole of it has bytes.
bool MovieParser::believable(std::uint32_t samples) {
    const std::uint64_t most = (source_.size() == base::kUnknownSize ? kMostSamples : source_.size()) + kCutSamples;
    told_ += samples;
    return told_ <= most;
}

Status MovieParser::parse_samples(ByteSpan stbl, RawTrack& t) {
    if (headers_only_) return {};
    const auto bad = [&](const char* table) {
        return damaged(fmt::format("the {} table of track {} is damaged", table, t.id));
    };
    auto sizes = SampleSizes::find(stbl);
    if (!sizes && (fragmented_ || stbl.empty())) return {};
    if (!sizes || !sizes->ok()) return bad("sample size");
    const std::uint32_t count = sizes->count();
    const bool plain = t.track.info.codec == Codec::lpcm && sizes->common() > 0;  // kept by the packet
    if (!plain && (count > kMostSamples || (sizes->common() != 0 && !believable(count)))) return bad("sample size");
    if (count == 0) return {};
    RunTable times(child(stbl, "stts")), compositions(child(stbl, "ctts"));
    if (times.samples() != count) return bad("decoding time");
    if (compositions.samples() > count) return bad("composition time");
    SyncSamples sync(child(stbl, "stss"), count);
    if (!sync.ok()) return bad("sync sample");
    Chunks chunks(stbl);
    if (!chunks.has_offsets()) return bad("chunk offset");

    SampleIndex& index = t.track.samples.index;
    if (sizes->common() == 0) index.reserve(count);  // so many sizes are really there
    std::int64_t dts = 0;
    std::uint32_t at = 0;
    while (at < count && chunks.next()) {
        if (!chunks.ok()) return bad("sample to chunk");
        index.begin_chunk(chunks.offset(), dts);
        const std::uint32_t end = at + std::min(chunks.samples(), count - at);
        while (at < end) {
            const std::uint32_t run = times.run(), delta = times.value();
            if (plain) {
                // Sample frames of LPCM are tiny: many make one packet.
                const std::uint32_t frames = std::min({kLpcmPiece, end - at, std::max(run, 1u)});
                // (Old files count single channels' bytes; the frame's real size follows from channels and bits.)
                const auto frame = static_cast<std::uint32_t>(t.track.info.channels * t.track.info.bit_depth / 8);
                index.add(frames * (sizes->common() == 1 ? frame : sizes->common()), true, frames * delta, 0);
                dts += std::int64_t{frames} * delta;
                times.take(frames);
                at += frames;
                continue;
            }
            const std::int64_t composition = compositions.run() > 0 ? composition_of(compositions) : 0;
            const bool key = sync.is_key(++at);
            if (!sync.ok()) return bad("sync sample");
            const std::uint32_t size = sizes->next();
            if (size > SampleIndex::kLargestSample) return bad("sample size");
            index.add(size, key, delta,
                      static_cast<std::int32_t>(std::clamp<std::int64_t>(composition, INT32_MIN, INT32_MAX)));
            dts += delta;
            times.take(1);
            compositions.take(1);
        }
    }
    if (at != count || !chunks.ok()) return bad("sample to chunk");
    t.next_dts = dts;
    return {};
}

// A movie fragment (14496-12, 8.8). What is malformed in it is left out.
void MovieParser::parse_fragment(ByteSpan moof, std::uint64_t moof_at) {
    std::uint64_t implicit_base = moof_at;
    bool first_track = true;
    for (const BoxView& box : children(moof)) {
        if (box.type != fourcc("traf")) continue;
        ByteReader tfhd(child(box.body, "tfhd"));
        const std::uint32_t flags = tfhd.u32();
        const std::uint32_t id = tfhd.u32();
        const auto found = std::find_if(raw_.begin(), raw_.end(), [&](const RawTrack& t) { return t.id == id; });
        FragmentDefaults defaults = found != raw_.end() ? found->defaults : FragmentDefaults{};
        std::uint64_t base = (flags & 0x020000) != 0 || first_track ? moof_at : implicit_base;
        if ((flags & 0x01) != 0) base = tfhd.u64();
        if ((flags & 0x02) != 0) tfhd.skip(4);
        if ((flags & 0x08) != 0) defaults.duration = tfhd.u32();
        if ((flags & 0x10) != 0) defaults.size = tfhd.u32();
        if ((flags & 0x20) != 0) defaults.flags = tfhd.u32();
        first_track = false;
        if (!tfhd.ok() || found == raw_.end()) continue;
        RawTrack& t = *found;
        if (ByteReader tfdt(child(box.body, "tfdt")); tfdt.remaining() >= 8) {
            const bool wide = tfdt.u8() == 1;
            tfdt.skip(3);
            const std::uint64_t time = wide ? tfdt.u64() : tfdt.u32();
            if (tfdt.ok() && time < std::uint64_t{1} << 62) t.next_dts = static_cast<std::int64_t>(time);
        }
        std::uint64_t offset = base;
        for (const BoxView& run : children(box.body)) {
            if (run.type == fourcc("trun")) parse_run(run.body, t, defaults, base, offset);
        }
        implicit_base = offset;
    }
}

void MovieParser::parse_run(ByteSpan body, RawTrack& t, const FragmentDefaults& defaults, std::uint64_t base,
                            std::uint64_t& offset) {
    ByteReader trun(body);
    const std::uint32_t flags = trun.u32();
    const std::uint32_t count = trun.u32();
    if ((flags & 0x01) != 0)
        offset = base + static_cast<std::uint64_t>(std::int64_t{static_cast<std::int32_t>(trun.u32())});
    std::uint32_t first_flags = defaults.flags;
    const bool has_first = (flags & 0x04) != 0;
    if (has_first) first_flags = trun.u32();
    SampleIndex& index = t.track.samples.index;
    const std::size_t each = ((flags & 0x100) != 0 ? 4u : 0u) + ((flags & 0x200) != 0 ? 4u : 0u) +
                             ((flags & 0x400) != 0 ? 4u : 0u) + ((flags & 0x800) != 0 ? 4u : 0u);
    constexpr std::uint32_t kMostInRun = 1 << 20;
    if (!trun.ok() || count > kMostInRun || index.size() + count > kMostSamples ||
        (each == 0 ? !believable(count) : std::uint64_t{count} * each > trun.remaining()))
        return;
    const bool negative = (flags >> 24) == 1;
    index.begin_chunk(offset, t.next_dts);
    for (std::uint32_t i = 0; i < count; ++i) {
        std::uint32_t duration = defaults.duration, size = defaults.size,
                      sample_flags = i == 0 && has_first ? first_flags : defaults.flags;
        std::int64_t composition = 0;
        if ((flags & 0x100) != 0) duration = trun.u32();
        if ((flags & 0x200) != 0) size = trun.u32();
        if ((flags & 0x400) != 0) sample_flags = trun.u32();
        if ((flags & 0x800) != 0) {
            const std::uint32_t value = trun.u32();
            composition = negative || value > 0xF0000000 ? static_cast<std::int32_t>(value) : std::int64_t{value};
        }
        if (size > SampleIndex::kLargestSample) return;
        const bool key = (sample_flags & 0x10000) == 0;  // sample_is_non_sync_sample
        index.add(size, key, duration,
                  static_cast<std::int32_t>(std::clamp<std::int64_t>(composition, INT32_MIN, INT32_MAX)));
        offset += size;
        t.next_dts += duration;
    }
}

// Moves the samples to the presentation timeline and sums up.
void MovieParser::finish_track(RawTrack& t, Mp4Movie& movie) const {
    Mp4Samples& samples = t.track.samples;
    const Presentation presentation = apply_edits(t.edits, timescale_, ended_ || !fragmented_, t.track);
    if (!presentation.note.empty()) movie.notes.push_back(presentation.note);
    Time end{};
    std::uint64_t bytes = 0;
    std::map<std::uint32_t, std::size_t> durations;
    // In the track's own ticks: indexes may have millions of samples.
    std::int64_t end_ticks = 0;
    std::uint32_t run_of = 0;
    std::size_t run = 0;
    const auto count_run = [&] {
        if (run > 0 && (durations.size() < 64 || durations.contains(run_of))) durations[run_of] += run;
        run = 0;
    };
    for (auto cursor = samples.index.begin(); !cursor.done(); ++cursor) {
        end_ticks = std::max(end_ticks, cursor->pts() + cursor->duration);
        bytes += cursor->size;
        if (const std::uint64_t behind = cursor->offset + cursor->size; behind > source_.size())
            movie.missing_bytes += std::min<std::uint64_t>(cursor->size, behind - source_.size());
        if (cursor->hidden) continue;
        if (cursor->duration != run_of) count_run();
        run_of = cursor->duration;
        ++run;
    }
    count_run();
    if (!samples.empty()) end = base::from_ticks(end_ticks, samples.timescale) + samples.shift;
    // (What is cut off at the front of the media is mostly the delay of B pictures, which its end is later by, too.)
    if (headers_only_) end = base::from_ticks(t.media_duration, samples.timescale) + std::max(samples.shift, Time{});
    t.track.end = std::min(end, presentation.end);
    Track& info = t.track.info;
    info.duration = t.track.end;
    if (samples.empty()) return;
    info.start = std::max(samples.front().pts, Time{});
    if (t.track.end.count() > 0)
        info.bitrate_bps = static_cast<std::int64_t>(static_cast<double>(bytes) * 8 / base::to_seconds(t.track.end));
    if (info.kind == TrackKind::video) {
        // The commonest duration gives the rate; where rounding spreads it over neighbours, their mean does.
        const auto typical = std::max_element(durations.begin(), durations.end(),
                                              [](const auto& a, const auto& b) { return a.second < b.second; });
        double sum = 0, number = 0;
        // (Times may have been rounded to milliseconds on their way.)
        const double apart = std::max(1.01, static_cast<double>(samples.timescale) / 1000 + 1.01);
        for (const auto& [duration, times] : durations) {
            if (std::abs(static_cast<double>(duration) - typical->first) > apart) continue;
            sum += static_cast<double>(duration) * static_cast<double>(times);
            number += static_cast<double>(times);
        }
        const bool exact = number == static_cast<double>(typical->second) && typical->first > 0;
        if (exact && samples.timescale >= 1000 && samples.timescale % typical->first == 0) {
            info.frame_rate = base::reduced({samples.timescale, typical->first});
        } else if (sum > 0) {
            info.frame_rate = rate_of_period(
                static_cast<std::int64_t>(std::llround(sum / number * 1e9 / static_cast<double>(samples.timescale))));
            // Whole ticks of a fine timescale are exact.
            if (exact && info.frame_rate.num == 1'000'000'000)
                info.frame_rate = base::reduced({samples.timescale, typical->first});
        }
    }
}

Status MovieParser::read_chapters(const RawTrack& t, Mp4Movie& movie) {
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

}  // namespace wavecrest::container::mp4
