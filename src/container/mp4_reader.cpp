#include "container/mp4_reader.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "base/window_reader.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/xiph.hpp"
#include "container/mp4_movie.hpp"
#include "container/reader.hpp"

namespace wavecrest::container {
namespace {

using namespace mp4;
using base::ByteReader;

Bytes own(ByteSpan bytes) {
    return Bytes(ByteVector(bytes.begin(), bytes.end()));
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
            edited_ = edited_ || track.samples.edited;
            track_states_.push_back({track.samples.index.begin(), nullptr});
            if (track.info.codec == Codec::vorbis)
                track_states_.back().vorbis = bitstream::VorbisTimer::create(track.info.codec_config.view());
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
    struct TrackState {
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
    std::size_t next_track_state() const;

    std::shared_ptr<base::ByteSource> shared_;
    base::WindowReader bytes_;
    std::unique_ptr<MovieParser> parser_;
    Mp4Movie movie_;
    std::vector<Track> tracks_;
    std::vector<TrackState> track_states_;
    std::vector<Problem> problems_;
    bool edited_ = false;
};

Status Mp4Source::read_on() {
    std::vector<std::size_t> positions;
    for (const TrackState& track_state : track_states_) positions.push_back(track_state.cursor.position());
    WAVECREST_TRY(parser_->scan(true));
    std::size_t i = 0;
    for (Mp4Track& track : movie_.tracks) {
        for (const RawTrack& raw : parser_->raw()) {
            if (static_cast<TrackId>(raw.id) == track.info.id) track.samples.index = raw.track.samples.index;
        }
        track_states_[i].cursor = track.samples.index.at(positions[i]);
        ++i;
    }
    return {};
}

// File order: the track whose next sample lies first. Where edit lists reorder the file, decoding order.
std::size_t Mp4Source::next_track_state() const {
    std::size_t best = track_states_.size();
    Time best_time{};
    for (std::size_t i = 0; i < track_states_.size(); ++i) {
        if (track_states_[i].cursor.done()) continue;
        const Time time = edited_ ? movie_.tracks[i].samples.timed(*track_states_[i].cursor).dts : Time{};
        if (best == track_states_.size() ||
            (edited_ ? time < best_time : track_states_[i].cursor->offset < track_states_[best].cursor->offset)) {
            best = i;
            best_time = time;
        }
    }
    return best;
}

Result<std::optional<Packet>> Mp4Source::read() {
    while (true) {
        const std::size_t best = next_track_state();
        if (best == track_states_.size()) {
            if (parser_ == nullptr || parser_->ended()) return std::optional<Packet>{};
            WAVECREST_TRY(read_on());
            continue;
        }
        const Mp4Track& track = movie_.tracks[best];
        const Mp4Sample s = track.samples.timed(*track_states_[best].cursor);
        if (s.offset > bytes_.size() || s.size > bytes_.size() - s.offset) {
            problems_.push_back({"the file ends before its last video and audio", s.pts, movie_.duration});
            for (std::size_t i = 0; i < track_states_.size(); ++i)
                track_states_[i].cursor = movie_.tracks[i].samples.index.end();
            return std::optional<Packet>{};
        }
        ++track_states_[best].cursor;
        WAVECREST_TRY_ASSIGN(data, bytes_.view(s.offset, s.size));
        if (data.size() < s.size) {
            problems_.push_back(
                {"the file ends before its last video and audio", s.pts, std::max(movie_.duration, s.pts)});
            for (std::size_t i = 0; i < track_states_.size(); ++i)
                track_states_[i].cursor = movie_.tracks[i].samples.index.end();
            return std::optional<Packet>{};
        }
        Packet packet;
        packet.track = track.info.id;
        packet.pts = s.pts;
        packet.dts = s.dts;
        packet.duration = s.duration;
        packet.key = s.key;
        packet.hidden = s.hidden;
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

// Times of presentation differ from those of decoding by less.
constexpr Time kSeekStep = std::chrono::seconds(10);

Status Mp4Source::seek(Time time) {
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    Time from = time;
    bool has_picture = false;
    for (std::size_t i = 0; i < track_states_.size(); ++i) {
        if (movie_.tracks[i].info.kind != TrackKind::video) continue;
        const Mp4Samples& samples = movie_.tracks[i].samples;
        // The last keyframe that is shown by then: backwards, further each time that there is none.
        std::optional<SampleIndex::Cursor> best;
        std::size_t end = samples.size();
        for (Time back{}; !best; back = back * 2 + kSeekStep) {
            const std::size_t begin = samples.place_before(time - back);
            for (auto cursor = samples.index.at(begin); !cursor.done() && cursor.position() < end; ++cursor) {
                const Mp4Sample s = samples.timed(*cursor);
                if (s.dts > time) break;
                if (s.key && s.pts <= time) best = cursor;
            }
            if (begin == 0 && !best) best = samples.index.begin();
            end = begin;
        }
        track_states_[i].cursor = *best;
        if (!best->done() && !has_picture) from = std::min(time, samples.timed(**best).pts);
        has_picture = true;
    }
    for (std::size_t i = 0; i < track_states_.size(); ++i) {
        if (movie_.tracks[i].info.kind == TrackKind::video) continue;
        const Mp4Samples& samples = movie_.tracks[i].samples;
        // Subtitles are few, and may be shown for long.
        const bool few = movie_.tracks[i].info.kind == TrackKind::subtitle;
        auto cursor = samples.index.at(few ? 0 : samples.place_before(from - kSeekStep));
        while (!cursor.done()) {
            const Mp4Sample s = samples.timed(*cursor);
            if (s.pts + s.duration > from) break;
            ++cursor;
        }
        track_states_[i].cursor = cursor;
        if (track_states_[i].vorbis) track_states_[i].vorbis->restart();
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

Result<std::optional<MediaHead>> read_mp4_head(const std::shared_ptr<base::ByteSource>& bytes) {
    MovieParser parser(*bytes);
    base::WindowReader window(bytes, 8 << 10);
    WAVECREST_TRY_ASSIGN(told, parser.scan_headers(window));
    if (!told) return std::optional<MediaHead>{};
    Mp4Movie movie;
    WAVECREST_TRY(parser.conclude(movie));
    MediaHead head;
    head.container = "mp4";
    head.duration = movie.duration;
    head.tags = movie.tags;
    for (Mp4Track& track : movie.tracks) {
        if (track.payload == Mp4Track::Payload::plain && track.info.kind != TrackKind::subtitle)
            bitstream::describe_headers(track.info, {});
        head.tracks.push_back(std::move(track.info));
    }
    return std::optional(std::move(head));
}

Result<MediaFile> open_mp4(std::shared_ptr<base::ByteSource> bytes) {
    auto parser = std::make_unique<MovieParser>(*bytes);
    const bool pipe = !bytes->seekable();
    WAVECREST_TRY(parser->scan(pipe));
    Mp4Movie movie;
    WAVECREST_TRY(parser->conclude(movie));
    MediaFile file;
    file.container = "mp4";
    file.title = movie.tags.title;
    file.tags = movie.tags;
    file.notes = movie.notes;
    if (!movie.index_in_front && !pipe) file.notes.emplace_back("index at the end of the file (slow start)");
    if (movie.fragmented) file.notes.emplace_back("fragmented MP4");
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
        file.problems.push_back(
            {fmt::format("file is truncated: {} of video and audio missing", base::format_bytes(movie.missing_bytes)),
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
