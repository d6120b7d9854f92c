#include "container/mp4_reader.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>
#include <optional>

#include "base/units.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/xiph.hpp"
#include "container/mp4_format.hpp"
#include "container/reader.hpp"
#include "container/timing.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteReader;

constexpr std::uint64_t kMaxIndex = 512 << 20;
constexpr std::uint64_t kMaxFragmentIndex = 64 << 20;
constexpr std::uint32_t kLpcmPiece = 4096;  // sample frames in a packet

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

Bytes own(ByteSpan bytes) {
    return Bytes(ByteVector(bytes.begin(), bytes.end()));
}

struct Edit {
    std::int64_t duration;    // movie timescale
    std::int64_t media_time;  // track timescale; -1: empty
};

// Defaults of a track's fragments (trex).
struct FragmentDefaults {
    std::uint32_t duration = 0, size = 0, flags = 0;
};

struct RawTrack {
    std::uint32_t id = 0;
    std::uint32_t handler = 0;
    std::uint32_t chapter_track = 0;
    std::vector<Edit> edits;
    FragmentDefaults defaults;
    std::int64_t next_dts = 0;  // where the next fragment goes on
    Mp4Track track;
};

// A top-level box's header.
struct TopBox {
    std::uint32_t type = 0;
    std::uint64_t at = 0, header = 0, size = 0;  // the size with the header
};

// Reads the movie box, then movie fragments as they are found.
class MovieParser {
  public:
    explicit MovieParser(base::ByteSource& source) : source_(source) {}

    // Goes through the top-level boxes. Stops behind the first fragment when `lazy`.
    Status scan(bool lazy);
    bool ended() const { return ended_; }
    Status conclude(Mp4Movie& movie);
    // Takes in what further fragments tell since.
    std::vector<RawTrack>& raw() { return raw_; }
    std::uint32_t timescale() const { return timescale_; }

  private:
    tl::unexpected<Error> damaged(std::string what) const {
        return fail(ErrorKind::input, std::move(what), source_.name(),
                    "the file is damaged or not finished; copy or make it again");
    }
    Result<std::optional<TopBox>> top_box();
    Status parse_movie(ByteSpan moov);
    Status parse_track(ByteSpan trak, RawTrack& t);
    void parse_sample_entry(ByteSpan stsd, RawTrack& t);
    void parse_video_entry(const BoxView& entry, RawTrack& t);
    void parse_sound_entry(const BoxView& entry, RawTrack& t);
    void parse_text_entry(const BoxView& entry, RawTrack& t);
    Status parse_samples(ByteSpan stbl, RawTrack& t);
    void parse_fragment(ByteSpan moof, std::uint64_t at);
    void parse_run(ByteSpan trun, RawTrack& t, const FragmentDefaults& defaults, std::uint64_t base,
                   std::uint64_t& offset);
    void finish_track(RawTrack& t, Mp4Movie& movie) const;
    Status read_chapters(const RawTrack& t, Mp4Movie& movie);

    base::ByteSource& source_;
    std::uint32_t timescale_ = 0;
    std::vector<RawTrack> raw_;
    std::string title_;
    std::uint64_t at_ = 0;
    bool first_ = true, media_seen_ = false, has_movie_ = false, ended_ = false;
    bool fragmented_ = false, quicktime_ = false;
    bool index_in_front_ = false;
    std::uint64_t index_end_ = 0;
    std::optional<std::uint64_t> cut_at_;  // a box that runs over the end
};

Result<std::optional<TopBox>> MovieParser::top_box() {
    ByteVector bytes(16);
    WAVECREST_TRY_ASSIGN(got, source_.read_at(at_, bytes));
    if (got < 8) return std::optional<TopBox>{};
    bytes.resize(got);
    ByteReader reader{ByteSpan(bytes)};
    TopBox box;
    box.at = at_;
    box.size = reader.u32();
    box.type = reader.u32();
    box.header = 8;
    if (box.size == 1) {
        box.size = reader.u64();
        box.header = 16;
    } else if (box.size == 0) {
        box.size = source_.size() - at_;
    }
    if (box.size < box.header || !reader.ok()) {
        return fail(ErrorKind::input, "a box of the file has an impossible size",
                    fmt::format("{}, byte {}", source_.name(), at_), "the file is damaged; copy or make it again");
    }
    return std::optional(box);
}

