// AVI: RIFF chunks with an index at the end (idx1), or OpenDML's indexes over parts of a gigabyte each. Where the index
// is missing or wrong, the chunks themselves are gone through.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>
#include <optional>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "base/window_reader.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/mpeg2.hpp"
#include "bitstream/mpeg4_visual.hpp"
#include "bitstream/nal.hpp"
#include "container/reader.hpp"
#include "container/riff_codecs.hpp"
#include "container/sample_index.hpp"
#include "container/skip_gate.hpp"
#include "container/timing.hpp"

namespace wavecrest::container {
namespace {

constexpr std::uint64_t kMostHeader = 16 << 20, kMostIndex = 512 << 20;
constexpr std::size_t kMostStreams = 64;

std::uint32_t little32(ByteSpan b, std::size_t at) {
    return static_cast<std::uint32_t>(base::little_endian(b, at, 4));
}
std::uint64_t little64(ByteSpan b, std::size_t at) {
    return base::little_endian(b, at, 8);
}
std::string name_at(ByteSpan b, std::size_t at) {
    return at + 4 <= b.size() ? std::string(b.begin() + static_cast<std::ptrdiff_t>(at),
                                            b.begin() + static_cast<std::ptrdiff_t>(at) + 4)
                              : "";
}

// Calls `each` (name, body) for the chunks directly inside `bytes`.
template <typename Each>
void for_chunks(ByteSpan bytes, Each each) {
    std::size_t at = 0;
    while (at + 8 <= bytes.size()) {
        const std::size_t size = std::min<std::size_t>(little32(bytes, at + 4), bytes.size() - at - 8);
        each(name_at(bytes, at), bytes.subspan(at + 8, size));
        at += 8 + size + size % 2;
    }
}

// The number of the stream that a chunk of the movie list belongs to; -1 for none.
int stream_of(std::uint32_t id) {
    const int high = static_cast<int>(id & 0xFF) - '0', low = static_cast<int>(id >> 8 & 0xFF) - '0';
    if (high < 0 || high > 9 || low < 0 || low > 9) return -1;
    const std::uint32_t kind = id >> 16;
    constexpr std::uint32_t kPictures = 'd' | 'c' << 8, kPlain = 'd' | 'b' << 8, kAudio = 'w' | 'b' << 8;
    return kind == kPictures || kind == kPlain || kind == kAudio ? high * 10 + low : -1;
}

struct Stream {
    Track track;
    bool usable = false;
    std::int64_t scale = 1, rate = 25, start = 0;
    std::uint32_t sample_size = 0;
    WaveFormat audio;
    std::vector<ByteVector> indexes;  // OpenDML, as they stand in the header
    SampleIndex samples;              // durations count chunks of pictures, bytes of audio
    // while reading
    SampleIndex::Cursor cursor;
    std::optional<bitstream::AudioFrameSplitter> splitter;
    std::optional<bitstream::mpeg4::Unpacker> unpacker;
    std::int64_t samples_given = 0;  // of audio
    std::vector<Packet> held;        // pictures that wait for the next that is no B picture
    bool reorders = false;
    std::int64_t total = 0;     // chunks of pictures, bytes of audio
    std::int64_t pictures = 0;  // read so far
};

class AviSource : public PacketSource {
  public:
    explicit AviSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes), 2 << 20) {}
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return duration_; }
    const std::vector<Problem>& problems() const override { return problems_; }
    Status open();
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;
    std::vector<RatePiece> rate() const;
    std::vector<std::string> notes;

  private:
    void parse_header(ByteSpan body);
    void parse_stream(ByteSpan body);
    bool read_idx1(std::uint64_t at, std::uint64_t size);
    bool read_open_dml();
    void scan_chunks();
    void add(std::size_t stream, std::uint64_t offset, std::uint32_t size, bool key);
    bool index_is_right();
    void describe();
    void take_picture(Stream& s, ByteVector data, bool key);
    void take_unpacked(Stream& s, ByteVector data, bool key, std::int64_t number);
    void release(Stream& s);
    void take_audio(Stream& s, ByteSpan data);
    Time picture_time(const Stream& s, std::int64_t number) const {
        return base::frames_to_time(number + s.start, {s.rate, s.scale});
    }

    base::WindowReader bytes_;
    std::vector<Stream> streams_;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> movies_;  // bodies of the movie lists
    std::deque<Packet> ready_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    Time duration_{};
    SkipGate skip_;
};

