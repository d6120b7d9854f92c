#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <chrono>
#include <optional>

#include "base/atomic_file.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/xiph.hpp"
#include "container/matroska_format.hpp"
#include "container/subtitle_text.hpp"
#include "container/writer.hpp"
#include "media/language.hpp"

namespace wavecrest::container {
namespace {

using namespace mkv;
using base::ByteWriter;

constexpr std::int64_t kTicksPerSecond = 1000;  // of all times: the usual scale, which leaves room in a block's 16 bits
const Time kLongestCluster = base::from_seconds(5);
constexpr std::size_t kLargestCluster = 4 << 20;
constexpr std::size_t kSeekHeadRoom = 160;
constexpr Time kOpusPreRoll = std::chrono::milliseconds(80);  // RFC 7845, 4.6

void write_id(ByteWriter& out, std::uint32_t id) {
    const int bytes = id > 0xFFFFFF ? 4 : id > 0xFFFF ? 3 : id > 0xFF ? 2 : 1;
    for (int i = bytes - 1; i >= 0; --i) out.u8(id >> (8 * i) & 0xFF);
}
void write_size(ByteWriter& out, std::uint64_t size) {
    int width = 1;
    while (width < 8 && size >= (std::uint64_t{1} << (7 * width)) - 1) ++width;
    out.u8((size >> (8 * (width - 1)) & 0xFF) | 0x80u >> (width - 1));
    for (int i = width - 2; i >= 0; --i) out.u8(size >> (8 * i) & 0xFF);
}

// An element whose size is known when it is closed: four bytes are kept for it.
class Master {
  public:
    Master(ByteWriter& out, std::uint32_t id) : out_(out) {
        write_id(out, id);
        at_ = out.size();
        out.u32(0);
    }
    Master(const Master&) = delete;
    Master& operator=(const Master&) = delete;
    ~Master() { out_.put_u32(at_, 0x10000000u | (out_.size() - at_ - 4)); }