Status MovieParser::scan(bool lazy) {
    while (!ended_) {
        auto found = top_box();
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
                return fail(ErrorKind::input, "this is no MP4 file", fmt::format("{}, byte 0", source_.name()),
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
                return fail(ErrorKind::input,
                            "the index of this MP4 file lies behind its pictures, and what comes in "
                            "over a pipe can't be skipped through",
                            source_.name(), "save it to a file and name that");
            }
            // A plain file's index is known by now; over a pipe nothing behind the data can be looked at before it.
            if (pipe && has_movie_ && !fragmented_) return {};
        }
        if (box.type == fourcc("moov") && !has_movie_) {
            if (box.size > kMaxIndex || over) {
                return fail(ErrorKind::input, "the file ends inside its index",
                            fmt::format("{}, byte {}", source_.name(), box.at), "the file is cut short; copy it again");
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
        return fail(ErrorKind::input, "the file has no index: it is cut short or was never finished",
                    fmt::format("{}, byte {}", source_.name(), at_), "copy or make the file again");
    }
    return {};
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
        RawTrack t;
        WAVECREST_TRY(parse_track(box.body, t));
        raw_.push_back(std::move(t));
    }
    if (raw_.empty()) return damaged("the index names no tracks");
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
    const ByteSpan titl = child(child(moov, "udta"), "titl");
    if (titl.size() > 6) {
        const auto text = titl.subspan(6);
        title_.assign(text.begin(), std::find(text.begin(), text.end(), 0));
    }
    return {};
}

Status MovieParser::conclude(Mp4Movie& movie) {
    movie.title = title_;
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
    for (const Mp4Track& t : movie.tracks) {
        for (auto cursor = t.samples.index.begin(); !cursor.done(); ++cursor) {
            const std::uint64_t end = cursor->offset + cursor->size;
            if (end > source_.size())
                movie.missing_bytes += std::min<std::uint64_t>(cursor->size, end - source_.size());
        }
    }
    if (cut_at_ && fragmented_)
        movie.notes.push_back(fmt::format(
            "the file ends inside a part that begins at byte {}: it is cut short or still being written", *cut_at_));
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
        elst.skip(4);
        t.edits.push_back(edit);
    }
    const ByteSpan mdia = child(trak, "mdia");
    ByteReader mdhd(child(mdia, "mdhd"));
    const bool wide_media = mdhd.u8() == 1;
    mdhd.skip(3 + (wide_media ? 16 : 8));
    const std::uint32_t timescale = mdhd.u32();
    mdhd.skip(wide_media ? 8 : 4);
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
    parse_sample_entry(child(stbl, "stsd"), t);
    return parse_samples(stbl, t);
}

void MovieParser::parse_sample_entry(ByteSpan stsd, RawTrack& t) {
    if (stsd.size() < 8) return;
    const auto entries = children(stsd.subspan(8));
    if (entries.empty()) return;
    const BoxView& entry = entries.front();
    if (entries.size() > 1) t.track.problem = "its coding changes on the way: only the first is told here";
    if (entry.type == fourcc("encv") || entry.type == fourcc("enca")) t.track.problem = "it is encrypted";
    if (t.track.info.kind == TrackKind::video) {
        parse_video_entry(entry, t);
    } else if (t.track.info.kind == TrackKind::audio) {
        parse_sound_entry(entry, t);
    } else {
        parse_text_entry(entry, t);
    }
    Track& info = t.track.info;
    if (info.codec == Codec::unknown && info.profile.empty()) {
        for (int shift = 24; shift >= 0; shift -= 8) {
            const char c = static_cast<char>(entry.type >> shift & 0xFF);
            info.profile += c >= 32 && c < 127 ? c : '?';
        }
    }
}

// What an esds box says (14496-1, 7.2.6).
struct ElementaryStream {
    int object_type = 0;
    ByteSpan specific;
};
ElementaryStream parse_esds(ByteSpan esds) {
    ElementaryStream es;
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
    if (open(kEsDescriptor) == 0) return es;
    reader.skip(2);
    const std::uint8_t flags = reader.u8();
    reader.skip(((flags & 0x80) != 0 ? 2u : 0u) + ((flags & 0x20) != 0 ? 2u : 0u));
    if ((flags & 0x40) != 0) reader.skip(reader.u8());
    if (open(kDecoderConfig) == 0) return es;
    es.object_type = reader.u8();
    reader.skip(12);
    if (!reader.ok()) return {};
    const std::size_t size = open(kDecoderSpecific);
    if (reader.ok()) es.specific = reader.take(size);
    return es;
}

