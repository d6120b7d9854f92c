// FLV: tags with a type, a time in milliseconds and a payload; the same tags travel over RTMP. Read and written. The
// enhanced tags for HEVC, AV1 and VP9 (fourcc) are read, too.
#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <chrono>
#include <deque>
#include <map>
#include <optional>

#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"
#include "base/window_reader.hpp"
#include "bitstream/aac.hpp"
#include "bitstream/headers.hpp"
#include "container/flv_tags.hpp"
#include "container/reader.hpp"
#include "container/skip_gate.hpp"
#include "container/timing.hpp"
#include "container/writer.hpp"

namespace wavecrest::container {
namespace {

using flv::kAudio;
using flv::kPicture;
using flv::kScript;
constexpr std::size_t kHeader = 9, kTagHeader = 11;
constexpr std::uint64_t kProbe = 4 << 20;
constexpr Time kPriming = std::chrono::milliseconds(100);  // audio so little before the picture starts its decoder
constexpr TrackId kPictureTrack = 1, kAudioTrack = 2;

// ---- Values of script data (AMF 0)

struct Script {
    std::map<std::string, double> numbers;
    std::vector<double> key_times, key_places;
};

// Reads one value; names of nested ones are left out but for the keyframe table.
bool parse_value(base::ByteReader& reader, const std::string& name, Script& script, int depth) {
    if (depth > 8 || !reader.ok() || reader.remaining() == 0) return false;
    const auto object = [&] {
        for (int i = 0; i < 4096 && reader.remaining() >= 3; ++i) {
            const std::string key = reader.text(reader.u16());
            if (key.empty()) {
                reader.skip(1);  // the end mark
                return reader.ok();
            }
            if (!parse_value(reader, key, script, depth + 1)) return false;
        }
        return true;
    };
    switch (reader.u8()) {
        case 0:
            script.numbers[name] = std::bit_cast<double>(reader.u64());
            return reader.ok();
        case 1:
            script.numbers[name] = reader.u8();
            return reader.ok();
        case 2:
            reader.skip(reader.u16());
            return reader.ok();
        case 3:
            return object();
        case 5:
        case 6:
            return true;
        case 8:
            reader.skip(4);
            return object();
        case 10: {
            const std::uint32_t count = reader.u32();
            std::vector<double>* list = name == "times"           ? &script.key_times
                                        : name == "filepositions" ? &script.key_places
                                                                  : nullptr;
            for (std::uint32_t i = 0; i < count && reader.remaining() > 0; ++i) {
                Script scratch;
                if (!parse_value(reader, "v", scratch, depth + 1)) return false;
                if (list != nullptr && scratch.numbers.contains("v")) list->push_back(scratch.numbers["v"]);
            }
            return reader.ok();
        }
        case 11:
            reader.skip(10);
            return reader.ok();
        case 12:
            reader.skip(reader.u32());
            return reader.ok();
        default:
            return false;
    }
}

class FlvSource : public PacketSource {
  public:
    explicit FlvSource(std::shared_ptr<base::ByteSource> bytes) : bytes_(std::move(bytes), 1 << 20) {}
    const std::vector<Track>& tracks() const override { return tracks_; }
    const std::vector<Chapter>& chapters() const override { return chapters_; }
    Time duration() const override { return duration_; }
    const std::vector<Problem>& problems() const override { return problems_; }

    Status open();
    Result<std::optional<Packet>> read() override;
    Status seek(Time time) override;
    std::vector<std::string> notes;

  private:
    Status read_tag();
    void take_picture(ByteSpan body, Time stated);
    void take_audio(ByteSpan body, Time stated);
    void emit_picture(ByteSpan data, Time dts, Time composition, bool key);
    void find_duration();
    // Remembers where a keyframe lies, by the time it is shown at. `body` needs its first bytes only.
    void note_key(ByteSpan body, std::int64_t time, std::uint64_t place) {
        if (body.size() < 5 || (body[0] >> 4 & 7) != 1 || (body[0] & 0x80) != 0 || body[1] != 1) return;
        std::int32_t composition = body[2] << 16 | body[3] << 8 | body[4];
        if (composition >= 0x800000) composition -= 0x1000000;
        const Time shown = ms(time + composition);
        if (keys_.empty() || shown > keys_.back().first) keys_.emplace_back(shown, place);
    }
    static Time ms(std::int64_t value) { return base::from_ticks(value, 1000); }

