// Files of one audio track: WAV (RIFF), FLAC (RFC 9639), MP3 (with ID3 tags and the header frames of variable rates),
// ADTS (ISO/IEC 13818-7). Read and written.
#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <deque>
#include <optional>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "base/units.hpp"
#include "base/window_reader.hpp"
#include "bitstream/aac.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/xiph.hpp"
#include "container/reader.hpp"
#include "container/riff_codecs.hpp"
#include "container/tags.hpp"
#include "container/writer.hpp"

namespace wavecrest::container {
namespace {

constexpr std::size_t kPiece = 256 << 10;
constexpr std::uint32_t kLpcmPiece = 4096;  // sample frames in a packet

bool is(ByteSpan bytes, std::size_t at, std::string_view text) {
    return bytes.size() >= at + text.size() &&
           std::equal(text.begin(), text.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

// What the four have in common: one track, an interval of the file that holds its data, places by time.
class AudioSource : public PacketSource {
  public:
    explicit AudioSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes)) { tracks_.resize(1); }
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return tracks_.front().duration; }
    const std::vector<Problem>& problems() const override { return problems_; }
    virtual std::vector<RatePiece> rate() const { return {}; }

    std::string container;
    media::Tags tags;
    std::vector<std::string> notes;
    std::vector<Problem> known_problems;

  protected:
    Track& track() { return tracks_.front(); }
    Packet packet(Time pts, Time duration, ByteVector data) const {
        Packet p;
        p.track = tracks_.front().id;
        p.pts = p.dts = pts;
        p.duration = duration;
        p.key = true;
        p.data = Bytes(std::move(data));
        return p;
    }
    Status check_seekable() const {
        if (bytes_.source().seekable()) return {};
        return fail(skips_refused(bytes_.source()));
    }