void MovieParser::parse_video_entry(const BoxView& entry, RawTrack& t) {
    if (entry.body.size() < 78) return;
    Track& info = t.track.info;
    ByteReader reader(entry.body);
    reader.skip(24);
    info.width = reader.u16();
    info.height = reader.u16();
    info.bit_depth = 8;
    const ByteSpan boxes = entry.body.subspan(78);
    const auto config_of = [&](const char(&type)[5]) { info.codec_config = own(child(boxes, type)); };
    switch (entry.type) {
        case fourcc("avc1"):
        case fourcc("avc2"):
        case fourcc("avc3"):
            info.codec = Codec::h264;
            config_of("avcC");
            if (const auto sets = bitstream::h264::parameter_sets(info.codec_config.view())) {
                t.track.length_size = sets->length_size;
            } else {
                t.track.problem = "its decoder configuration is missing or damaged";
            }
            break;
        case fourcc("hvc1"):
        case fourcc("hev1"):
            info.codec = Codec::h265;
            config_of("hvcC");
            if (const auto sets = bitstream::h265::parameter_sets(info.codec_config.view())) {
                t.track.length_size = sets->length_size;
            } else {
                t.track.problem = "its decoder configuration is missing or damaged";
            }
            break;
        case fourcc("av01"):
            info.codec = Codec::av1;
            config_of("av1C");
            break;
        case fourcc("vp08"):
            info.codec = Codec::vp8;
            break;
        case fourcc("vp09"):
            info.codec = Codec::vp9;
            config_of("vpcC");
            // Version and flags stand in front.
            if (info.codec_config.size() > 4) info.codec_config = own(info.codec_config.view().subspan(4));
            break;
        case fourcc("vc-1"): {
            info.codec = Codec::vc1;
            const ByteSpan dvc1 = child(boxes, "dvc1");
            if (dvc1.size() > 7) info.codec_config = own(dvc1.subspan(7));
            break;
        }
        case fourcc("mp4v"): {
            const ElementaryStream es = parse_esds(child(boxes, "esds"));
            info.codec = es.object_type == 0x6A                             ? Codec::mpeg1
                         : es.object_type >= 0x60 && es.object_type <= 0x65 ? Codec::mpeg2
                                                                            : Codec::mpeg4;
            info.codec_config = own(es.specific);
            break;
        }
        default:
            break;
    }
    if (t.track.length_size != 4) t.track.payload = Mp4Track::Payload::nal_lengths;
    ByteReader pasp(child(boxes, "pasp"));
    const std::uint32_t horizontal = pasp.u32(), vertical = pasp.u32();
    const bool has_aspect = horizontal != 0 && vertical != 0;
    if (has_aspect) info.pixel_aspect = base::reduced({horizontal, vertical});
    ByteReader colr(child(boxes, "colr"));
    const std::uint32_t colour_type = colr.u32();
    if (colour_type == fourcc("nclx") || colour_type == fourcc("nclc")) {
        info.colour.primaries = colr.u16();
        info.colour.transfer = colr.u16();
        info.colour.matrix = colr.u16();
        info.colour.full_range = colour_type == fourcc("nclx") && (colr.u8() & 0x80) != 0;
    }
    if (ByteReader mdcv(child(boxes, "mdcv")); mdcv.remaining() >= 24) {
        media::MasteringDisplay display;
        for (const int i : {1, 2, 0}) {  // green, blue, red
            display.primaries_x[i] = mdcv.u16();
            display.primaries_y[i] = mdcv.u16();
        }
        display.white_x = mdcv.u16();
        display.white_y = mdcv.u16();
        display.max_luminance = mdcv.u32();
        display.min_luminance = mdcv.u32();
        info.mastering_display = display;
    }
    if (ByteReader clli(child(boxes, "clli")); clli.remaining() >= 4) {
        const int brightest = clli.u16();
        info.content_light = media::ContentLight{brightest, clli.u16()};
    }
    const Ratio told = info.pixel_aspect;
    bitstream::describe_headers(info, {});
    if (has_aspect) info.pixel_aspect = told;
    info.frame_rate = {0, 1};  // the samples' durations tell
}