Status AviSource::open() {
    if (!bytes_.source().seekable()) {
        return fail(ErrorKind::input, "the index of AVI files is at their end: can't seek in piped input",
                    bytes_.source().name(), "save it to a file and name that");
    }
    std::uint64_t idx1 = 0, idx1_size = 0;
    std::uint64_t at = 0;
    const std::uint64_t file_size = bytes_.size();
    while (at + 12 <= file_size) {
        WAVECREST_TRY_ASSIGN(head, bytes_.view(at, 12));
        const std::uint64_t size = little32(head, 4);
        if (name_at(head, 0) != "RIFF" || (name_at(head, 8) != "AVI " && name_at(head, 8) != "AVIX")) break;
        const std::uint64_t end = std::min(file_size, at + 8 + size);
        std::uint64_t inside = at + 12;
        while (inside + 8 <= end) {
            WAVECREST_TRY_ASSIGN(chunk, bytes_.view(inside, 12));
            const std::string name = name_at(chunk, 0);
            const std::uint64_t length = little32(chunk, 4);
            if (name == "LIST" && name_at(chunk, 8) == "movi") {
                // A list that was never finished has no size.
                const std::uint64_t list_end = length <= 4 ? file_size : std::min(file_size, inside + 8 + length);
                movies_.emplace_back(inside + 12, list_end);
                if (length <= 4) break;
            } else if (name == "LIST" && name_at(chunk, 8) == "hdrl" && length <= kMostHeader) {
                ByteVector body(static_cast<std::size_t>(length - std::min<std::uint64_t>(length, 4)));
                WAVECREST_TRY_ASSIGN(got, bytes_.source().read_at(inside + 12, body));
                body.resize(got);
                parse_header(body);
            } else if (name == "idx1") {
                idx1 = inside + 8;
                idx1_size = std::min(length, file_size - idx1);
            }
            inside += 8 + length + length % 2;
        }
        if (size == 0) break;
        at += 8 + size + size % 2;
    }
    if (streams_.empty() || movies_.empty())
        return fail(ErrorKind::input, "the file has no stream headers or no video", bytes_.source().name(),
                    "the file is damaged; copy it again");
    bool indexed = read_open_dml();
    if (!indexed && idx1 > 0 && idx1_size <= kMostIndex) indexed = read_idx1(idx1, idx1_size);
    if (indexed && !index_is_right()) {
        notes.emplace_back("the index is wrong: the chunks of the file were read instead");
        indexed = false;
    } else if (!indexed) {
        notes.emplace_back("the index is missing: players can't seek in this file; a remux adds one");
    }
    if (!indexed) scan_chunks();
    describe();
    if (tracks_.empty())
        return fail(ErrorKind::input, notes.empty() ? "no supported video or audio in this file" : notes.front(),
                    bytes_.source().name(), "convert it to H.264 with other software first");
    return {};
}

void AviSource::parse_header(ByteSpan body) {
    for_chunks(body, [&](const std::string& name, ByteSpan chunk) {
        if (name == "LIST" && name_at(chunk, 0) == "strl" && streams_.size() < kMostStreams)
            parse_stream(chunk.subspan(4));
    });
}