    base::WindowReader bytes_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
};

// ---- WAV

class WavSource : public AudioSource {
  public:
    using AudioSource::AudioSource;
    Status open() {
        container = "wav";
        track().id = 1;
        track().kind = TrackKind::audio;
        WAVECREST_TRY_ASSIGN(riff, bytes_.view(0, 12));
        const bool wide = is(riff, 0, "RF64");
        std::uint64_t data_size = 0, wide_size = 0;
        bool has_format = false;
        std::uint64_t at = 12;
        while (true) {
            WAVECREST_TRY_ASSIGN(head, bytes_.view(at, 8 + 64));
            if (head.size() < 8) {
                return fail(ErrorKind::input, "the file has no audio",
                            fmt::format("{}, byte {}", bytes_.source().name(), at), "file is truncated; copy it again");
            }
            const std::uint64_t size = base::little_endian(head, 4, 4);
            if (is(head, 0, "ds64") && head.size() >= 24) wide_size = base::little_endian(head, 16, 8);
            if (is(head, 0, "fmt ")) {
                format_ = parse_wave_format(
                    head.subspan(8, static_cast<std::size_t>(std::min<std::uint64_t>(size, head.size() - 8))));
                has_format = true;
            }
            if (is(head, 0, "data")) {
                data_ = at + 8;
                data_size = size;
                if (wide && size == 0xFFFFFFFF) data_size = wide_size;
                break;
            }
            at += 8 + size + size % 2;
        }
        if (!has_format || format_.codec == Codec::unknown || format_.channels == 0 || format_.sample_rate == 0) {
            return fail(ErrorKind::input,
                        has_format ? fmt::format("WAV files with {} are not supported", format_.name)
                                   : "the file does not declare its audio format",
                        bytes_.source().name(), "convert it to 16 or 24 bits with other software");
        }
        const bool streamed = data_size == 0 || data_size == 0xFFFFFFFF;
        end_ = streamed ? bytes_.size() : data_ + data_size;
        if (bytes_.size() != base::kUnknownSize && end_ > bytes_.size()) {
            missing_ = end_ - bytes_.size();
            end_ = bytes_.size();
        }
        Track& t = track();
        t.codec = format_.codec;
        t.channels = format_.channels;
        t.sample_rate = format_.sample_rate;
        t.speakers = format_.speakers;
        if (format_.codec != Codec::lpcm) {
            return fail(ErrorKind::input,
                        fmt::format("WAV files with {} inside are not supported", media::display_name(format_.codec)),
                        bytes_.source().name(), "convert it to LPCM with other software");
        }
        t.bit_depth = format_.unsigned_bytes ? 16 : format_.bits;
        frame_ = static_cast<std::uint32_t>(format_.channels * format_.bits / 8);
        t.bitrate_bps = std::int64_t{t.sample_rate} * t.channels * t.bit_depth;
        if (end_ != base::kUnknownSize)
            t.duration = base::from_ticks(static_cast<std::int64_t>((end_ - data_) / frame_), t.sample_rate);
        if (missing_ > 0)
            known_problems.push_back(
                {fmt::format("file is truncated: {} missing at the end", base::format_bytes(missing_)), t.duration,
                 t.duration + base::from_ticks(static_cast<std::int64_t>(missing_ / frame_), t.sample_rate)});
        at_ = data_;
        return {};
    }
    Result<std::optional<Packet>> read() override {
        const std::uint64_t left = end_ == base::kUnknownSize ? base::kUnknownSize : end_ - at_;
        const auto wanted = static_cast<std::size_t>(std::min<std::uint64_t>(kLpcmPiece * std::uint64_t{frame_}, left));
        WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, wanted));
        const std::size_t frames = view.size() / frame_;
        if (frames == 0) return std::optional<Packet>{};
        ByteVector data;
        if (format_.unsigned_bytes) {
            data.reserve(frames * frame_ * 2);
            for (std::size_t i = 0; i < frames * frame_; ++i) {
                data.push_back(static_cast<std::uint8_t>(view[i] ^ 0x80));
                data.push_back(0);
            }
        } else {
            data.assign(view.begin(), view.begin() + static_cast<std::ptrdiff_t>(frames * frame_));
            const auto width = static_cast<std::ptrdiff_t>(format_.bits / 8);
            for (auto p = data.begin(); p != data.end(); p += width) std::reverse(p, p + width);
        }
        const Time pts = base::from_ticks(static_cast<std::int64_t>((at_ - data_) / frame_), track().sample_rate);
        at_ += frames * frame_;
        return std::optional(
            packet(pts, base::from_ticks(static_cast<std::int64_t>(frames), track().sample_rate), std::move(data)));
    }
    Status seek(Time time) override {
        WAVECREST_TRY(check_seekable());
        const std::int64_t frames = std::max<std::int64_t>(base::to_ticks(time, track().sample_rate), 0);
        at_ = std::min(end_, data_ + static_cast<std::uint64_t>(frames) * frame_);
        return {};
    }
    std::vector<RatePiece> rate() const override { return {{Time{}, duration(), end_ - data_}}; }

  private:
    WaveFormat format_;
    std::uint32_t frame_ = 4;
    std::uint64_t data_ = 0, end_ = 0, at_ = 0, missing_ = 0;
};

// ---- FLAC