void MovieParser::parse_sound_entry(const BoxView& entry, RawTrack& t) {
    if (entry.body.size() < 28) return;
    Track& info = t.track.info;
    ByteReader reader(entry.body);
    reader.skip(8);
    const int version = reader.u16();  // QuickTime's; 0 elsewhere
    reader.skip(6);
    info.channels = reader.u16();
    const int bits = reader.u16();
    reader.skip(4);
    info.sample_rate = static_cast<int>(reader.u32() >> 16);
    std::size_t boxes_at = 28;
    int constant_bits = bits;
    std::uint32_t format_flags = 0;
    if (version == 1) boxes_at += 16;
    if (version == 2 && entry.body.size() >= 64) {
        boxes_at += 36;
        reader.skip(4);
        const std::uint64_t rate = reader.u64();
        double value = 0;
        static_assert(sizeof(value) == sizeof(rate));
        std::memcpy(&value, &rate, sizeof(value));
        if (value > 0 && value < 1e6) info.sample_rate = static_cast<int>(value);
        info.channels = static_cast<int>(std::min<std::uint32_t>(reader.u32(), 64));
        reader.skip(4);
        constant_bits = static_cast<int>(reader.u32());
        format_flags = reader.u32();
    }
    if (boxes_at > entry.body.size()) return;
    const ByteSpan boxes = entry.body.subspan(boxes_at);
    const ByteSpan wave = child(boxes, "wave");
    const auto find = [&](const char(&type)[5]) {
        const ByteSpan direct = child(boxes, type);
        return direct.empty() ? child(wave, type) : direct;
    };
    const auto lpcm = [&](int depth, bool little) {
        if (depth != 16 && depth != 24 && depth != 32) {
            info.profile = fmt::format("LPCM of {} bits", depth);
            return;
        }
        info.codec = Codec::lpcm;
        info.bit_depth = depth;
        if (little) t.track.payload = Mp4Track::Payload::little_endian;
    };
    switch (entry.type) {
        case fourcc("mp4a"): {
            const ElementaryStream es = parse_esds(find("esds"));
            info.codec_config = own(es.specific);
            switch (es.object_type) {
                case 0x69:
                case 0x6B:
                    info.codec = Codec::mp3;
                    info.codec_config = {};
                    break;
                case 0xA5:
                    info.codec = Codec::ac3;
                    break;
                case 0xA6:
                    info.codec = Codec::eac3;
                    break;
                case 0xA9:
                    info.codec = Codec::dts;
                    break;
                case 0xDD:
                    info.codec = Codec::vorbis;
                    break;
                default:
                    info.codec = Codec::aac;
            }
            break;
        }
        case fourcc("ac-3"):
            info.codec = Codec::ac3;
            info.codec_config = own(find("dac3"));
            break;
        case fourcc("ec-3"):
            info.codec = Codec::eac3;
            info.codec_config = own(find("dec3"));
            break;
        case fourcc("dtsc"):
        case fourcc("dtse"):
        case fourcc("dtsh"):
        case fourcc("dtsl"):
            info.codec = Codec::dts;
            if (entry.type != fourcc("dtsc")) info.profile = "HD";
            break;
        case fourcc("mlpa"):
            info.codec = Codec::truehd;
            break;
        case fourcc(".mp3"):
            info.codec = Codec::mp3;
            break;
        case fourcc("Opus"):
            info.codec = Codec::opus;
            if (const auto head = bitstream::parse_opus_box(child(boxes, "dOps")))
                info.codec_config = Bytes(bitstream::make_opus_head(*head));
            break;
        case fourcc("fLaC"): {
            info.codec = Codec::flac;
            const ByteSpan dfla = child(boxes, "dfLa");
            if (dfla.size() >= 8 + bitstream::kFlacStreamInfo)
                info.codec_config = own(dfla.subspan(8, bitstream::kFlacStreamInfo));
            break;
        }
        case fourcc("ipcm"): {
            ByteReader pcm(child(boxes, "pcmC"));
            pcm.skip(4);
            const bool little = (pcm.u8() & 1) != 0;
            lpcm(pcm.u8(), little);
            break;
        }
        case fourcc("sowt"):
            lpcm(bits, true);
            break;
        case fourcc("twos"):
            lpcm(bits, false);
            break;
        case fourcc("in24"):
        case fourcc("in32"): {
            ByteReader endian(child(wave, "enda"));
            lpcm(entry.type == fourcc("in24") ? 24 : 32, endian.u16() == 1);
            break;
        }
        case fourcc("lpcm"):
            if ((format_flags & 1) == 0) lpcm(constant_bits, (format_flags & 2) == 0);
            break;
        default:
            break;
    }
    bitstream::describe_headers(info, {});
}

void MovieParser::parse_text_entry(const BoxView& entry, RawTrack& t) {
    Track& info = t.track.info;
    if (entry.type == fourcc("tx3g") || entry.type == fourcc("text")) {
        info.codec = Codec::text;
        t.track.payload = Mp4Track::Payload::timed_text;
        ByteReader reader(entry.body);
        reader.skip(8);
        const std::uint32_t flags = reader.u32();
        info.forced = entry.type == fourcc("tx3g") && reader.ok() && (flags & kAllForced) != 0;
    } else if (entry.type == fourcc("wvtt")) {
        info.codec = Codec::text;
        t.track.payload = Mp4Track::Payload::web_vtt;
    }
}