void AviSource::parse_stream(ByteSpan body) {
    Stream s;
    std::string type;
    for_chunks(body, [&](const std::string& name, ByteSpan chunk) {
        if (name == "strh" && chunk.size() >= 48) {
            type = name_at(chunk, 0);
            s.scale = std::max<std::int64_t>(little32(chunk, 20), 1);
            s.rate = std::max<std::int64_t>(little32(chunk, 24), 1);
            s.start = std::min<std::uint32_t>(little32(chunk, 28), 1 << 24);
            s.sample_size = little32(chunk, 44);
        } else if (name == "strf" && type == "vids") {
            const BitmapInfo info = parse_bitmap_info(chunk);
            s.track.kind = TrackKind::video;
            s.track.codec = info.codec;
            s.track.width = info.width;
            s.track.height = info.height;
            s.track.codec_config = info.codec == Codec::mpeg4 || info.codec == Codec::vc1 ? info.extra : Bytes();
            s.track.frame_rate = base::reduced({s.rate, s.scale});
            if (const Ratio usual = rate_of_period(base::rescale(1'000'000'000, s.scale, s.rate));
                usual.num < 1'000'000)
                s.track.frame_rate = usual;
            s.usable = info.codec != Codec::unknown;
            if (!s.usable) notes.push_back(fmt::format("video codec {} not supported, skipped", info.name));
        } else if (name == "strf" && type == "auds") {
            s.audio = parse_wave_format(chunk);
            s.track.kind = TrackKind::audio;
            s.track.codec = s.audio.codec;
            s.track.channels = s.audio.channels;
            s.track.sample_rate = s.audio.sample_rate;
            s.track.speakers = s.audio.speakers;
            s.track.bit_depth = s.audio.codec == Codec::lpcm ? (s.audio.unsigned_bytes ? 16 : s.audio.bits) : 0;
            if (s.audio.codec == Codec::aac) s.track.codec_config = s.audio.extra;
            s.usable = s.audio.codec != Codec::unknown && s.audio.sample_rate > 0 && s.audio.channels > 0;
            if (!s.usable) notes.push_back(fmt::format("audio codec {} not supported, skipped", s.audio.name));
        } else if (name == "indx") {
            s.indexes.emplace_back(chunk.begin(), chunk.end());
        }
    });
    s.track.id = static_cast<TrackId>(streams_.size());
    streams_.push_back(std::move(s));
}

void AviSource::add(std::size_t stream, std::uint64_t offset, std::uint32_t size, bool key) {
    Stream& s = streams_[stream];
    if (size > SampleIndex::kLargestSample) return;
    const bool video = s.track.kind == TrackKind::video;
    s.samples.begin_chunk(offset, s.total);
    const std::uint32_t duration = video ? 1 : size;
    s.samples.add(size, key, duration, 0);
    s.total += duration;
}

bool AviSource::read_idx1(std::uint64_t at, std::uint64_t size) {
    ByteVector table(static_cast<std::size_t>(size / 16 * 16));
    const auto got = bytes_.source().read_at(at, table);
    if (!got) return false;
    table.resize(*got / 16 * 16);
    if (table.empty()) return false;
    // Offsets count from the list's name, or from the file's beginning.
    const std::uint64_t list = movies_.front().first - 4;
    const std::uint64_t base = little32(table, 8) >= list ? 0 : list;
    for (std::size_t i = 0; i < table.size(); i += 16) {
        const int stream = stream_of(little32(table, i));
        if (stream < 0 || static_cast<std::size_t>(stream) >= streams_.size()) continue;
        add(static_cast<std::size_t>(stream), base + little32(table, i + 8) + 8, little32(table, i + 12),
            (little32(table, i + 4) & 0x10) != 0);
    }
    return true;
}

// Super indexes name standard indexes, which name chunks (OpenDML AVI file format extensions, 3.0).
bool AviSource::read_open_dml() {
    bool any = false;
    for (std::size_t i = 0; i < streams_.size(); ++i) {
        for (const ByteVector& super : streams_[i].indexes) {
            if (super.size() < 24 || super[3] != 0) continue;  // only indexes of indexes
            const std::uint32_t count = little32(super, 4);
            for (std::uint32_t k = 0; k < count && 24 + (k + 1) * 16 <= super.size(); ++k) {
                const std::uint64_t at = little64(super, 24 + k * 16);
                const std::uint32_t size = little32(super, 24 + k * 16 + 8);
                if (at >= bytes_.size() || size > kMostIndex) return false;
                ByteVector table(size);
                const auto got = bytes_.source().read_at(at, table);
                if (!got || *got < 32) return false;
                table.resize(*got);
                const std::uint32_t entries = little32(table, 12);
                const std::uint64_t base = little64(table, 20);
                for (std::uint32_t e = 0; e < entries && 32 + (e + 1) * 8 <= table.size(); ++e) {
                    const std::uint32_t length = little32(table, 32 + e * 8 + 4);
                    add(i, base + little32(table, 32 + e * 8), length & 0x7FFFFFFF, (length & 0x80000000) == 0);
                    any = true;
                }
            }
        }
    }
    return any;
}

// Whether chunks lie where the index says, at a few places of each stream.
bool AviSource::index_is_right() {
    bool any = false;
    for (std::size_t i = 0; i < streams_.size(); ++i) {
        const SampleIndex& samples = streams_[i].samples;
        if (samples.empty()) {
            if (streams_[i].usable) return false;
            continue;
        }
        for (int place = 0; place < 8; ++place) {
            const auto cursor = samples.at((samples.size() - 1) * static_cast<std::size_t>(place) / 7);
            if (cursor->offset < 8 || cursor->offset + cursor->size > bytes_.size()) {
                if (place > 0 && cursor->offset >= bytes_.size()) continue;  // cut short: told when read
                return false;
            }
            ByteVector head(8);
            if (!bytes_.source().read_at(cursor->offset - 8, head)) return false;
            if (stream_of(little32(head, 0)) != static_cast<int>(i) || little32(head, 4) != cursor->size) return false;
            any = true;
        }
    }
    return any;
}

void AviSource::scan_chunks() {
    for (Stream& s : streams_) {
        s.samples = {};
        s.total = 0;
    }
    ByteVector head(12);
    const std::uint64_t file_size = bytes_.size();
    for (const auto& [begin, end] : movies_) {
        std::uint64_t at = begin;
        int resyncs = 0;
        while (at + 8 <= end) {
            const auto got = bytes_.source().read_at(at, head);
            if (!got || *got < 8) break;
            const std::string name = name_at(head, 0);
            const std::uint32_t size = little32(head, 4);
            const int stream = stream_of(little32(head, 0));
            if (name == "LIST" && name_at(head, 8) == "rec ") {
                at += 12;
                continue;
            }
            const bool known =
                stream >= 0 || name == "JUNK" || name == "idx1" || name == "LIST" || name.substr(0, 2) == "ix";
            if (!known || at + 8 + size > file_size) {
                if (stream >= 0 && at + 8 + size > file_size) break;  // the last is cut
                if (++resyncs > 4 << 20) break;
                at += at % 2 == 0 ? 2 : 1;  // chunks begin at even places
                continue;
            }
            if (stream >= 0 && static_cast<std::size_t>(stream) < streams_.size()) {
                Stream& s = streams_[static_cast<std::size_t>(stream)];
                bool key = s.track.kind != TrackKind::video || s.samples.empty();
                if (!key && size > 0) {
                    // Without an index the pictures themselves tell.
                    ByteVector first(std::min<std::uint32_t>(size, 256));
                    if (bytes_.source().read_at(at + 8, first)) {
                        if (s.track.codec == Codec::mpeg4) {
                            const auto vop = bitstream::mpeg4::first_vop(first, 1);
                            key = vop && vop->type == bitstream::mpeg4::VopType::i;
                        } else if (s.track.codec == Codec::h264 || s.track.codec == Codec::h265) {
                            for (const ByteSpan unit : bitstream::nal::split_byte_stream(first)) {
                                const int type = bitstream::nal::type(s.track.codec, unit);
                                key = key || (s.track.codec == Codec::h264 ? type == 5 || type == 7
                                                                           : type >= 16 && type <= 21);
                            }
                        }
                    }
                }
                add(static_cast<std::size_t>(stream), at + 8, size, key);
            }
            at += 8 + static_cast<std::uint64_t>(size) + size % 2;
        }
    }
}

void AviSource::describe() {
    for (Stream& s : streams_) {
        if (!s.usable || s.samples.empty()) continue;
        // The first piece that is not empty tells what the headers leave out.
        for (auto cursor = s.samples.begin(); !cursor.done(); ++cursor) {
            if (cursor->size == 0) continue;
            const auto view = bytes_.view(cursor->offset, std::min<std::size_t>(cursor->size, 4 << 20));
            if (!view) break;
            ByteVector first(view->begin(), view->end());
            if (s.track.codec == Codec::h264 || s.track.codec == Codec::h265) {
                ByteVector lengths;
                for (const ByteSpan unit : bitstream::nal::split_byte_stream(first))
                    bitstream::nal::append(lengths, unit);
                first = std::move(lengths);
            }
            const Ratio rate = s.track.frame_rate;
            bitstream::describe_headers(s.track, first);
            if (s.track.kind == TrackKind::video) s.track.frame_rate = rate;
            break;
        }
        Time length{};
        if (s.track.kind == TrackKind::video) {
            length = picture_time(s, s.total);
            s.reorders =
                s.track.codec == Codec::mpeg4 || s.track.codec == Codec::mpeg2 || s.track.codec == Codec::mpeg1;
            if (s.track.codec == Codec::mpeg4) {
                ByteVector config(s.track.codec_config.view().begin(), s.track.codec_config.view().end());
                bitstream::mpeg4::clear_packed_mark(config);
                s.track.codec_config = Bytes(std::move(config));
                s.unpacker.emplace(s.track.codec_config.view());
            }
        } else {
            if (s.track.codec != Codec::lpcm && s.track.codec != Codec::aac) s.splitter.emplace(s.track.codec);
            const std::int64_t rate = s.track.codec == Codec::lpcm
                                          ? std::int64_t{s.track.sample_rate} * s.audio.channels * s.audio.bits / 8
                                          : s.audio.byte_rate;
            if (rate > 0) length = base::from_ticks(s.total, rate);
            if (s.track.codec == Codec::lpcm) s.track.bitrate_bps = rate * 8;
        }
        s.track.duration = length;
        duration_ = std::max(duration_, length);
        s.cursor = s.samples.begin();
        tracks_.push_back(s.track);
    }
}

void AviSource::release(Stream& s) {
    for (Packet& p : s.held) ready_.push_back(std::move(p));
    s.held.clear();
}

// Chunks come in decoding order, one for each picture period. B pictures are shown when they are decoded; others when
// the next of them is.
void AviSource::take_picture(Stream& s, ByteVector data, bool key) {
    const std::int64_t number = s.pictures++;
    if (s.unpacker) {
        data = s.unpacker->next(std::move(data));
        const auto vop = bitstream::mpeg4::first_vop(data, 1);
        key = key && vop && vop->type == bitstream::mpeg4::VopType::i;
    }
    take_unpacked(s, std::move(data), key, number);
}

void AviSource::take_unpacked(Stream& s, ByteVector data, bool key, std::int64_t number) {
    if (data.empty()) return;  // the picture before is shown on
    Packet packet;
    packet.track = s.track.id;
    packet.dts = picture_time(s, number - (s.reorders ? 1 : 0));
    packet.duration = picture_time(s, 1) - picture_time(s, 0);
    packet.key = key;
    if (s.track.codec == Codec::h264 || s.track.codec == Codec::h265) {
        ByteVector lengths;
        for (const ByteSpan unit : bitstream::nal::split_byte_stream(data)) {
            if (!bitstream::nal::is_delimiter(s.track.codec, bitstream::nal::type(s.track.codec, unit)))
                bitstream::nal::append(lengths, unit);
        }
        data = std::move(lengths);
    }
    bool b_picture = false;
    if (s.unpacker) {
        const auto vop = bitstream::mpeg4::first_vop(data, 1);
        b_picture = vop && vop->type == bitstream::mpeg4::VopType::b;
    } else if (s.reorders) {
        for (std::size_t at = bitstream::mpeg2::find_start_code(data, 0); at + 6 <= data.size();
             at = bitstream::mpeg2::find_start_code(data, at + 3)) {
            if (data[at + 3] == bitstream::mpeg2::kPicture) {
                b_picture = (data[at + 5] >> 3 & 7) == 3;
                break;
            }
        }
    }
    packet.data = Bytes(std::move(data));
    if (!s.reorders) {
        packet.pts = packet.dts;
        ready_.push_back(std::move(packet));
        return;
    }
    if (b_picture) {
        packet.pts = packet.dts;
        s.held.push_back(std::move(packet));
        return;
    }
    // The one before is now known to be shown here.
    for (Packet& p : s.held) {
        if (p.pts == Time::min()) p.pts = packet.dts;
    }
    release(s);
    packet.pts = Time::min();
    s.held.push_back(std::move(packet));
}

void AviSource::take_audio(Stream& s, ByteSpan data) {
    const auto give = [&](ByteVector bytes, std::int64_t samples) {
        Packet packet;
        packet.track = s.track.id;
        packet.pts = packet.dts = base::from_ticks(s.samples_given, s.track.sample_rate);
        packet.duration = base::from_ticks(samples, s.track.sample_rate);
        packet.key = true;
        packet.data = Bytes(std::move(bytes));
        s.samples_given += samples;
        ready_.push_back(std::move(packet));
    };
    if (s.track.codec == Codec::lpcm) {
        const std::size_t width = static_cast<std::size_t>(s.audio.bits) / 8;
        const std::size_t frame = width * static_cast<std::size_t>(s.audio.channels);
        const std::size_t frames = data.size() / frame;
        ByteVector out;
        if (s.audio.unsigned_bytes) {
            for (std::size_t i = 0; i < frames * frame; ++i) {
                out.push_back(static_cast<std::uint8_t>(data[i] ^ 0x80));
                out.push_back(0);
            }
        } else {
            out.assign(data.begin(), data.begin() + static_cast<std::ptrdiff_t>(frames * frame));
            for (std::size_t i = 0; i < out.size(); i += width)
                std::reverse(out.begin() + static_cast<std::ptrdiff_t>(i),
                             out.begin() + static_cast<std::ptrdiff_t>(i + width));
        }
        if (frames > 0) give(std::move(out), static_cast<std::int64_t>(frames));
        return;
    }
    if (s.track.codec == Codec::aac) {
        if (!data.empty())
            give(ByteVector(data.begin(), data.end()),
                 base::to_ticks(bitstream::audio_duration(s.track, data), s.track.sample_rate));
        return;
    }
    std::vector<bitstream::AudioFrame> frames;
    s.splitter->push(data, std::nullopt, frames);
    for (bitstream::AudioFrame& frame : frames) give(std::move(frame.data), frame.header.samples);
}

Result<std::optional<Packet>> AviSource::read() {
    while (true) {
        while (!ready_.empty()) {
            Packet packet = std::move(ready_.front());
            ready_.pop_front();
            if (skip_.leaves_out(streams_[static_cast<std::size_t>(packet.track)].track.kind, packet)) continue;
            return std::optional<Packet>(std::move(packet));
        }
        Stream* best = nullptr;
        for (Stream& s : streams_) {
            if (!s.usable || s.samples.empty() || s.cursor.done()) continue;
            if (best == nullptr || s.cursor->offset < best->cursor->offset) best = &s;
        }
        if (best == nullptr) {
            for (Stream& s : streams_) {
                while (s.unpacker) {
                    ByteVector left = s.unpacker->rest();
                    if (left.empty()) break;
                    take_unpacked(s, std::move(left), false, s.pictures++);
                }
                for (Packet& p : s.held) {
                    if (p.pts == Time::min()) p.pts = s.held.back().dts + s.held.back().duration;
                }
                release(s);
                if (s.splitter) {
                    std::vector<bitstream::AudioFrame> frames;
                    s.splitter->flush(frames);
                    for (bitstream::AudioFrame& frame : frames) {
                        Packet packet;
                        packet.track = s.track.id;
                        packet.pts = packet.dts = base::from_ticks(s.samples_given, s.track.sample_rate);
                        packet.duration = base::from_ticks(frame.header.samples, s.track.sample_rate);
                        packet.key = true;
                        packet.data = Bytes(std::move(frame.data));
                        s.samples_given += frame.header.samples;
                        ready_.push_back(std::move(packet));
                    }
                }
            }
            if (ready_.empty()) return std::optional<Packet>{};
            continue;
        }
        const SampleIndex::Sample sample = *best->cursor;
        ++best->cursor;
        WAVECREST_TRY_ASSIGN(view, bytes_.view(sample.offset, sample.size));
        if (view.size() < sample.size) {
            const Time at = best->track.kind == TrackKind::video
                                ? picture_time(*best, best->pictures)
                                : base::from_ticks(best->samples_given, std::max(1, best->track.sample_rate));
            problems_.push_back({"the file ends before its last video and audio", at, duration_});
            for (Stream& s : streams_) s.cursor = s.samples.end();
            continue;
        }
        if (best->track.kind == TrackKind::video) {
            take_picture(*best, ByteVector(view.begin(), view.end()), sample.key);
        } else {
            take_audio(*best, view);
        }
    }
}

Status AviSource::seek(Time time) {
    ready_.clear();
    Time from = time;
    for (Stream& s : streams_) {
        if (!s.usable || s.samples.empty()) continue;
        s.held.clear();
        if (s.unpacker) s.unpacker->reset();
        if (s.track.kind != TrackKind::video) continue;
        SampleIndex::Cursor best = s.samples.begin();
        std::int64_t number = 0, best_number = 0;
        for (auto cursor = best; !cursor.done(); ++cursor, ++number) {
            // A picture that others precede in time is shown after them: the next keyframe may be too late.
            if (picture_time(s, number) > time) break;
            if (cursor->key && cursor->size > 0) {
                best = cursor;
                best_number = number;
            }
        }
        s.cursor = best;
        s.pictures = best_number;
        from = std::min(time, picture_time(s, best_number - (s.reorders ? 1 : 0)));
    }
    skip_.set(from);
    for (Stream& s : streams_) {
        if (!s.usable || s.samples.empty() || s.track.kind == TrackKind::video) continue;
        if (s.splitter) s.splitter->reset();
        // Bytes tell the time where the rate is constant; else frames are counted from the beginning.
        s.cursor = s.samples.begin();
        s.samples_given = 0;
        const std::int64_t frame =
            s.track.codec == Codec::lpcm ? std::max<std::int64_t>(s.audio.channels * s.audio.bits / 8, 1) : 0;
        while (frame > 0 && !s.cursor.done()) {
            const std::int64_t samples = s.cursor->size / frame;
            if (base::from_ticks(s.samples_given + samples, s.track.sample_rate) > from) break;
            s.samples_given += samples;
            ++s.cursor;
        }
    }
    return {};
}

std::vector<RatePiece> AviSource::rate() const {
    std::vector<RatePiece> pieces;
    for (const Stream& s : streams_) {
        if (!s.usable || s.samples.empty()) continue;
        const double total = static_cast<double>(std::max<std::int64_t>(s.total, 1));
        const double length = base::to_seconds(s.track.duration);
        double at = 0;
        for (const SampleIndex::Sample& sample : s.samples) {
            const double next = at + sample.duration;
            pieces.push_back(
                {base::from_seconds(length * at / total), base::from_seconds(length * next / total), sample.size});
            at = next;
        }
    }
    return pieces;
}

}  // namespace

Result<MediaFile> open_avi(std::shared_ptr<base::ByteSource> bytes) {
    auto source = std::make_unique<AviSource>(std::move(bytes));
    WAVECREST_TRY(source->open());
    MediaFile file;
    file.container = "avi";
    file.notes = source->notes;
    AviSource* reader = source.get();
    file.rate = [reader] { return reader->rate(); };
    file.source = std::move(source);
    return file;
}

}  // namespace wavecrest::container