class FlacSource : public AudioSource {
  public:
    using AudioSource::AudioSource;
    Status open(std::uint64_t start) {
        container = "flac";
        track().id = 1;
        track().kind = TrackKind::audio;
        track().codec = Codec::flac;
        std::uint64_t at = start + 4;
        bool last = false;
        while (!last) {
            WAVECREST_TRY_ASSIGN(head, bytes_.view(at, 4));
            if (head.size() < 4)
                return fail(ErrorKind::input, "the file ends inside its headers", bytes_.source().name(),
                            "copy it again");
            last = (head[0] & 0x80) != 0;
            const int type = head[0] & 0x7F;
            const std::uint64_t size =
                static_cast<std::uint64_t>(head[1]) << 16 | static_cast<std::uint64_t>(head[2]) << 8 | head[3];
            if (type == 0) {
                WAVECREST_TRY_ASSIGN(body, bytes_.view(at + 4, static_cast<std::size_t>(size)));
                const auto info = bitstream::parse_flac_info(body);
                if (!info)
                    return fail(ErrorKind::input, "the file's stream information is damaged", bytes_.source().name(),
                                "copy it again");
                info_ = *info;
                track().codec_config = Bytes(ByteVector(body.begin(), body.begin() + bitstream::kFlacStreamInfo));
            } else if (type == 4) {
                WAVECREST_TRY_ASSIGN(body, bytes_.view(at + 4, static_cast<std::size_t>(size)));
                tags = parse_vorbis_comment(body);
            } else if (type == 6) {
                notes.emplace_back("an attached picture is skipped");
            } else if (type == 3 && bytes_.source().seekable()) {
                WAVECREST_TRY_ASSIGN(body, bytes_.view(at + 4, static_cast<std::size_t>(size)));
                base::ByteReader reader(body);
                while (reader.remaining() >= 18) {
                    const std::uint64_t sample = reader.u64(), offset = reader.u64();
                    reader.skip(2);
                    if (sample != ~std::uint64_t{0}) seek_points_.emplace_back(sample, offset);
                }
            }
            at += 4 + size;
        }
        if (track().codec_config.empty())
            return fail(ErrorKind::input, "the file lacks its stream information", bytes_.source().name(),
                        "copy it again");
        bitstream::describe_headers(track(), {});
        data_ = at_ = at;
        track().duration = base::from_ticks(static_cast<std::int64_t>(info_.samples), info_.sample_rate);
        if (info_.samples > 0 && bytes_.size() != base::kUnknownSize && bytes_.size() > data_)
            track().bitrate_bps = static_cast<std::int64_t>(static_cast<double>(bytes_.size() - data_) * 8 /
                                                            base::to_seconds(track().duration));
        return {};
    }
    // A frame reaches to the next header whose check sum is right, and ends with a check sum of its own.
    Result<std::optional<Packet>> read() override {
        while (true) {
            WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, kPiece));
            if (view.size() < 8) return std::optional<Packet>{};
            const auto frame = bitstream::parse_flac_frame(view);
            if (!frame) {
                if (!lost_) problems_.push_back({"damaged bytes skipped", now_, now_});
                lost_ = true;
                const auto next = next_header(view, 1);
                if (next == view.size() && view.size() < kPiece) return std::optional<Packet>{};
                at_ += next == view.size() ? view.size() - bitstream::kFlacFrameHeaderMost : next;
                continue;
            }
            WAVECREST_TRY_ASSIGN(end, frame_end(*frame));
            if (end == 0) {
                if (!lost_)
                    problems_.push_back(
                        {at_ + kPiece > bytes_.size() ? "the file ends inside a frame" : "a frame is damaged", now_,
                         now_});
                lost_ = true;
                // What looks like a header costs the reading of a frame: rubbish full of them is passed over.
                WAVECREST_TRY_ASSIGN(rest, bytes_.view(at_, kPiece));
                const auto next =
                    ++false_headers_ < kMostFalseHeaders ? next_header(rest, frame->header_bytes) : rest.size();
                if (next == rest.size()) {
                    if (rest.size() < kPiece) return std::optional<Packet>{};
                    at_ += rest.size() - bitstream::kFlacFrameHeaderMost;
                    false_headers_ = 0;
                } else {
                    at_ += next;
                }
                continue;
            }
            lost_ = false;
            false_headers_ = 0;
            const std::uint64_t first =
                frame->variable ? frame->number : frame->number * static_cast<std::uint64_t>(info_.min_block);
            const Time pts = base::from_ticks(static_cast<std::int64_t>(first), info_.sample_rate);
            const Time length = base::from_ticks(frame->samples, info_.sample_rate);
            now_ = pts + length;
            WAVECREST_TRY_ASSIGN(whole, bytes_.view(at_, end));
            ByteVector data(whole.begin(), whole.end());
            at_ += end;
            return std::optional(packet(pts, length, std::move(data)));
        }
    }
    Status seek(Time time) override {
        WAVECREST_TRY(check_seekable());
        const std::int64_t target = std::max<std::int64_t>(base::to_ticks(time, info_.sample_rate), 0);
        std::uint64_t low = data_, high = bytes_.size();
        for (const auto& [sample, offset] : seek_points_) {
            if (static_cast<std::int64_t>(sample) <= target && data_ + offset < high)
                low = std::max(low, data_ + offset);
        }
        while (high - low > kPiece) {
            const std::uint64_t middle = low + (high - low) / 2;
            WAVECREST_TRY_ASSIGN(view, bytes_.view(middle, kPiece));
            const std::size_t found = next_header(view, 0);
            if (found == view.size()) {
                high = middle;
                continue;
            }
            const auto frame = bitstream::parse_flac_frame(view.subspan(found));
            const std::uint64_t first =
                frame->variable ? frame->number : frame->number * static_cast<std::uint64_t>(info_.min_block);
            if (static_cast<std::int64_t>(first) <= target) {
                low = middle + found;
            } else {
                high = middle;
            }
        }
        at_ = low;
        while (true) {
            const std::uint64_t before = at_;
            WAVECREST_TRY_ASSIGN(next, read());
            if (!next || next->pts + next->duration > time) {
                at_ = before;
                return {};
            }
        }
    }

  private:
    static constexpr int kMostFalseHeaders = 8;  // in kPiece bytes

    // How long the frame at at_ is; 0 when it has no end that fits. Other layouts' headers inside coded samples are
    // told by the check sum behind the frame, which grows with the search: each byte is looked at once.
    Result<std::size_t> frame_end(const bitstream::FlacFrame& frame) {
        // A frame that saves nothing holds its samples as they are (RFC 9639, 9.2.3), the difference of two channels
        // with one bit more; a quarter is for encoders that do worse.
        const auto bits = static_cast<std::size_t>(info_.bits + 1) * static_cast<std::size_t>(info_.channels);
        const std::size_t most = static_cast<std::size_t>(frame.samples) * bits / 8 * 5 / 4 + 1024;
        std::size_t want = std::min(kPiece, most), summed = 0, end = frame.header_bytes;
        std::uint16_t sum = 0;
        while (true) {
            WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, want));
            while (true) {
                end = next_header(view, end);
                if (end == view.size() && view.size() == want && want < most) break;  // it goes on behind this
                if (end >= summed + 2) {
                    sum = bitstream::flac_crc16(view.subspan(summed, end - 2 - summed), sum);
                    summed = end - 2;
                    if (sum == (view[end - 2] << 8 | view[end - 1])) return end;
                }
                if (end == view.size()) return std::size_t{0};
                ++end;
            }
            end -= std::min(end, bitstream::kFlacFrameHeaderMost);
            end = std::max(end, frame.header_bytes);
            want = std::min(want * 4, most);
        }
    }
    std::size_t next_header(ByteSpan view, std::size_t from) const {
        for (std::size_t i = from; i + 6 <= view.size(); ++i) {
            if (view[i] != 0xFF || (view[i + 1] & 0xFE) != 0xF8) continue;
            const auto frame = bitstream::parse_flac_frame(view.subspan(i));
            if (frame && (frame->sample_rate == 0 || frame->sample_rate == info_.sample_rate) &&
                frame->samples <= info_.max_block)
                return i;
        }
        return view.size();
    }

    bitstream::FlacInfo info_;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> seek_points_;
    std::uint64_t data_ = 0, at_ = 0;
    Time now_{};
    bool lost_ = false;
    int false_headers_ = 0;
};