Status MovieParser::parse_samples(ByteSpan stbl, RawTrack& t) {
    const auto bad = [&](const char* table) {
        return damaged(fmt::format("the {} table of track {} is damaged", table, t.id));
    };
    // Sizes decide how many samples there are; every count is checked against the bytes that are really there.
    ByteReader sizes(child(stbl, "stsz"));
    sizes.skip(4);
    std::uint32_t fixed = 0;
    int size_bits = 32;
    if (sizes.ok() && sizes.remaining() >= 8) {
        fixed = sizes.u32();
    } else if (const ByteSpan compact = child(stbl, "stz2"); !compact.empty()) {
        sizes = ByteReader(compact);
        sizes.skip(4 + 3);
        size_bits = sizes.u8();
        if (size_bits != 4 && size_bits != 8 && size_bits != 16) return bad("sample size");
    } else if (fragmented_ || stbl.empty()) {
        return {};
    } else {
        return bad("sample size");
    }
    const std::uint32_t count = sizes.u32();
    if (!sizes.ok()) return bad("sample size");
    const std::uint64_t bytes_needed = (std::uint64_t{count} * static_cast<std::uint64_t>(size_bits) + 7) / 8;
    const bool pipe = source_.size() == base::kUnknownSize;
    if (fixed == 0 ? bytes_needed > sizes.remaining()
                   : !pipe && std::uint64_t{count} * fixed > source_.size() + (std::uint64_t{1} << 40))
        return bad("sample size");
    if (count == 0) return {};

    // Decoding times, composition offsets and sync samples are read along with the sizes.
    ByteReader stts(child(stbl, "stts"));
    stts.skip(4);
    std::uint32_t time_entries = stts.u32(), time_run = 0, delta = 0;
    std::uint64_t timed = 0;
    {
        ByteReader check = stts;
        for (std::uint32_t i = 0; i < time_entries && check.remaining() >= 8; ++i) {
            timed += check.u32();
            check.skip(4);
        }
    }
    if (timed != count) return bad("decoding time");
    ByteReader ctts(child(stbl, "ctts"));
    const bool negative = ctts.u8() == 1;
    ctts.skip(3);
    std::uint32_t composition_entries = ctts.u32(), composition_run = 0;
    std::int64_t composition = 0;
    std::uint64_t composed = 0;
    {
        ByteReader check = ctts;
        for (std::uint32_t i = 0; i < composition_entries && check.remaining() >= 8; ++i) {
            composed += check.u32();
            check.skip(4);
        }
    }
    if (composed > count) return bad("composition time");
    const ByteSpan sync = child(stbl, "stss");
    ByteReader stss(sync);
    stss.skip(4);
    std::uint32_t sync_entries = sync.empty() ? 0 : stss.u32();
    std::uint32_t next_sync = 0;
    const auto advance_sync = [&] {
        next_sync = 0;
        if (sync_entries > 0 && stss.remaining() >= 4) {
            next_sync = stss.u32();
            --sync_entries;
        }
    };
    advance_sync();
    if (!sync.empty() && next_sync > count) return bad("sync sample");

    // Chunks: runs of chunks hold equally many samples.
    const ByteSpan wide_offsets = child(stbl, "co64");
    const bool wide = !wide_offsets.empty();
    ByteReader offsets(wide ? wide_offsets : child(stbl, "stco"));
    offsets.skip(4);
    const std::uint32_t chunks = offsets.u32();
    if (!offsets.ok() || chunks > offsets.remaining() / (wide ? 8 : 4)) return bad("chunk offset");
    ByteReader stsc(child(stbl, "stsc"));
    stsc.skip(4);
    std::uint32_t runs = stsc.u32();
    std::uint32_t per_chunk = 0;
    std::uint32_t next_first = runs > 0 ? stsc.u32() : 0;

    SampleIndex& index = t.track.samples.index;
    const bool plain_samples = t.track.info.codec == Codec::lpcm && fixed > 0;
    std::int64_t dts = 0;
    std::uint32_t at = 0;
    std::uint8_t half = 0;
    const auto next_size = [&]() -> std::uint32_t {
        if (fixed != 0) return fixed;
        if (size_bits == 32) return sizes.u32();
        if (size_bits == 16) return sizes.u16();
        if (size_bits == 8) return sizes.u8();
        if (at % 2 == 0) {
            half = sizes.u8();
            return half >> 4;
        }
        return half & 15;
    };
    for (std::uint32_t chunk = 1; chunk <= chunks && at < count; ++chunk) {
        while (runs > 0 && chunk == next_first) {
            per_chunk = stsc.u32();
            stsc.skip(4);
            --runs;
            const std::uint32_t previous = next_first;
            next_first = runs > 0 ? stsc.u32() : 0;
            if (runs > 0 && next_first <= previous) return bad("sample to chunk");
        }
        const std::uint64_t offset = wide ? offsets.u64() : offsets.u32();
        index.begin_chunk(offset, dts);
        for (std::uint32_t i = 0; i < per_chunk && at < count;) {
            while (time_run == 0 && time_entries > 0) {
                time_run = stts.u32();
                delta = stts.u32();
                --time_entries;
            }
            if (plain_samples) {
                // Sample frames of LPCM are tiny: many make one packet.
                const std::uint32_t frames = std::min({kLpcmPiece, per_chunk - i, count - at, std::max(time_run, 1u)});
                // (Old files count single channels' bytes; the frame's real size follows from channels and bits.)
                const std::uint32_t frame =
                    static_cast<std::uint32_t>(t.track.info.channels * t.track.info.bit_depth / 8);
                const std::uint32_t size = frames * (fixed == 1 ? frame : fixed);
                index.add(size, true, frames * delta, 0);
                dts += std::int64_t{frames} * delta;
                time_run -= std::min(frames, time_run);
                i += frames;
                at += frames;
                continue;
            }
            while (composition_run == 0 && composition_entries > 0 && ctts.remaining() >= 8) {
                composition_run = ctts.u32();
                const std::uint32_t value = ctts.u32();
                composition = negative || value > 0xF0000000 ? static_cast<std::int32_t>(value) : std::int64_t{value};
                --composition_entries;
            }
            if (composition_run > 0) {
                --composition_run;
            } else {
                composition = 0;
            }
            bool key = sync.empty();
            if (next_sync == at + 1) {
                key = true;
                advance_sync();
                if (next_sync != 0 && (next_sync <= at + 1 || next_sync > count)) return bad("sync sample");
            }
            const std::uint32_t size = next_size();
            if (size > SampleIndex::kLargestSample) return bad("sample size");
            index.add(size, key, delta,
                      static_cast<std::int32_t>(std::clamp<std::int64_t>(composition, INT32_MIN, INT32_MAX)));
            dts += delta;
            --time_run;
            ++i;
            ++at;
        }
    }
    if (at != count || !stsc.ok()) return bad("sample to chunk");
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
    const std::size_t each = ((flags & 0x100) != 0 ? 4u : 0u) + ((flags & 0x200) != 0 ? 4u : 0u) +
                             ((flags & 0x400) != 0 ? 4u : 0u) + ((flags & 0x800) != 0 ? 4u : 0u);
    constexpr std::uint32_t kMostSamples = 1 << 20;
    if (!trun.ok() || count > kMostSamples || std::uint64_t{count} * each > trun.remaining()) return;
    const bool negative = (flags >> 24) == 1;
    SampleIndex& index = t.track.samples.index;
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
    Time presented = Time::max();
    Time lead{};
    int media_edits = 0;
    for (const Edit& edit : t.edits) {
        if (edit.media_time < 0) {
            if (media_edits == 0) lead += base::from_ticks(edit.duration, timescale_);
            continue;
        }
        if (++media_edits > 1) continue;
        samples.shift = lead - base::from_ticks(edit.media_time, samples.timescale);
        if (edit.duration > 0) presented = lead + base::from_ticks(edit.duration, timescale_);
    }
    if (media_edits > 1) {
        // Scenes cut by the edit list: all of the material is given rather than a part of it.
        presented = Time::max();
        movie.notes.push_back(
            fmt::format("track {} has an edit list of {} stretches, which is not followed: all of its material is read",
                        t.id, media_edits));
    }
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
        if (cursor->duration != run_of) count_run();
        run_of = cursor->duration;
        ++run;
    }
    count_run();
    if (!samples.empty()) end = base::from_ticks(end_ticks, samples.timescale) + samples.shift;
    t.track.end = std::min(end, presented);
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
        for (const auto& [duration, times] : durations) {
            if (std::abs(static_cast<double>(duration) - typical->first) > 1.01) continue;
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

// The text of a timed text sample (3GPP TS 26.245, 5.17), or of a WebVTT cue (14496-30, 6.6).
std::string text_of(Mp4Track::Payload payload, ByteSpan data) {
    if (payload == Mp4Track::Payload::web_vtt) {
        std::string text;
        for (const BoxView& box : children(data)) {
            if (box.type != fourcc("vttc")) continue;
            const ByteSpan body = child(box.body, "payl");
            if (!text.empty()) text += '\n';
            text.append(body.begin(), body.end());
        }
        return without_markup(text, true);
    }
    ByteReader reader(data);
    const std::size_t length = std::min<std::size_t>(reader.u16(), reader.remaining());
    std::string text = reader.text(length);
    // UTF-16 with a byte order mark is allowed, too.
    if (text.size() >= 2 && static_cast<unsigned char>(text[0]) == 0xFE &&
        static_cast<unsigned char>(text[1]) == 0xFF) {
        std::string utf8;
        for (std::size_t i = 2; i + 1 < text.size(); i += 2) {
            std::uint32_t c = static_cast<unsigned char>(text[i]) << 8 | static_cast<unsigned char>(text[i + 1]);
            if (c >= 0xD800 && c < 0xDC00 && i + 3 < text.size()) {
                const std::uint32_t low =
                    static_cast<unsigned char>(text[i + 2]) << 8 | static_cast<unsigned char>(text[i + 3]);
                c = 0x10000 + ((c - 0xD800) << 10) + ((low - 0xDC00) & 0x3FF);
                i += 2;
            }
            if (c < 0x80) {
                utf8 += static_cast<char>(c);
            } else {
                const int more = c < 0x800 ? 1 : c < 0x10000 ? 2 : 3;
                utf8 += static_cast<char>((more == 1 ? 0xC0 : more == 2 ? 0xE0 : 0xF0) | c >> (6 * more));
                for (int k = more - 1; k >= 0; --k) utf8 += static_cast<char>(0x80 | (c >> (6 * k) & 0x3F));
            }
        }
        return utf8;
    }
    return text;
}

class Mp4Source : public PacketSource {
  public:
    Mp4Source(std::shared_ptr<base::ByteSource> bytes, std::unique_ptr<MovieParser> parser, Mp4Movie movie)
        : shared_(bytes), bytes_(std::move(bytes), 4 << 20), parser_(std::move(parser)), movie_(std::move(movie)) {
        for (const Mp4Track& track : movie_.tracks) {
            lanes_.push_back({track.samples.index.begin(), nullptr});
            if (track.info.codec == Codec::vorbis)
                lanes_.back().vorbis = bitstream::VorbisTimer::create(track.info.codec_config.view());
        }
        for (Mp4Track& track : movie_.tracks) {
            describe(track);
            tracks_.push_back(track.info);
        }
    }

    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return movie_.chapters; }
    Time duration() const override { return movie_.duration; }
    const std::vector<Problem>& problems() const override { return problems_; }
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;

    const Mp4Movie& movie() const { return movie_; }
    // Pieces no shorter than makes a hundred thousand of a track: a picture each in most files.
    std::vector<RatePiece> rate() const {
        constexpr std::int64_t kMostPieces = 100'000;
        std::vector<RatePiece> pieces;
        for (const Mp4Track& track : movie_.tracks) {
            const std::int64_t shortest = base::to_ticks(track.end, track.samples.timescale) / kMostPieces;
            std::int64_t from = 0, to = 0;
            std::uint64_t bytes = 0;
            const auto give = [&] {
                if (bytes > 0)
                    pieces.push_back({base::from_ticks(from, track.samples.timescale) + track.samples.shift,
                                      base::from_ticks(to, track.samples.timescale) + track.samples.shift, bytes});
                bytes = 0;
            };
            for (auto cursor = track.samples.index.begin(); !cursor.done(); ++cursor) {
                const std::int64_t begin = cursor->pts(), end = begin + cursor->duration;
                from = bytes == 0 ? begin : std::min(from, begin);
                to = bytes == 0 ? end : std::max(to, end);
                bytes += cursor->size;
                if (to - from >= shortest) give();
            }
            give();
        }
        return pieces;
    }

  private:
    struct Lane {
        SampleIndex::Cursor cursor;
        std::unique_ptr<bitstream::VorbisTimer> vorbis;
    };
    // The first sample tells what the sample entry leaves out.
    void describe(Mp4Track& track) {
        if (track.samples.empty() || track.info.kind == TrackKind::subtitle || !bytes_.source().seekable()) return;
        const Mp4Sample first = track.samples.front();
        if (first.size > (8u << 20)) return;
        const auto data = bytes_.view(first.offset, first.size);
        if (!data || data->size() < first.size) return;
        const Ratio aspect = track.info.pixel_aspect, rate = track.info.frame_rate;
        if (track.payload == Mp4Track::Payload::plain) bitstream::describe_headers(track.info, *data);
        if (aspect != Ratio{1, 1}) track.info.pixel_aspect = aspect;
        if (rate.num > 0) track.info.frame_rate = rate;
        if (track.info.codec != Codec::mpeg2) return;
        // Flags of the first pictures tell film from video.
        std::vector<ByteVector> kept;
        for (const Mp4Sample& s : track.samples) {
            if (kept.size() >= 30 || s.size > (8u << 20)) break;
            const auto picture = bytes_.view(s.offset, s.size);
            if (!picture) break;
            kept.emplace_back(picture->begin(), picture->end());
        }
        bitstream::describe_cadence(track.info, std::vector<ByteSpan>(kept.begin(), kept.end()));
    }
    // Over a pipe: the next fragment.
    Status read_on();

    std::shared_ptr<base::ByteSource> shared_;
    base::WindowReader bytes_;
    std::unique_ptr<MovieParser> parser_;
    Mp4Movie movie_;
    std::vector<Track> tracks_;
    std::vector<Lane> lanes_;
    std::vector<Problem> problems_;
};