    base::WindowReader bytes_;
    std::uint64_t at_ = 0, data_ = 0;
    bool ended_ = false;
    Track picture_, audio_;
    bool has_picture_ = false, has_audio_ = false, described_ = false;
    Script script_;
    std::optional<std::int64_t> last_ms_;
    std::optional<PictureGrid> pts_grid_, dts_grid_;
    std::optional<AudioClock> clock_;
    std::deque<Packet> ready_;
    std::optional<Packet> held_;
    std::vector<Track> tracks_;
    std::vector<Chapter> chapters_;
    std::vector<Problem> problems_;
    std::vector<std::pair<Time, std::uint64_t>> keys_;  // learnt on the way
    Time duration_{}, reached_{}, shift_{};
    SkipGate skip_;
};

Status FlvSource::open() {
    WAVECREST_TRY_ASSIGN(head, bytes_.view(0, kHeader + 4));
    base::ByteReader reader(head);
    reader.skip(5);
    const std::uint32_t size = reader.u32();
    if (!reader.ok() || size < kHeader || size > 4096)
        return fail(ErrorKind::input, "the file's header is damaged", bytes_.source().name(), "copy it again");
    data_ = at_ = size + 4;
    // Until both kinds have shown their configuration and a few packets.
    while (!ended_ && at_ < kProbe && (ready_.size() < 30 || !has_picture_ || !has_audio_)) {
        WAVECREST_TRY(read_tag());
        if (ready_.size() > 400) break;
    }
    if (!has_picture_ && !has_audio_)
        return fail(ErrorKind::input, "no supported video or audio in this file", bytes_.source().name(),
                    "copy it again");
    if (const auto length = script_.numbers.find("duration");
        length != script_.numbers.end() && length->second > 0 && length->second < 1e6)
        duration_ = base::from_seconds(length->second);
    if (duration_.count() == 0 && bytes_.source().seekable()) find_duration();
    // Times count from a first decoding time of 0; here they count from the first picture shown, or earlier audio.
    std::optional<Time> first_picture, first_audio;
    for (const Packet& packet : ready_) {
        auto& first = packet.track == kPictureTrack ? first_picture : first_audio;
        first = first ? std::min(*first, packet.pts) : packet.pts;
    }
    if (held_ && !first_picture) first_picture = held_->pts;
    if (first_picture) {
        shift_ = *first_picture;
        if (first_audio && *first_audio + kPriming < shift_) shift_ = std::max(*first_audio, Time{});
        duration_ = std::max(duration_ - shift_, Time{});
    }
    for (Track* track : {&picture_, &audio_}) {
        if (!(track == &picture_ ? has_picture_ : has_audio_)) continue;
        track->duration = duration_;
        tracks_.push_back(*track);
    }
    return {};
}

Status FlvSource::read_tag() {
    WAVECREST_TRY_ASSIGN(head, bytes_.view(at_, kTagHeader));
    if (head.size() < kTagHeader) {
        if (held_) ready_.push_back(std::move(*held_));
        held_.reset();
        ended_ = true;
        return {};
    }
    base::ByteReader reader(head);
    const std::uint8_t type = reader.u8() & 0x1F;
    const std::uint32_t size = reader.u24();
    std::int64_t time = reader.u24();
    time |= static_cast<std::int64_t>(reader.u8()) << 24;
    if ((type != kAudio && type != kPicture && type != kScript) || head[8] != 0 || head[9] != 0 || head[10] != 0) {
        // Damage: the next place where a tag is followed by its size and another tag.
        problems_.push_back({"damaged bytes skipped", reached_, reached_});
        for (std::uint64_t place = at_ + 1;; ++place) {
            const auto view = bytes_.view(place, kTagHeader);
            if (!view || view->size() < kTagHeader) {
                ended_ = true;
                return {};
            }
            const ByteSpan b = *view;
            if ((b[0] != kAudio && b[0] != kPicture) || b[8] != 0 || b[9] != 0 || b[10] != 0) continue;
            const std::uint32_t length =
                static_cast<std::uint32_t>(b[1]) << 16 | static_cast<std::uint32_t>(b[2]) << 8 | b[3];
            const auto behind = bytes_.view(place + kTagHeader + length, 4);
            if (!behind || behind->size() < 4) continue;
            const ByteSpan e = *behind;
            if ((static_cast<std::uint32_t>(e[0]) << 24 | static_cast<std::uint32_t>(e[1]) << 16 |
                 static_cast<std::uint32_t>(e[2]) << 8 | e[3]) != length + kTagHeader)
                continue;
            at_ = place;
            return {};
        }
    }
    const std::uint64_t start = at_;
    WAVECREST_TRY_ASSIGN(body, bytes_.view(at_ + kTagHeader, size));
    if (body.size() < size) {
        problems_.push_back({"the file ends inside a tag", reached_, std::max(reached_, duration_)});
        if (held_) ready_.push_back(std::move(*held_));
        held_.reset();
        ended_ = true;
        return {};
    }
    at_ += kTagHeader + size + 4;
    // Times have 32 bits; long streams wrap.
    if (last_ms_) {
        constexpr std::int64_t kRange = std::int64_t{1} << 32;
        std::int64_t distance = (time - *last_ms_) % kRange;
        if (distance > kRange / 2) distance -= kRange;
        if (distance < -kRange / 2) distance += kRange;
        time = *last_ms_ + distance;
    }
    last_ms_ = time;
    if (type == kScript) {
        base::ByteReader script(body);
        if (script.u8() == 2) {
            const std::string name = script.text(script.u16());
            if (name == "onMetaData") parse_value(script, "", script_, 0);
        }
    } else if (type == kPicture) {
        note_key(body, time, start);
        take_picture(body, ms(time));
    } else {
        take_audio(body, ms(time));
    }
    return {};
}

void FlvSource::take_picture(ByteSpan body, Time stated) {
    if (body.size() < 2) return;
    Codec codec = Codec::unknown;
    int packet_type = 0;
    bool key = false;
    std::size_t at = 1;
    Time composition{};
    const auto signed24 = [&](std::size_t from) {
        const std::int32_t value = body[from] << 16 | body[from + 1] << 8 | body[from + 2];
        return value >= 0x800000 ? value - 0x1000000 : value;
    };
    if ((body[0] & 0x80) != 0) {
        // The enhanced form: packet type and four characters.
        packet_type = body[0] & 15;
        key = (body[0] >> 4 & 7) == 1;
        if (body.size() < 5) return;
        const std::string name(body.begin() + 1, body.begin() + 5);
        codec = name == "avc1"   ? Codec::h264
                : name == "hvc1" ? Codec::h265
                : name == "av01" ? Codec::av1
                : name == "vp09" ? Codec::vp9
                                 : Codec::unknown;
        at = 5;
        if (packet_type == 1 && (codec == Codec::h264 || codec == Codec::h265)) {
            if (body.size() < 8) return;
            composition = ms(signed24(5));
            at = 8;
        }
        if (packet_type == 3) packet_type = 1;
    } else {
        key = body[0] >> 4 == 1;
        const int id = body[0] & 15;
        codec = id == 7 ? Codec::h264 : id == 12 ? Codec::h265 : Codec::unknown;
        if (codec != Codec::unknown) {
            if (body.size() < 5) return;
            packet_type = body[1];
            composition = ms(signed24(2));
            at = 5;
        }
    }
    if (codec == Codec::unknown) {
        if (!has_picture_ && notes.empty()) notes.emplace_back("its video codec is not supported");
        return;
    }
    if (!has_picture_) {
        has_picture_ = true;
        picture_.id = kPictureTrack;
        picture_.kind = TrackKind::video;
        picture_.codec = codec;
    }
    if (picture_.codec != codec) return;
    const ByteSpan data = body.subspan(at);
    if (packet_type == 0) {
        if (picture_.codec_config.empty()) {
            picture_.codec_config = Bytes(ByteVector(data.begin(), data.end()));
            if (codec == Codec::vp9 && data.size() > 4)
                picture_.codec_config = Bytes(ByteVector(data.begin() + 4, data.end()));
        }
        return;
    }
    if (packet_type == 1 && !data.empty()) emit_picture(data, stated, composition, key);
}

void FlvSource::emit_picture(ByteSpan data, Time dts, Time composition, bool key) {
    if (!described_) {
        bitstream::describe_headers(picture_, data);
        if (const auto rate = script_.numbers.find("framerate");
            rate != script_.numbers.end() && picture_.frame_rate.num == 0 && rate->second > 1 && rate->second < 1000)
            picture_.frame_rate = rate_of_period(static_cast<std::int64_t>(1e9 / rate->second));
        described_ = true;
        Ratio rate = picture_.frame_rate;
        if (picture_.scan != Scan::progressive) rate.num *= 2;
        const Time tolerance = ms(1) * 55 / 100;
        pts_grid_.emplace(rate, tolerance);
        dts_grid_.emplace(rate, tolerance);
    }
    Packet packet;
    packet.track = kPictureTrack;
    packet.pts = pts_grid_->snap(dts + composition);
    packet.dts = dts_grid_->snap(dts);
    packet.key = key;
    packet.data = Bytes(ByteVector(data.begin(), data.end()));
    const Time period = picture_.frame_rate.num > 0 ? base::frames_to_time(1, picture_.frame_rate) : ms(40);
    if (held_) {
        const Time distance = packet.dts - held_->dts;
        held_->duration = distance.count() > 0 && distance < std::chrono::seconds(10) ? distance : period;
        ready_.push_back(std::move(*held_));
    }
    packet.duration = period;
    reached_ = std::max(reached_, packet.pts);
    held_ = std::move(packet);
}

void FlvSource::take_audio(ByteSpan body, Time stated) {
    if (body.size() < 2) return;
    const int format = body[0] >> 4;
    const Codec codec = format == 10 ? Codec::aac : format == 2 || format == 14 ? Codec::mp3 : Codec::unknown;
    if (codec == Codec::unknown) {
        if (!has_audio_ && notes.size() < 2) notes.emplace_back("its audio codec is not supported");
        return;
    }
    ByteSpan data = body.subspan(1);
    if (codec == Codec::aac) {
        const bool configuration = data[0] == 0;
        data = data.subspan(1);
        if (configuration) {
            if (audio_.codec_config.empty()) audio_.codec_config = Bytes(ByteVector(data.begin(), data.end()));
            return;
        }
        if (audio_.codec_config.empty()) return;
    }
    if (data.empty()) return;
    if (!has_audio_) {
        audio_.id = kAudioTrack;
        audio_.kind = TrackKind::audio;
        audio_.codec = codec;
        bitstream::describe_headers(audio_, data);
        if (audio_.sample_rate == 0) return;
        has_audio_ = true;
        clock_.emplace(audio_.sample_rate, ms(1) * 11 / 10);
    }
    const Time length = bitstream::audio_duration(audio_, data);
    Packet packet;
    packet.track = kAudioTrack;
    packet.pts = packet.dts = clock_->on_timeline(stated, length);
    packet.duration = length;
    packet.key = true;
    packet.data = Bytes(ByteVector(data.begin(), data.end()));
    reached_ = std::max(reached_, packet.pts);
    ready_.push_back(std::move(packet));
}

// The last tags name their own size behind them: read backwards.
void FlvSource::find_duration() {
    std::uint64_t place = bytes_.size();
    for (int i = 0; i < 8 && place > data_ + 15; ++i) {
        const auto size = bytes_.view(place - 4, 4);
        if (!size || size->size() < 4) return;
        const std::uint32_t length = static_cast<std::uint32_t>((*size)[0]) << 24 |
                                     static_cast<std::uint32_t>((*size)[1]) << 16 |
                                     static_cast<std::uint32_t>((*size)[2]) << 8 | (*size)[3];
        if (length < kTagHeader || place < data_ + length + 4) return;
        place -= length + 4;
        const auto head = bytes_.view(place, kTagHeader);
        if (!head || head->size() < kTagHeader) return;
        const ByteSpan b = *head;
        if (b[0] != kAudio && b[0] != kPicture) continue;
        const std::int64_t time = static_cast<std::int64_t>(b[7]) << 24 | static_cast<std::int64_t>(b[4]) << 16 |
                                  static_cast<std::int64_t>(b[5]) << 8 | b[6];
        Time period = ms(23);
        if (b[0] == kPicture && picture_.frame_rate.num > 0) period = base::frames_to_time(1, picture_.frame_rate);
        duration_ = std::max(duration_, ms(time) + period);
    }
}

Result<std::optional<Packet>> FlvSource::read() {
    while (true) {
        while (ready_.empty() && !ended_) WAVECREST_TRY(read_tag());
        if (ready_.empty()) return std::optional<Packet>{};
        Packet packet = std::move(ready_.front());
        ready_.pop_front();
        const bool picture = packet.track == kPictureTrack;
        if (skip_.leaves_out(picture ? TrackKind::video : TrackKind::audio, packet)) continue;
        packet.pts -= shift_;
        packet.dts -= shift_;
        return std::optional<Packet>(std::move(packet));
    }
}

Status FlvSource::seek(Time shown) {
    const Time time = shown + shift_;
    if (!bytes_.source().seekable()) {
        return fail(skips_refused(bytes_.source()));
    }
    // Keyframes that the file lists or that have gone by; else all tags are gone through by their sizes.
    if (script_.key_times.size() == script_.key_places.size() && keys_.size() < script_.key_times.size()) {
        keys_.clear();
        for (std::size_t i = 0; i < script_.key_times.size(); ++i) {
            if (script_.key_places[i] >= static_cast<double>(data_) &&
                script_.key_places[i] < static_cast<double>(bytes_.size()))
                keys_.emplace_back(base::from_seconds(script_.key_times[i]),
                                   static_cast<std::uint64_t>(script_.key_places[i]));
        }
        std::sort(keys_.begin(), keys_.end());
    }
    std::uint64_t place = keys_.empty() ? data_ : keys_.back().second;
    if (keys_.empty() || keys_.back().first < time) {
        while (true) {
            WAVECREST_TRY_ASSIGN(head, bytes_.view(place, kTagHeader + 5));
            if (head.size() < kTagHeader + 5) break;
            const std::uint32_t size =
                static_cast<std::uint32_t>(head[1]) << 16 | static_cast<std::uint32_t>(head[2]) << 8 | head[3];
            const std::int64_t at = static_cast<std::int64_t>(head[7]) << 24 |
                                    static_cast<std::int64_t>(head[4]) << 16 | static_cast<std::int64_t>(head[5]) << 8 |
                                    head[6];
            if ((head[0] & 0x1F) == kPicture) note_key(head.subspan(kTagHeader), at, place);
            if (ms(at) > time) break;
            place += kTagHeader + size + 4;
        }
    }
    std::uint64_t best = data_;
    std::optional<Time> key;
    for (const auto& [at, where] : keys_) {
        if (at > time) break;
        best = where;
        key = at;
    }
    at_ = best;
    ended_ = false;
    ready_.clear();
    held_.reset();
    last_ms_.reset();
    if (clock_) clock_->restart();
    skip_.set(has_picture_ ? key : std::optional(time), ms(1));
    if (!has_picture_) at_ = data_;
    return {};
}

// ---- Writer

class FlvWriter : public PacketSink {
  public:
    FlvWriter(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks, WriterSettings settings)
        : file_(std::move(file)), settings_(std::move(settings)) {
        for (Track& track : tracks) (track.kind == TrackKind::video ? picture_ : audio_) = std::move(track);
    }
    Status begin() {
        base::ByteWriter out;
        out.text("FLV");
        out.u8(1);
        out.u8((audio_ ? 4u : 0u) | (picture_ ? 1u : 0u));
        out.u32(kHeader);
        out.u32(0);
        std::vector<Track> tracks;
        if (picture_) tracks.push_back(*picture_);
        if (audio_) tracks.push_back(*audio_);
        const std::size_t body_at = out.size() + kTagHeader;
        put_tag(out, kScript, 0, flv::metadata(tracks, &duration_at_));
        duration_at_ += body_at;
        for (const Track& track : tracks) {
            if (const ByteVector config = flv::configuration(track); !config.empty())
                put_tag(out, track.kind == TrackKind::video ? kPicture : kAudio, 0, config);
        }
        return file_->write(out.bytes());
    }
    Status write(const Packet& packet) override {
        const bool picture = picture_ && packet.track == picture_->id;
        if (!picture && !(audio_ && packet.track == audio_->id)) return {};
        if (settings_.duration.count() > 0 && packet.pts >= settings_.duration) return {};
        // Times can't be negative: all are moved by what decoding needs before time 0.
        if (!begun_) {
            begun_ = true;
            shift_ = std::max(-packet.dts, Time{});
        }
        const std::int64_t time = std::max<std::int64_t>(base::to_ticks(packet.dts + shift_, 1000), 0);
        const ByteVector body =
            flv::body(picture ? *picture_ : *audio_, packet, base::to_ticks(packet.pts + shift_, 1000) - time);
        if (body.size() > 0xFFFFFF)
            return fail(ErrorKind::input, "a frame is larger than FLV supports", fmt::format("track {}", packet.track),
                        "choose another format");
        put_tag(out_, picture ? kPicture : kAudio, time, body);
        end_ = std::max(end_, packet.pts + packet.duration + shift_);
        if (out_.size() < (1u << 20)) return {};
        WAVECREST_TRY(file_->write(out_.bytes()));
        out_ = {};
        return {};
    }
    Status finish() override {
        WAVECREST_TRY(file_->write(out_.bytes()));
        base::ByteWriter length;
        length.u64(std::bit_cast<std::uint64_t>(base::to_seconds(end_)));
        WAVECREST_TRY(file_->write_at(duration_at_, length.bytes()));
        return file_->commit();
    }