// ---- MP3 and ADTS: frames one behind the other

class FrameSource : public AudioSource {
  public:
    FrameSource(std::shared_ptr<base::ByteSource> bytes, Codec codec) : AudioSource(std::move(bytes)), codec_(codec) {}
    Status open(std::uint64_t start) {
        container = codec_ == Codec::aac ? "adts" : "mp3";
        track().id = 1;
        track().kind = TrackKind::audio;
        data_ = at_ = start;
        end_ = bytes_.size();
        if (bytes_.source().seekable() && end_ > start + 128) {
            ByteVector tag(3);
            WAVECREST_TRY(bytes_.source().read_at(end_ - 128, tag));
            if (is(tag, 0, "TAG")) end_ -= 128;
        }
        WAVECREST_TRY_ASSIGN(found, find_frame());
        if (!found)
            return fail(ErrorKind::input, "no audio frame was found", bytes_.source().name(), "copy the file again");
        data_ = at_;
        WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, found->bytes + 64));
        const ByteSpan frame = view.first(std::min(view.size(), found->bytes));
        track().codec = found->codec;
        sample_rate_ = found->sample_rate;
        samples_ = found->samples;
        if (codec_ == Codec::aac) {
            track().codec_config = Bytes(bitstream::aac::config_of(*bitstream::aac::parse_adts(frame)));
            bitstream::describe_headers(track(), {});
        } else {
            bitstream::describe_headers(track(), frame);
            track().bitrate_bps = 0;
            WAVECREST_TRY(read_header_frame(frame, *found));
        }
        // The length: told by a header frame, else by the mean size of frames at the beginning.
        if (total_samples_ == 0 && bytes_.source().seekable()) {
            const std::uint64_t from = at_;
            std::uint64_t frames = 0;
            bool same = true;
            const std::size_t first_bytes = found->bytes;
            while (frames < 500) {
                auto next = read();
                if (!next || !*next) break;
                ++frames;
                const std::size_t size = (*next)->data.size();
                same = same && size + 2 >= first_bytes - 9 && size <= first_bytes + 2;
            }
            const std::uint64_t bytes = at_ - from;
            const bool all = frames < 500;
            if (frames > 0 && bytes > 0)
                total_samples_ =
                    all ? static_cast<std::int64_t>(frames) * samples_
                        : static_cast<std::int64_t>(static_cast<double>(end_ - data_) /
                                                    (static_cast<double>(bytes) / static_cast<double>(frames))) *
                              samples_;
            if (!all && !same) notes.emplace_back("the duration is an estimate: variable bit rate without an index");
            at_ = from;
            now_ = 0;
            problems_.clear();
        }
        track().duration = std::max(base::from_ticks(total_samples_ - priming_ - padding_, sample_rate_), Time{});
        if (track().duration.count() > 0)
            track().bitrate_bps =
                static_cast<std::int64_t>(static_cast<double>(end_ - data_) * 8 / base::to_seconds(track().duration));
        return {};
    }
    Result<std::optional<Packet>> read() override {
        while (true) {
            WAVECREST_TRY_ASSIGN(header, find_frame());
            if (!header) return std::optional<Packet>{};
            WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, header->bytes));
            if (view.size() < header->bytes) {
                problems_.push_back({"the file ends inside a frame", time(), time()});
                at_ = end_;
                return std::optional<Packet>{};
            }
            at_ += header->bytes;
            const Time pts = time();
            // What an encoder filled the last frames with is cut off; behind them come another file's.
            if (padding_ > 0 && now_ >= total_samples_) {
                problems_.push_back({"the file has more frames than declared", pts, pts});
                padding_ = 0;
            }
            now_ += header->samples;
            const std::int64_t over = padding_ > 0 ? std::max<std::int64_t>(now_ - (total_samples_ - padding_), 0) : 0;
            if (over >= header->samples) continue;
            ByteSpan data = view;
            if (codec_ == Codec::aac) data = data.subspan(bitstream::aac::parse_adts(view)->header_bytes);
            return std::optional(packet(pts, base::from_ticks(header->samples - over, sample_rate_),
                                        ByteVector(data.begin(), data.end())));
        }
    }
    Status seek(Time target) override {
        WAVECREST_TRY(check_seekable());
        at_ = data_;
        now_ = 0;
        // Frames are short and have their length in front: going through them is quick, and exact.
        while (true) {
            WAVECREST_TRY_ASSIGN(header, find_frame());
            if (!header || time() + base::from_ticks(header->samples, sample_rate_) > target) return {};
            at_ += header->bytes;
            now_ += header->samples;
        }
    }

  private:
    Time time() const { return base::from_ticks(now_ - priming_, sample_rate_ > 0 ? sample_rate_ : 48000); }
    // The header at the next frame; moves there.
    Result<std::optional<bitstream::AudioHeader>> find_frame() {
        bool lost = false;
        const std::uint64_t begun = at_;
        while (at_ + 4 <= end_) {
            WAVECREST_TRY_ASSIGN(view, bytes_.view(at_, bitstream::kAudioHeaderBytes));
            if (view.size() < 4) break;
            const auto header = bitstream::parse_audio_header(codec_, view);
            // After rubbish a frame counts when another follows.
            bool audio = header.has_value() && (sample_rate_ == 0 || header->sample_rate == sample_rate_);
            if (audio && (lost || sample_rate_ == 0)) {
                WAVECREST_TRY_ASSIGN(behind, bytes_.view(at_ + header->bytes, bitstream::kAudioHeaderBytes));
                audio = behind.size() < 4 || bitstream::parse_audio_header(codec_, behind);
            }
            if (audio) {
                if (lost && sample_rate_ > 0 && at_ - begun > 32)
                    problems_.push_back({"damaged bytes skipped", time(), time()});
                return header;
            }
            lost = true;
            ++at_;
            constexpr std::uint64_t kFarthest = 64 << 20;
            if (at_ - begun > kFarthest) break;
        }
        return std::optional<bitstream::AudioHeader>{};
    }
    // The first frame of many files holds no audio but their length and what the encoder added.
    Status read_header_frame(ByteSpan frame, const bitstream::AudioHeader& header) {
        const bool first = header.sample_rate >= 32000;
        const bool mono = header.channels == 1;
        const std::size_t side = first ? (mono ? 17 : 32) : (mono ? 9 : 17);
        const std::size_t at = 4 + side;
        if (is(frame, at, "Xing") || is(frame, at, "Info")) {
            base::ByteReader reader(frame.subspan(at + 4));
            const std::uint32_t flags = reader.u32();
            std::int64_t frames = 0;
            std::uint64_t bytes = 0;
            if ((flags & 1) != 0) frames = reader.u32();
            if ((flags & 2) != 0) bytes = reader.u32();
            if ((flags & 4) != 0) reader.skip(100);
            if ((flags & 8) != 0) reader.skip(4);
            if (reader.ok()) total_samples_ = frames * header.samples;
            reader.skip(21);
            const std::uint32_t delays = reader.u24();
            if (reader.ok() && delays != 0) {
                // A decoder adds 529 samples of its own.
                constexpr int kDecoderDelay = 529;
                priming_ = static_cast<int>(delays >> 12) + kDecoderDelay;
                if (total_samples_ > 0) padding_ = std::max(0, static_cast<int>(delays & 0xFFF) - kDecoderDelay);
            }
            const std::uint64_t told_end = at_ + bytes;
            at_ += header.bytes;
            data_ = at_;
            if (bytes > header.bytes && bytes_.source().seekable() && told_end < end_) {
                // Tags may stand there, or another file's frames: then this header tells of the first alone.
                at_ = told_end;
                const std::size_t known = problems_.size();
                WAVECREST_TRY_ASSIGN(more, find_frame());
                problems_.resize(known);
                WAVECREST_TRY_ASSIGN(behind, bytes_.view(at_ + (more ? more->bytes : 0), bitstream::kAudioHeaderBytes));
                if (more && bitstream::parse_audio_header(codec_, behind)) {
                    notes.emplace_back("its header describes only part of it: the duration is an estimate");
                    total_samples_ = 0;
                    padding_ = 0;
                }
                at_ = data_;
            }
        } else if (is(frame, 36, "VBRI")) {
            base::ByteReader reader(frame.subspan(36 + 14));
            const std::int64_t frames = reader.u32();
            if (reader.ok()) total_samples_ = frames * header.samples;
            at_ += header.bytes;
            data_ = at_;
        }
        return {};
    }

    Codec codec_;
    std::uint64_t data_ = 0, at_ = 0, end_ = 0;
    std::int64_t now_ = 0, total_samples_ = 0;
    int sample_rate_ = 0, samples_ = 0, priming_ = 0, padding_ = 0;
};