Status Mp4Source::read_on() {
    std::vector<std::size_t> positions;
    for (const Lane& lane : lanes_) positions.push_back(lane.cursor.position());
    WAVECREST_TRY(parser_->scan(true));
    std::size_t i = 0;
    for (Mp4Track& track : movie_.tracks) {
        for (const RawTrack& raw : parser_->raw()) {
            if (static_cast<TrackId>(raw.id) == track.info.id) track.samples.index = raw.track.samples.index;
        }
        lanes_[i].cursor = track.samples.index.at(positions[i]);
        ++i;
    }
    return {};
}

Result<std::optional<Packet>> Mp4Source::read() {
    while (true) {
        // File order: the track whose next sample lies first.
        std::size_t best = lanes_.size();
        for (std::size_t i = 0; i < lanes_.size(); ++i) {
            if (lanes_[i].cursor.done()) continue;
            if (best == lanes_.size() || lanes_[i].cursor->offset < lanes_[best].cursor->offset) best = i;
        }
        if (best == lanes_.size()) {
            if (parser_ == nullptr || parser_->ended()) return std::optional<Packet>{};
            WAVECREST_TRY(read_on());
            continue;
        }
        const Mp4Track& track = movie_.tracks[best];
        const Mp4Sample s = track.samples.timed(*lanes_[best].cursor);
        if (s.offset > bytes_.size() || s.size > bytes_.size() - s.offset) {
            problems_.push_back({"the file ends before its last pictures and sound", s.pts, movie_.duration});
            for (std::size_t i = 0; i < lanes_.size(); ++i) lanes_[i].cursor = movie_.tracks[i].samples.index.end();
            return std::optional<Packet>{};
        }
        ++lanes_[best].cursor;
        WAVECREST_TRY_ASSIGN(data, bytes_.view(s.offset, s.size));
        if (data.size() < s.size) {
            problems_.push_back(
                {"the file ends before its last pictures and sound", s.pts, std::max(movie_.duration, s.pts)});
            for (std::size_t i = 0; i < lanes_.size(); ++i) lanes_[i].cursor = movie_.tracks[i].samples.index.end();
            return std::optional<Packet>{};
        }
        Packet packet;
        packet.track = track.info.id;
        packet.pts = s.pts;
        packet.dts = s.dts;
        packet.duration = s.duration;
        packet.key = s.key;
        // What the edit list cuts off at the end is not heard; a packet wholly behind it is not there.
        if (track.info.kind == TrackKind::audio && track.end > s.pts && track.end < s.pts + s.duration)
            packet.duration = track.end - s.pts;
        if (track.info.kind == TrackKind::audio && s.pts >= track.end && track.end.count() > 0) continue;
        switch (track.payload) {
            case Mp4Track::Payload::plain:
                packet.data = own(data);
                break;
            case Mp4Track::Payload::nal_lengths: {
                ByteVector longer;
                for (const ByteSpan unit : bitstream::nal::split_lengths(data, track.length_size))
                    bitstream::nal::append(longer, unit);
                packet.data = Bytes(std::move(longer));
                break;
            }
            case Mp4Track::Payload::little_endian: {
                ByteVector big(data.begin(), data.end());
                const auto width = static_cast<std::ptrdiff_t>(track.info.bit_depth / 8);
                for (auto p = big.begin(); big.end() - p >= width; p += width) std::reverse(p, p + width);
                packet.data = Bytes(std::move(big));
                break;
            }
            case Mp4Track::Payload::timed_text:
            case Mp4Track::Payload::web_vtt: {
                const std::string text = text_of(track.payload, data);
                if (text.empty()) continue;  // fills the time between two cues
                packet.data = own(base::as_bytes(text));
                packet.key = true;
                break;
            }
        }
        return std::optional<Packet>(std::move(packet));
    }
}