  private:
    ByteWriter& out_;
    std::size_t at_;
};

void put(ByteWriter& out, std::uint32_t id, ByteSpan body) {
    write_id(out, id);
    write_size(out, body.size());
    out.raw(body);
}
void put_text(ByteWriter& out, std::uint32_t id, std::string_view text) {
    put(out, id, base::as_bytes(text));
}
void put_number(ByteWriter& out, std::uint32_t id, std::uint64_t value) {
    int bytes = 1;
    while (bytes < 8 && value >> (8 * bytes) != 0) ++bytes;
    write_id(out, id);
    out.u8(0x80u | static_cast<unsigned>(bytes));
    for (int i = bytes - 1; i >= 0; --i) out.u8(value >> (8 * i) & 0xFF);
}
void put_signed(ByteWriter& out, std::uint32_t id, std::int64_t value) {
    write_id(out, id);
    out.u8(0x88);
    out.u64(static_cast<std::uint64_t>(value));
}
void put_float(ByteWriter& out, std::uint32_t id, double value) {
    write_id(out, id);
    out.u8(0x88);
    out.u64(std::bit_cast<std::uint64_t>(value));
}

std::int64_t to_ns(Time time) {
    return base::rescale(time.count(), 1'000'000'000, base::kFlicksPerSecond);
}

const char* codec_id(const Track& track, bool webm) {
    switch (track.codec) {
        case Codec::mpeg1:
            return "V_MPEG1";
        case Codec::mpeg2:
            return "V_MPEG2";
        case Codec::mpeg4:
            return "V_MPEG4/ISO/ASP";
        case Codec::h264:
            return "V_MPEG4/ISO/AVC";
        case Codec::h265:
            return "V_MPEGH/ISO/HEVC";
        case Codec::vc1:
            return "V_MS/VFW/FOURCC";
        case Codec::vp8:
            return "V_VP8";
        case Codec::vp9:
            return "V_VP9";
        case Codec::av1:
            return "V_AV1";
        case Codec::ac3:
            return "A_AC3";
        case Codec::eac3:
            return "A_EAC3";
        case Codec::dts:
            return "A_DTS";
        case Codec::truehd:
            return "A_TRUEHD";
        case Codec::aac:
            return "A_AAC";
        case Codec::mp2:
            return track.profile == "Layer I" ? "A_MPEG/L1" : "A_MPEG/L2";
        case Codec::mp3:
            return "A_MPEG/L3";
        case Codec::lpcm:
            return "A_PCM/INT/BIG";
        case Codec::flac:
            return "A_FLAC";
        case Codec::opus:
            return "A_OPUS";
        case Codec::vorbis:
            return "A_VORBIS";
        case Codec::pgs:
            return "S_HDMV/PGS";
        case Codec::dvd_subpicture:
            return "S_VOBSUB";
        case Codec::text:
            return webm ? "D_WEBVTT/SUBTITLES" : "S_TEXT/UTF8";
        default:
            return nullptr;
    }
}

// A cue of WebVTT as WebM has it: an identifier and settings, here none, in front of its text.
Packet as_web_vtt(const Packet& cue) {
    const ByteSpan text = cue.data.view();
    const std::string whole = "\n\n" + escaped_web_vtt(std::string(text.begin(), text.end()));
    Packet packet = cue;
    packet.data = Bytes(ByteVector(whole.begin(), whole.end()));
    return packet;
}

ByteVector codec_private(const Track& track) {
    const ByteSpan config = track.codec_config.view();
    switch (track.codec) {
        case Codec::flac: {
            ByteWriter out;
            out.text("fLaC");
            out.u32(0x80000000u | config.size());  // the last metadata block, of type STREAMINFO
            out.raw(config);
            return out.release();
        }
        case Codec::vc1: {
            // A BITMAPINFOHEADER, little-endian, and the sequence header.
            ByteWriter out;
            out.little(static_cast<std::uint32_t>(40 + config.size()), 4);
            out.little(static_cast<std::uint32_t>(track.width), 4);
            out.little(static_cast<std::uint32_t>(track.height), 4);
            out.little(1, 2);
            out.little(24, 2);
            out.text("WVC1");
            out.fill(20);
            out.raw(config);
            return out.release();
        }
        case Codec::dvd_subpicture: {
            std::string text = fmt::format("size: {}x{}\npalette: ", track.width > 0 ? track.width : 720,
                                           track.height > 0 ? track.height : 480);
            for (std::size_t i = 0; i < 16 && (i + 1) * 4 <= config.size(); ++i) {
                const double y = 1.164 * (config[i * 4 + 1] - 16), cr = config[i * 4 + 2] - 128,
                             cb = config[i * 4 + 3] - 128;
                const auto part = [](double v) { return static_cast<unsigned>(std::clamp(v + 0.5, 0.0, 255.0)); };
                text += fmt::format("{}{:02x}{:02x}{:02x}", i > 0 ? ", " : "", part(y + 1.596 * cr),
                                    part(y - 0.813 * cr - 0.391 * cb), part(y + 2.018 * cb));
            }
            text += "\n";
            return {text.begin(), text.end()};
        }
        case Codec::vp9:
        case Codec::ac3:
        case Codec::eac3:
        case Codec::pgs:
        case Codec::text:
            return {};
        default:
            return {config.begin(), config.end()};
    }
}

class MatroskaWriter : public PacketSink {
  public:
    MatroskaWriter(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks, WriterSettings settings, bool webm)
        : file_(std::move(file)), settings_(std::move(settings)), webm_(webm) {
        for (Track& track : tracks) {
            TrackState track_state;
            if (track.codec == Codec::vorbis)
                track_state.vorbis = bitstream::VorbisTimer::create(track.codec_config.view());
            track_state.track = std::move(track);
            track_state.number = track_states_.size() + 1;
            track_states_.push_back(std::move(track_state));
        }
        const auto video = std::find_if(track_states_.begin(), track_states_.end(),
                                        [](const TrackState& l) { return l.track.kind == TrackKind::video; });
        cue_track_state_ = video != track_states_.end() ? static_cast<std::size_t>(video - track_states_.begin()) : 0;
    }

    Status write(const Packet& packet) override;
    Status finish() override;

  private:
    struct TrackState {
        Track track;
        std::uint64_t number = 0;
        std::unique_ptr<bitstream::VorbisTimer> vorbis;
        Time delay{};  // of the codec: the first packet's time lies so much before 0
    };
    struct Cue {
        std::int64_t ticks;
        std::uint64_t cluster;  // offset from the segment's body
    };
    // The beginning is written when the first packet of every track with a delay is known.
    Status begin();
    void write_tracks(ByteWriter& out) const;
    void write_tags(ByteWriter& out) const;
    void write_track(ByteWriter& out, const TrackState& track_state) const;
    Status take(const TrackState& track_state, const Packet& packet);
    Status end_cluster();
    std::int64_t ticks(const TrackState& track_state, const Packet& packet) const {
        return base::to_ticks(packet.pts + track_state.delay, kTicksPerSecond);
    }

    std::unique_ptr<base::ByteSink> file_;
    WriterSettings settings_;
    bool webm_;
    std::vector<TrackState> track_states_;
    std::size_t cue_track_state_ = 0;
    std::vector<Packet> early_;
    bool begun_ = false;
    std::uint64_t segment_ = 0, seek_head_ = 0, info_ = 0, tracks_at_ = 0, chapters_ = 0, duration_at_ = 0;
    ByteWriter cluster_;
    std::optional<std::int64_t> cluster_ticks_;
    std::vector<Cue> cues_;
    Time end_{};
};

Status MatroskaWriter::write(const Packet& packet) {
    if (begun_) {
        for (const TrackState& track_state : track_states_) {
            if (track_state.track.id == packet.track) return take(track_state, packet);
        }
        return {};
    }
    // Delays stand in the track descriptions: the first packets wait until each audio track has shown its own.
    constexpr std::size_t kMostEarly = 600;
    early_.push_back(packet);
    const bool known = std::all_of(track_states_.begin(), track_states_.end(), [&](const TrackState& track_state) {
        return track_state.track.kind != TrackKind::audio ||
               std::any_of(early_.begin(), early_.end(),
                           [&](const Packet& p) { return p.track == track_state.track.id; });
    });
    return known || early_.size() >= kMostEarly ? begin() : Status{};
}

Status MatroskaWriter::begin() {
    begun_ = true;
    for (TrackState& track_state : track_states_) {
        const auto first = std::find_if(early_.begin(), early_.end(),
                                        [&](const Packet& p) { return p.track == track_state.track.id; });
        if (track_state.track.kind == TrackKind::audio && first != early_.end() && first->pts.count() < 0)
            track_state.delay = -first->pts;
    }
    ByteWriter out;
    {
        const Master ebml(out, kEbml);
        put_number(out, kEbmlVersion, 1);
        put_number(out, kEbmlReadVersion, 1);
        put_number(out, kEbmlMaxId, 4);
        put_number(out, kEbmlMaxSize, 8);
        put_text(out, kDocType, webm_ ? "webm" : "matroska");
        put_number(out, kDocTypeVersion, 4);
        put_number(out, kDocTypeReadVersion, 2);
    }
    write_id(out, kSegment);
    out.u64(0x01FFFFFFFFFFFFFF);  // set at the end
    segment_ = out.size();
    seek_head_ = segment_;
    write_id(out, kVoid);
    write_size(out, kSeekHeadRoom - 3);
    out.fill(kSeekHeadRoom - (out.size() - segment_));
    info_ = out.size();
    {
        const Master info(out, kInfo);
        put_number(out, kTimestampScale, 1'000'000'000 / kTicksPerSecond);
        duration_at_ = out.size();
        put_float(out, kDuration, 0);
        if (!settings_.title.empty()) put_text(out, kTitle, settings_.title);
        put_text(out, kMuxingApp, "Wavecrest");
        put_text(out, kWritingApp, "Wavecrest");
    }
    tracks_at_ = out.size();
    write_tracks(out);
    write_tags(out);
    if (settings_.chapters.size() > 1) {
        chapters_ = out.size();
        const Master chapters(out, kChapters);
        const Master edition(out, kEditionEntry);
        std::uint64_t number = 0;
        for (const Chapter& chapter : settings_.chapters) {
            const Master atom(out, kChapterAtom);
            put_number(out, kChapterUid, ++number);
            put_number(out, kChapterStart, static_cast<std::uint64_t>(std::max<std::int64_t>(to_ns(chapter.start), 0)));
            const Master display(out, kChapterDisplay);
            put_text(out, kChapterString, chapter.name);
            put_text(out, kChapterLanguage, "und");
        }
    }
    WAVECREST_TRY(file_->write(out.bytes()));
    std::vector<Packet> waiting;
    waiting.swap(early_);
    for (const Packet& packet : waiting) WAVECREST_TRY(write(packet));
    return {};
}

// RFC 9559, 5.1.8, with the names of the Matroska tagging specification: of the piece (30) and of its album (50).
void MatroskaWriter::write_tags(ByteWriter& out) const {
    const media::Tags& tags = settings_.tags;
    if (tags.empty()) return;
    const Master all(out, kTags);
    const auto level = [&](int value, const std::vector<std::pair<const char*, std::string>>& fields) {
        const bool any = std::any_of(fields.begin(), fields.end(), [](const auto& f) { return !f.second.empty(); });
        if (!any) return;
        const Master tag(out, kTag);
        {
            const Master targets(out, kTargets);
            put_number(out, kTargetTypeValue, static_cast<std::uint64_t>(value));
        }
        for (const auto& [name, text] : fields) {
            if (text.empty()) continue;
            const Master simple(out, kSimpleTag);
            put_text(out, kTagName, name);
            put_text(out, kTagString, text);
        }
    };
    level(50, {{"TITLE", tags.album}});
    level(30, {{"TITLE", tags.title},
               {"ARTIST", tags.performer},
               {"GENRE", tags.genre},
               {"DATE_RELEASED", tags.date},
               {"PART_NUMBER", tags.number > 0 ? std::to_string(tags.number) : ""}});
}

void MatroskaWriter::write_tracks(ByteWriter& out) const {
    const Master tracks(out, kTracks);
    for (const TrackState& track_state : track_states_) write_track(out, track_state);
}

void MatroskaWriter::write_track(ByteWriter& out, const TrackState& track_state) const {
    const Track& track = track_state.track;
    const Master entry(out, kTrackEntry);
    put_number(out, kTrackNumber, track_state.number);
    put_number(out, kTrackUid, track_state.number);
    put_number(out, kTrackType, track.kind == TrackKind::video ? 1 : track.kind == TrackKind::audio ? 2 : 17);
    put_number(out, kFlagLacing, 0);
    put_number(out, kFlagDefault, track.preferred ? 1 : 0);
    if (track.forced) put_number(out, kFlagForced, 1);
    if (!webm_) {
        if (track.purpose == Purpose::captions) put_number(out, kFlagHearingImpaired, 1);
        if (track.purpose == Purpose::described) put_number(out, kFlagVisualImpaired, 1);
        if (track.purpose == Purpose::commentary) put_number(out, kFlagCommentary, 1);
    }
    if (!track.name.empty()) put_text(out, kName, track.name);
    put_text(out, kLanguage, track.language.empty() ? "und" : media::language_639_2_bibliographic(track.language));
    put_text(out, kCodecId, codec_id(track, webm_));
    if (const ByteVector config = codec_private(track); !config.empty()) put(out, kCodecPrivate, config);
    if (track.kind == TrackKind::video) {
        if (track.frame_rate.num > 0)
            put_number(
                out, kDefaultDuration,
                static_cast<std::uint64_t>(base::rescale(1'000'000'000, track.frame_rate.den, track.frame_rate.num)));
        const Master video(out, kVideo);
        put_number(out, kPixelWidth, static_cast<std::uint64_t>(track.width));
        put_number(out, kPixelHeight, static_cast<std::uint64_t>(track.height));
        if (track.scan != Scan::unknown) put_number(out, kFlagInterlaced, track.scan == Scan::interlaced ? 1 : 2);
        if (track.frame_packing) {
            // WebM has no others.
            using Arrangement = FramePacking::Arrangement;
            const FramePacking& packing = *track.frame_packing;
            const bool told = !webm_ || packing.arrangement == Arrangement::side_by_side ||
                              packing.arrangement == Arrangement::top_bottom;
            for (const StereoMode& mode : kStereoModes) {
                // Whose view comes first has to be told: mostly the left one's.
                const bool right = packing.first == FramePacking::View::right;
                if (told && mode.arrangement == packing.arrangement &&
                    right == (mode.first == FramePacking::View::right))
                    put_number(out, kStereoMode, static_cast<std::uint64_t>(mode.value));
            }
        }
        if (track.pixel_aspect != Ratio{1, 1} && track.pixel_aspect.num > 0 && track.pixel_aspect.den > 0) {
            // Widened or heightened, never cropped.
            const bool wide = track.pixel_aspect.num > track.pixel_aspect.den;
            put_number(
                out, kDisplayWidth,
                static_cast<std::uint64_t>(
                    wide ? base::rescale(track.width, track.pixel_aspect.num, track.pixel_aspect.den) : track.width));
            put_number(
                out, kDisplayHeight,
                static_cast<std::uint64_t>(
                    wide ? track.height : base::rescale(track.height, track.pixel_aspect.den, track.pixel_aspect.num)));
        }
        const ColourDescription& colour = track.colour;
        if (colour != ColourDescription{} || track.mastering_display || track.content_light) {
            const Master element(out, kColour);
            put_number(out, kMatrix, static_cast<std::uint64_t>(colour.matrix));
            put_number(out, kTransfer, static_cast<std::uint64_t>(colour.transfer));
            put_number(out, kPrimaries, static_cast<std::uint64_t>(colour.primaries));
            put_number(out, kRange, colour.full_range ? 2 : 1);
            if (track.content_light) {
                put_number(out, kMaxCll, static_cast<std::uint64_t>(track.content_light->max_content));
                put_number(out, kMaxFall, static_cast<std::uint64_t>(track.content_light->max_frame_average));
            }
            if (const auto& display = track.mastering_display) {
                const Master mastering(out, kMastering);
                for (std::uint32_t i = 0; i < 3; ++i) {
                    put_float(out, kMasteringFirst + 2 * i, display->primaries_x[i] / 50000.0);
                    put_float(out, kMasteringFirst + 2 * i + 1, display->primaries_y[i] / 50000.0);
                }
                put_float(out, kMasteringFirst + 6, display->white_x / 50000.0);
                put_float(out, kMasteringFirst + 7, display->white_y / 50000.0);
                put_float(out, kLuminanceMax, static_cast<double>(display->max_luminance) / 10000.0);
                put_float(out, kLuminanceMin, static_cast<double>(display->min_luminance) / 10000.0);
            }
        }
        if (track.rotation != 0) {
            const Master projection(out, kProjection);
            put_float(out, kPoseRoll, -track.rotation);
        }
    } else if (track.kind == TrackKind::audio) {
        if (track_state.delay.count() > 0)
            put_number(out, kCodecDelay, static_cast<std::uint64_t>(to_ns(track_state.delay)));
        if (track.codec == Codec::opus) put_number(out, kSeekPreRoll, static_cast<std::uint64_t>(to_ns(kOpusPreRoll)));
        const Master audio(out, kAudio);
        put_float(out, kSamplingFrequency, track.sample_rate);
        put_number(out, kChannels, static_cast<std::uint64_t>(track.channels));
        if (track.bit_depth > 0)
            put_number(
                out, kBitDepth,
                static_cast<std::uint64_t>(track.codec == Codec::lpcm && track.bit_depth == 20 ? 24 : track.bit_depth));
    }
}

Status MatroskaWriter::take(const TrackState& track_state, const Packet& given) {
    const bool web_text = webm_ && track_state.track.codec == Codec::text;
    const Packet packet = web_text ? as_web_vtt(given) : given;  // (data is shared)
    if (settings_.duration.count() > 0 && packet.pts >= settings_.duration) return {};
    const std::int64_t at = ticks(track_state, packet);
    if (at < 0) return {};  // pictures before the beginning can't be shown, nor told
    const bool cue = &track_state == &track_states_[cue_track_state_] && packet.key;
    const bool video = track_state.track.kind == TrackKind::video;
    if (cluster_ticks_) {
        const std::int64_t relative = at - *cluster_ticks_;
        const bool full =
            cluster_.size() > kLargestCluster || relative > base::to_ticks(kLongestCluster, kTicksPerSecond);
        if (relative < -30000 || relative > 30000 || full || (cue && video)) WAVECREST_TRY(end_cluster());
    }
    if (!cluster_ticks_) {
        cluster_ticks_ = at;
        if (cue || (!video && &track_state == &track_states_[cue_track_state_]))
            cues_.push_back({at, file_->size() - segment_});
        cluster_ = {};
        write_id(cluster_, kCluster);
        cluster_.u32(0);  // its size comes at its end
        put_number(cluster_, kTimestamp, static_cast<std::uint64_t>(at));
    }
    const auto relative = static_cast<std::int16_t>(at - *cluster_ticks_);
    ByteWriter head;
    write_size(head, track_state.number);
    head.u16(static_cast<std::uint16_t>(relative));
    const bool subtitle = track_state.track.kind == TrackKind::subtitle;
    Time cut{};
    if (track_state.track.kind == TrackKind::audio) {  // only the last packet is heard in part
        const Time whole = track_state.vorbis ? base::from_ticks(track_state.vorbis->samples(packet.data.view()),
                                                                 track_state.track.sample_rate)
                                              : bitstream::audio_duration(track_state.track, packet.data.view());
        Time kept = packet.duration;
        if (settings_.duration.count() > 0) kept = std::min(kept, settings_.duration - packet.pts);
        if (whole > kept && kept.count() > 0) cut = whole - kept;
    }
    const std::size_t size = head.size() + 1 + packet.data.size();
    if ((subtitle && packet.duration.count() > 0) || cut.count() > 0) {
        head.u8(0);
        const Master group(cluster_, kBlockGroup);
        write_id(cluster_, kBlock);
        write_size(cluster_, size);
        cluster_.raw(head.bytes());
        cluster_.raw(packet.data.view());
        if (subtitle)
            put_number(cluster_, kBlockDuration,
                       static_cast<std::uint64_t>(
                           std::max<std::int64_t>(base::to_ticks(packet.duration, kTicksPerSecond), 1)));
        if (cut.count() > 0) put_signed(cluster_, kDiscardPadding, to_ns(cut));
    } else {
        head.u8(packet.key ? 0x80 : 0);
        write_id(cluster_, kSimpleBlock);
        write_size(cluster_, size);
        cluster_.raw(head.bytes());
        cluster_.raw(packet.data.view());
    }
    end_ = std::max(end_, packet.pts + packet.duration);
    return {};
}

Status MatroskaWriter::end_cluster() {
    if (!cluster_ticks_) return {};
    cluster_.put_u32(4, 0x10000000u | (cluster_.size() - 8));
    cluster_ticks_.reset();
    return file_->write(cluster_.bytes());
}

Status MatroskaWriter::finish() {
    if (!begun_) WAVECREST_TRY(begin());
    WAVECREST_TRY(end_cluster());
    const std::uint64_t cues_at = file_->size();
    ByteWriter out;
    {
        const Master cues(out, kCues);
        for (const Cue& cue : cues_) {
            const Master point(out, kCuePoint);
            put_number(out, kCueTime, static_cast<std::uint64_t>(cue.ticks));
            const Master positions(out, kCueTrackPositions);
            put_number(out, kCueTrack, track_states_[cue_track_state_].number);
            put_number(out, kCueClusterPosition, cue.cluster);
        }
    }
    WAVECREST_TRY(file_->write(out.bytes()));
    ByteWriter seek;
    {
        const Master head(seek, kSeekHead);
        const auto add = [&](std::uint32_t id, std::uint64_t at) {
            if (at == 0) return;
            ByteWriter target;
            write_id(target, id);
            const Master entry(seek, kSeek);
            put(seek, kSeekId, target.bytes());
            put_number(seek, kSeekPosition, at - segment_);
        };
        add(kInfo, info_);
        add(kTracks, tracks_at_);
        add(kChapters, chapters_);
        if (!cues_.empty()) add(kCues, cues_at);
    }
    const std::size_t left = kSeekHeadRoom - seek.size();
    write_id(seek, kVoid);
    seek.u8(0x40);
    seek.u8(left - 3);
    seek.pad_to(kSeekHeadRoom);
    WAVECREST_TRY(file_->write_at(seek_head_, seek.bytes()));
    ByteWriter length;
    put_float(
        length, kDuration,
        base::to_seconds(settings_.duration.count() > 0 ? std::min(end_, settings_.duration) : end_) * kTicksPerSecond);
    WAVECREST_TRY(file_->write_at(duration_at_, length.bytes()));
    ByteWriter size;
    size.u64(0x0100000000000000u | (file_->size() - segment_));
    WAVECREST_TRY(file_->write_at(segment_ - 8, size.bytes()));
    return file_->commit();
}

}  // namespace

Result<std::unique_ptr<PacketSink>> create_matroska(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                                    WriterSettings settings, bool webm) {
    for (const Track& track : tracks) {
        if (const std::string why = why_not(webm ? "webm" : "matroska", track); !why.empty())
            return fail(ErrorKind::input, why, fmt::format("track {}", track.id), "leave the track out or convert it");
    }
    return std::unique_ptr<PacketSink>(
        std::make_unique<MatroskaWriter>(std::move(file), std::move(tracks), std::move(settings), webm));
}

}  // namespace wavecrest::container