// ---- Writers

class AudioWriter : public PacketSink {
  public:
    AudioWriter(std::string_view format, std::unique_ptr<base::ByteSink> file, Track track, WriterSettings settings)
        : format_(format), file_(std::move(file)), track_(std::move(track)), settings_(std::move(settings)) {}

    Status begin() {
        base::ByteWriter out;
        if (format_ == "wav") {
            write_wav_header(out, 0);
        } else if (format_ == "flac") {
            out.text("fLaC");
            const bool tagged = !settings_.tags.empty();
            out.u32((tagged ? 0u : 0x80000000u) | track_.codec_config.size());
            out.raw(track_.codec_config.view());
            if (tagged) {
                const ByteVector comment = make_vorbis_comment(settings_.tags);
                out.u32(0x84000000u | comment.size());
                out.raw(comment);
            }
        } else if (format_ == "mp3") {
            out.raw(make_id3(settings_.tags));
        }
        return file_->write(out.bytes());
    }
    Status write(const Packet& packet) override {
        if (packet.track != track_.id) return {};
        const ByteSpan data = packet.data.view();
        if (format_ == "wav") {
            ByteVector samples(data.begin(), data.end());
            const auto width = static_cast<std::ptrdiff_t>(bytes_a_sample());
            for (auto p = samples.begin(); samples.end() - p >= width; p += width) std::reverse(p, p + width);
            // The audio's own end may lie inside a packet.
            const auto frames = static_cast<std::size_t>(
                std::max<std::int64_t>(base::to_ticks(packet.duration, track_.sample_rate), 0));
            samples.resize(std::min(
                samples.size(), frames * static_cast<std::size_t>(width) * static_cast<std::size_t>(track_.channels)));
            bytes_ += samples.size();
            return put(samples);
        }
        if (format_ == "adts") {
            const ByteVector header = bitstream::aac::make_adts(track_.codec_config.view(), data.size());
            if (header.empty())
                return fail(ErrorKind::input, "this AAC audio can't be written as ADTS",
                            fmt::format("track {}", track_.id), "choose MP4 or Matroska");
            WAVECREST_TRY(put(header));
        }
        return put(data);
    }
    Status finish() override {
        WAVECREST_TRY(file_->write(pending_));
        if (format_ == "wav") {
            base::ByteWriter header;
            write_wav_header(header, bytes_);
            WAVECREST_TRY(file_->write_at(0, header.bytes()));
        }
        return file_->commit();
    }