  private:
    static void put_tag(base::ByteWriter& out, std::uint8_t type, std::int64_t time, ByteSpan body) {
        out.u8(type);
        out.u24(body.size());
        out.u24(static_cast<std::uint64_t>(time) & 0xFFFFFF);
        out.u8(static_cast<std::uint64_t>(time) >> 24 & 0xFF);
        out.u24(0);
        out.raw(body);
        out.u32(body.size() + kTagHeader);
    }

    std::unique_ptr<base::ByteSink> file_;
    WriterSettings settings_;
    std::optional<Track> picture_, audio_;
    base::ByteWriter out_;
    std::size_t duration_at_ = 0;
    bool begun_ = false;
    Time shift_{}, end_{};
};

}  // namespace

Result<MediaFile> open_flv(std::shared_ptr<base::ByteSource> bytes) {
    auto source = std::make_unique<FlvSource>(std::move(bytes));
    WAVECREST_TRY(source->open());
    MediaFile file;
    file.container = "flv";
    file.notes = source->notes;
    file.source = std::move(source);
    return file;
}

Result<std::unique_ptr<PacketSink>> create_flv(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                               WriterSettings settings) {
    if (tracks.size() > 2 ||
        std::count_if(tracks.begin(), tracks.end(), [](const Track& t) { return t.kind == TrackKind::audio; }) > 1) {
        return fail(ErrorKind::input, "FLV supports one video and one audio track", "", "choose one of each");
    }
    auto writer = std::make_unique<FlvWriter>(std::move(file), std::move(tracks), std::move(settings));
    WAVECREST_TRY(writer->begin());
    return std::unique_ptr<PacketSink>(std::move(writer));
}

}  // namespace wavecrest::container