Status Mp4Source::seek(Time time) {
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    Time from = time;
    bool has_picture = false;
    for (std::size_t i = 0; i < lanes_.size(); ++i) {
        if (movie_.tracks[i].info.kind != TrackKind::video) continue;
        SampleIndex::Cursor best = movie_.tracks[i].samples.index.begin();
        for (auto cursor = best; !cursor.done(); ++cursor) {
            const Mp4Sample s = movie_.tracks[i].samples.timed(*cursor);
            if (s.dts > time) break;
            if (s.key && s.pts <= time) best = cursor;
        }
        lanes_[i].cursor = best;
        if (!best.done() && !has_picture) from = std::min(time, movie_.tracks[i].samples.timed(*best).pts);
        has_picture = true;
    }
    for (std::size_t i = 0; i < lanes_.size(); ++i) {
        if (movie_.tracks[i].info.kind == TrackKind::video) continue;
        auto cursor = movie_.tracks[i].samples.index.begin();
        while (!cursor.done()) {
            const Mp4Sample s = movie_.tracks[i].samples.timed(*cursor);
            if (s.pts + s.duration > from) break;
            ++cursor;
        }
        lanes_[i].cursor = cursor;
        if (lanes_[i].vorbis) lanes_[i].vorbis->restart();
    }
    return {};
}

}  // namespace