  private:
    int bytes_a_sample() const { return track_.bit_depth > 24 ? 4 : track_.bit_depth > 16 ? 3 : 2; }
    Status put(ByteSpan data) {
        pending_.insert(pending_.end(), data.begin(), data.end());
        if (pending_.size() < kPiece) return {};
        WAVECREST_TRY(file_->write(pending_));
        pending_.clear();
        return {};
    }
    // RIFF with the extensible format; RF64 (ITU-R BS.2088) takes the place kept for it when 32 bits don't suffice.
    void write_wav_header(base::ByteWriter& out, std::uint64_t bytes) const {
        const bool wide = bytes > 0xFFFFFF00;
        constexpr std::uint64_t kHeader = 4 + 36 + 48 + 8;
        out.text(wide ? "RF64" : "RIFF");
        out.little(wide ? 0xFFFFFFFF : kHeader + bytes, 4);
        out.text("WAVE");
        out.text(wide ? "ds64" : "JUNK");
        out.little(28, 4);
        out.little(wide ? kHeader + bytes : 0, 8);
        out.little(wide ? bytes : 0, 8);
        out.little(0, 8);
        out.little(0, 4);
        const int width = bytes_a_sample(), frame = width * track_.channels;
        out.text("fmt ");
        out.little(40, 4);
        out.little(0xFFFE, 2);
        out.little(static_cast<std::uint64_t>(track_.channels), 2);
        out.little(static_cast<std::uint64_t>(track_.sample_rate), 4);
        out.little(static_cast<std::uint64_t>(track_.sample_rate) * static_cast<std::uint64_t>(frame), 4);
        out.little(static_cast<std::uint64_t>(frame), 2);
        out.little(static_cast<std::uint64_t>(width * 8), 2);
        out.little(22, 2);
        out.little(static_cast<std::uint64_t>(width * 8), 2);
        const Speakers speakers = track_.speakers != 0 ? track_.speakers : media::usual_speakers(track_.channels);
        using namespace media::speaker;
        std::uint64_t mask = speakers & (kLeft | kRight | kCentre | kLowFrequency);
        // The surround pair stands at the sides, or where that keeps the order of samples, behind.
        const bool both = (speakers & kLeftBack) != 0;
        if ((speakers & kLeftSurround) != 0) mask |= both || (speakers & kCentreSurround) != 0 ? 0x30u : 0x600u;
        if (both) mask |= 0x600u;
        if ((speakers & kCentreSurround) != 0) mask |= 0x100u;
        out.little(mask, 4);
        out.u8(1);
        for (const unsigned byte : {0u, 0u, 0u, 0u, 0u, 0x10u, 0u, 0x80u, 0u, 0u, 0xAAu, 0u, 0x38u, 0x9Bu, 0x71u})
            out.u8(byte);
        out.text("data");
        out.little(wide ? 0xFFFFFFFF : bytes, 4);
    }