bool looks_like_mp4(ByteSpan first_bytes) {
    ByteReader reader(first_bytes);
    reader.skip(4);
    const std::uint32_t type = reader.u32();
    return reader.ok() && (type == fourcc("ftyp") || type == fourcc("moov") || type == fourcc("mdat") ||
                           type == fourcc("free") || type == fourcc("styp") || type == fourcc("wide"));
}

Result<Mp4Movie> read_mp4(base::ByteSource& source) {
    MovieParser parser(source);
    WAVECREST_TRY(parser.scan(false));
    Mp4Movie movie;
    WAVECREST_TRY(parser.conclude(movie));
    return movie;
}

Result<MediaFile> open_mp4(std::shared_ptr<base::ByteSource> bytes) {
    auto parser = std::make_unique<MovieParser>(*bytes);
    const bool pipe = !bytes->seekable();
    WAVECREST_TRY(parser->scan(pipe));
    Mp4Movie movie;
    WAVECREST_TRY(parser->conclude(movie));
    MediaFile file;
    file.container = "mp4";
    file.title = movie.title;
    file.notes = movie.notes;
    if (!movie.index_in_front && !pipe)
        file.notes.emplace_back(
            "the index lies behind the pictures: players must fetch the end of the file before they can start");
    if (movie.fragmented)
        file.notes.emplace_back("the index is spread over the file, part by part, as for live streams");
    for (const Mp4Track& track : movie.tracks) {
        if (!track.problem.empty()) file.notes.push_back(fmt::format("track {}: {}", track.info.id, track.problem));
    }
    if (movie.missing_bytes > 0) {
        Time first = movie.duration;
        for (const Mp4Track& track : movie.tracks) {
            for (const Mp4Sample& s : track.samples) {
                if (s.offset + s.size > bytes->size()) first = std::min(first, std::max(s.pts, Time{}));
            }
        }
        file.problems.push_back({fmt::format("the file is cut short: {} of picture and sound are missing",
                                             base::format_bytes(movie.missing_bytes)),
                                 first, movie.duration});
    }
    const bool growing = pipe && movie.fragmented;
    auto source = std::make_unique<Mp4Source>(bytes, growing ? std::move(parser) : nullptr, std::move(movie));
    const Mp4Source* reader = source.get();
    if (!pipe) file.rate = [reader] { return reader->rate(); };
    file.source = std::move(source);
    return file;
}

}  // namespace wavecrest::container