    std::string format_;
    std::unique_ptr<base::ByteSink> file_;
    Track track_;
    WriterSettings settings_;
    ByteVector pending_;
    std::uint64_t bytes_ = 0;
};

}  // namespace

Result<MediaFile> open_audio_file(std::shared_ptr<base::ByteSource> bytes) {
    // ID3v2 tags stand in front of any of them.
    std::uint64_t start = 0;
    media::Tags told;
    ByteVector head(16);
    for (int tag = 0; tag < 4; ++tag) {
        head.resize(16);
        WAVECREST_TRY_ASSIGN(got, bytes->read_at(start, head));
        head.resize(got);
        if (!is(head, 0, "ID3") || head.size() < 10) break;
        // (Pictures in it may be large: texts stand in front of them.)
        ByteVector text(64 << 10);
        WAVECREST_TRY_ASSIGN(there, bytes->read_at(start, text));
        text.resize(there);
        if (told.empty()) told = parse_id3(text);
        start +=
            10 + (static_cast<std::uint64_t>(head[6] & 0x7F) << 21 | static_cast<std::uint64_t>(head[7] & 0x7F) << 14 |
                  static_cast<std::uint64_t>(head[8] & 0x7F) << 7 | (head[9] & 0x7Fu));
    }
    std::unique_ptr<AudioSource> source;
    if (is(head, 0, "RIFF") || is(head, 0, "RF64")) {
        auto wav = std::make_unique<WavSource>(std::move(bytes));
        WAVECREST_TRY(wav->open());
        source = std::move(wav);
    } else if (is(head, 0, "fLaC")) {
        auto flac = std::make_unique<FlacSource>(std::move(bytes));
        WAVECREST_TRY(flac->open(start));
        source = std::move(flac);
    } else {
        const bool adts = head.size() >= 2 && head[0] == 0xFF && (head[1] & 0xF6) == 0xF0;
        auto frames = std::make_unique<FrameSource>(std::move(bytes), adts ? Codec::aac : Codec::mp3);
        WAVECREST_TRY(frames->open(start));
        source = std::move(frames);
    }
    MediaFile file;
    file.container = source->container;
    file.tags = source->tags.empty() ? told : source->tags;
    file.notes = source->notes;
    file.problems = source->known_problems;
    AudioSource* reader = source.get();
    file.rate = [reader] { return reader->rate(); };
    file.source = std::move(source);
    return file;
}

Result<std::unique_ptr<PacketSink>> create_audio_file(std::string_view format, std::unique_ptr<base::ByteSink> file,
                                                      std::vector<Track> tracks, WriterSettings settings) {
    auto writer =
        std::make_unique<AudioWriter>(format, std::move(file), std::move(tracks.front()), std::move(settings));
    WAVECREST_TRY(writer->begin());
    return std::unique_ptr<PacketSink>(std::move(writer));
}

}  // namespace wavecrest::container
