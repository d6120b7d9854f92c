#include "container/matroska_tracks.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/headers.hpp"
#include "container/matroska_ebml.hpp"
#include "container/matroska_format.hpp"
#include "container/riff_codecs.hpp"

namespace wavecrest::container::mkv {
namespace {

// Palette and size of a VobSub description: lines of "palette: rrggbb, ..." and "size: 720x480".
void read_vobsub(ByteSpan body, Track& track) {
    const std::string text(body.begin(), body.end());
    ByteVector palette(64);
    if (const auto at = text.find("palette:"); at != std::string::npos) {
        const char* p = text.c_str() + at + 8;
        for (std::size_t i = 0; i < 16; ++i) {
            char* end = nullptr;
            const unsigned long rgb = std::strtoul(p, &end, 16);
            if (end == p) break;
            const double r = static_cast<double>(rgb >> 16 & 255), g = static_cast<double>(rgb >> 8 & 255),
                         b = static_cast<double>(rgb & 255);
            const auto clamp = [](double v) { return static_cast<std::uint8_t>(std::clamp(v + 0.5, 0.0, 255.0)); };
            palette[i * 4 + 1] = clamp(16 + 0.257 * r + 0.504 * g + 0.098 * b);
            palette[i * 4 + 2] = clamp(128 + 0.439 * r - 0.368 * g - 0.071 * b);
            palette[i * 4 + 3] = clamp(128 - 0.148 * r - 0.291 * g + 0.439 * b);
            p = end;
            while (*p == ',' || *p == ' ') ++p;
        }
    }
    int width = 0, height = 0;
    if (const auto at = text.find("size:"); at != std::string::npos) {
        if (std::sscanf(text.c_str() + at + 5, " %dx%d", &width, &height) == 2 && width > 0 && height > 0) {
            track.width = width;
            track.height = height;
        }
    }
    track.codec_config = Bytes(std::move(palette));
}

// Codec identifiers of Matroska's codec registry (RFC 9559, 5.1.4.1.21): those that begin so, or with `whole` that are
// it.
struct CodecId {
    std::string_view text;
    bool whole;
    Codec codec;
    Conversion conversion = Conversion::none;
};
constexpr CodecId kCodecIds[] = {
    {"V_MPEG4/ISO/AVC", true, Codec::h264},
    {"V_MPEGH/ISO/HEVC", true, Codec::h265},
    {"V_MPEG1", true, Codec::mpeg1},
    {"V_MPEG2", true, Codec::mpeg2},
    {"V_MPEG4/ISO/", false, Codec::mpeg4},
    {"V_VP8", true, Codec::vp8},
    {"V_VP9", true, Codec::vp9},
    {"V_AV1", true, Codec::av1, Conversion::av1},
    {"A_AAC", false, Codec::aac},
    {"A_AC3", false, Codec::ac3},
    {"A_EAC3", true, Codec::eac3},
    {"A_DTS", false, Codec::dts},
    {"A_TRUEHD", true, Codec::truehd},
    {"A_MPEG/L3", true, Codec::mp3},
    {"A_MPEG/L", false, Codec::mp2},
    {"A_PCM/INT/LIT", true, Codec::lpcm, Conversion::little_endian},
    {"A_PCM/INT/", false, Codec::lpcm},
    {"A_FLAC", true, Codec::flac},
    {"A_OPUS", true, Codec::opus},
    {"A_VORBIS", true, Codec::vorbis},
    {"S_TEXT/UTF8", true, Codec::text, Conversion::markup},
    {"S_TEXT/ASCII", true, Codec::text, Conversion::markup},
    {"S_TEXT/WEBVTT", true, Codec::text, Conversion::markup},
    {"D_WEBVTT/SUBTITLES", true, Codec::text, Conversion::markup},
    {"D_WEBVTT/CAPTIONS", true, Codec::text, Conversion::markup},
    {"S_TEXT/ASS", true, Codec::text, Conversion::ass},
    {"S_TEXT/SSA", true, Codec::text, Conversion::ass},
    {"S_ASS", true, Codec::text, Conversion::ass},
    {"S_SSA", true, Codec::text, Conversion::ass},
    {"S_HDMV/PGS", true, Codec::pgs},
    {"S_VOBSUB", true, Codec::dvd_subpicture},
};
// What others are called.
constexpr std::pair<std::string_view, std::string_view> kOtherCodecs[] = {{"V_THEORA", "Theora"},
                                                                          {"V_MJPEG", "Motion JPEG"},
                                                                          {"V_DIRAC", "Dirac"},
                                                                          {"V_FFV1", "FFV1"},
                                                                          {"V_PRORES", "ProRes"},
                                                                          {"V_UNCOMPRESSED", "uncompressed video"},
                                                                          {"V_MPEG4/MS/V3", "MS-MPEG-4 version 3"},
                                                                          {"A_ALAC", "ALAC"},
                                                                          {"A_TTA1", "TTA"}};

// Video whose codec is named as AVI names it.
void read_bitmap(MkvTrack& t) {
    const BitmapInfo bitmap = parse_bitmap_info(t.codec_private.view());
    t.info.codec = bitmap.codec;
    t.info.codec_config = bitmap.extra;
    if (bitmap.codec == Codec::h264 || bitmap.codec == Codec::h265) t.conversion = Conversion::byte_stream;
    if (bitmap.codec == Codec::unknown) t.info.profile = bitmap.name;
}

// What a codec's private data says.
void read_codec_private(MkvTrack& t) {
    Track& info = t.info;
    const ByteSpan config = t.codec_private.view();
    const auto take_sets = [&](const auto& sets) {
        if (sets) t.length_size = sets->length_size;
        if (!sets) info.codec_config = {};
        t.bare = !sets;
    };
    switch (info.codec) {
        case Codec::h264:
            take_sets(bitstream::h264::parameter_sets(config));
            break;
        case Codec::h265:
            take_sets(bitstream::h265::parameter_sets(config));
            break;
        case Codec::vp9:
            // A list of features, not the record this program keeps: that is made of the first frame.
            info.codec_config = {};
            break;
        case Codec::lpcm:
            if (info.bit_depth == 16 || info.bit_depth == 24 || info.bit_depth == 32) break;
            info.codec = Codec::unknown;
            t.conversion = Conversion::none;
            info.profile = fmt::format("LPCM of {} bits", info.bit_depth);
            break;
        case Codec::flac:
            // "fLaC", then metadata blocks of which the first is STREAMINFO.
            if (config.size() >= 8 + bitstream::kFlacStreamInfo && config[0] == 'f')
                info.codec_config =
                    Bytes(ByteVector(config.begin() + 8, config.begin() + 8 + bitstream::kFlacStreamInfo));
            break;
        case Codec::vorbis:
            t.vorbis = bitstream::VorbisTimer::create(config);
            break;
        case Codec::dvd_subpicture:
            read_vobsub(config, info);
            break;
        case Codec::text:
            info.codec_config = {};
            if (t.conversion == Conversion::ass) info.profile = "styles removed";
            break;
        default:
            break;
    }
}

void resolve_codec(MkvTrack& t) {
    Track& info = t.info;
    const std::string_view id = t.codec_id;
    info.codec_config = t.codec_private;
    const auto known = std::find_if(std::begin(kCodecIds), std::end(kCodecIds), [&](const CodecId& one) {
        return one.whole ? id == one.text : id.starts_with(one.text);
    });
    if (known != std::end(kCodecIds)) {
        info.codec = known->codec;
        t.conversion = known->conversion;
        read_codec_private(t);
    } else if (id == "V_MS/VFW/FOURCC") {
        read_bitmap(t);
    }
    if (info.codec == Codec::unknown && info.profile.empty()) {
        info.profile = t.codec_id;
        for (const auto& [other, name] : kOtherCodecs) {
            if (id == other) info.profile = fmt::format("{} ({})", name, id);
        }
    }
    if (t.length_size != 4) t.conversion = Conversion::nal_lengths;
}

void parse_video(ByteSpan body, MkvTrack& t) {
    Track& info = t.info;
    media::MasteringDisplay mastering;
    bool has_mastering = false;
    for_children(body, [&](std::uint32_t id, ByteSpan value) {
        const auto number = static_cast<int>(std::min<std::uint64_t>(unsigned_of(value), 1 << 20));
        switch (id) {
            case kPixelWidth:
                info.width = number;
                break;
            case kPixelHeight:
                info.height = number;
                break;
            case kDisplayWidth:
                t.display_width = number;
                break;
            case kDisplayHeight:
                t.display_height = number;
                break;
            case kDisplayUnit:
                t.display_unit = number;
                break;
            case kFlagInterlaced:
                if (number == 1) info.scan = Scan::interlaced;
                if (number == 2) info.scan = Scan::progressive;
                break;
            case kStereoMode:
                for (const StereoMode& mode : kStereoModes) {
                    if (number != mode.value) continue;
                    info.frame_packing = FramePacking{mode.arrangement, mode.first};
                    info.frame_packing->quincunx = mode.arrangement == FramePacking::Arrangement::checkerboard;
                }
                break;
            case kColour:
                for_children(value, [&](std::uint32_t field, ByteSpan v) {
                    const auto code = static_cast<int>(std::min<std::uint64_t>(unsigned_of(v), 65535));
                    if (field == kMatrix) info.colour.matrix = code;
                    if (field == kTransfer) info.colour.transfer = code;
                    if (field == kPrimaries) info.colour.primaries = code;
                    if (field == kRange) info.colour.full_range = code == 2;
                    if (field == kMaxCll || field == kMaxFall) {
                        media::ContentLight light = info.content_light.value_or(media::ContentLight{});
                        (field == kMaxCll ? light.max_content : light.max_frame_average) = code;
                        info.content_light = light;
                    }
                    if (field != kMastering) return;
                    has_mastering = true;
                    for_children(v, [&](std::uint32_t part, ByteSpan x) {
                        const double amount = std::clamp(float_of(x), 0.0, 1e6);
                        const auto step = static_cast<int>(std::min(amount, 1.0) * 50000 + 0.5);
                        if (part == kLuminanceMax)
                            mastering.max_luminance = static_cast<std::int64_t>(amount * 10000 + 0.5);
                        if (part == kLuminanceMin)
                            mastering.min_luminance = static_cast<std::int64_t>(amount * 10000 + 0.5);
                        const std::uint32_t index = part - kMasteringFirst;
                        if (index < 6)
                            (index % 2 == 0 ? mastering.primaries_x : mastering.primaries_y)[index / 2] = step;
                        if (index == 6) mastering.white_x = step;
                        if (index == 7) mastering.white_y = step;
                    });
                });
                break;
            case kProjection:
                for_children(value, [&](std::uint32_t field, ByteSpan v) {
                    // Roll turns the picture anticlockwise.
                    if (field == kPoseRoll)
                        info.rotation =
                            ((static_cast<int>(std::clamp(-float_of(v), -360.0, 360.0)) + 720) / 90 * 90) % 360;
                });
                break;
            default:
                break;
        }
    });
    if (has_mastering) info.mastering_display = mastering;
    // Pixels, or units that only tell the aspect.
    if (t.display_width > 0 && t.display_height > 0 && info.width > 0 && info.height > 0)
        info.pixel_aspect =
            base::reduced({std::int64_t{t.display_width} * info.height, std::int64_t{t.display_height} * info.width});
    // Whole display pixels round the aspect: one of the usual ones is meant where it gives the same.
    if (t.display_unit == 0 && info.height > 0 && t.display_width > 0) {
        for (const Ratio usual : {Ratio{1, 1}, Ratio{8, 9}, Ratio{32, 27}, Ratio{16, 15}, Ratio{64, 45}, Ratio{10, 11},
                                  Ratio{40, 33}, Ratio{12, 11}, Ratio{16, 11}, Ratio{4, 3}}) {
            const std::int64_t wide = base::rescale(info.width, usual.num, usual.den);
            const std::int64_t high = base::rescale(info.height, usual.den, usual.num);
            if ((wide == t.display_width && t.display_height == info.height) ||
                (high == t.display_height && t.display_width == info.width)) {
                info.pixel_aspect = usual;
                break;
            }
        }
    }
}

void parse_encodings(ByteSpan body, MkvTrack& t) {
    int count = 0;
    for_children(body, [&](std::uint32_t id, ByteSpan encoding) {
        if (id != kContentEncoding) return;
        ++count;
        std::uint64_t type = 0, algorithm = 0;
        ByteVector settings;
        for_children(encoding, [&](std::uint32_t field, ByteSpan value) {
            if (field == kContentEncodingType) type = unsigned_of(value);
            if (field != kContentCompression) return;
            for_children(value, [&](std::uint32_t part, ByteSpan v) {
                if (part == kCompressionAlgorithm) algorithm = unsigned_of(v);
                if (part == kCompressionSettings) settings.assign(v.begin(), v.end());
            });
        });
        if (type != 0) {
            t.problem = "it is encrypted";
        } else if (algorithm == 3) {
            t.stripped_header = std::move(settings);
        } else if (algorithm == 0) {
            t.deflated = true;
        } else {
            t.problem = "its compression is not supported";
        }
    });
    if (count > 1) t.problem = "it has several content encodings";
}

}  // namespace

std::optional<MkvTrack> parse_track_entry(ByteSpan entry, std::string& left_out) {
    MkvTrack t;
    std::uint64_t type = 0;
    double rate = 8000, output_rate = 0;
    t.info.language = "eng";  // the element's default
    bool modern_language = false;
    ByteSpan video;
    for_children(entry, [&](std::uint32_t id, ByteSpan value) {
        switch (id) {
            case kTrackNumber:
                t.number = unsigned_of(value);
                break;
            case kTrackType:
                type = unsigned_of(value);
                break;
            case kFlagDefault:
                t.info.preferred = unsigned_of(value) != 0;
                break;
            case kFlagForced:
                t.info.forced = unsigned_of(value) != 0;
                break;
            case kFlagHearingImpaired:
                if (unsigned_of(value) != 0) t.info.purpose = Purpose::captions;
                break;
            case kFlagVisualImpaired:
                if (unsigned_of(value) != 0) t.info.purpose = Purpose::described;
                break;
            case kFlagCommentary:
                if (unsigned_of(value) != 0) t.info.purpose = Purpose::commentary;
                break;
            case kDefaultDuration:
                // (Longer than an hour it can't be meant.)
                if (unsigned_of(value) <= 3'600'000'000'000)
                    t.default_duration = static_cast<std::int64_t>(unsigned_of(value));
                break;
            case kCodecDelay:
                t.codec_delay = static_cast<std::int64_t>(unsigned_of(value));
                break;
            case kName:
                t.info.name = text_of(value);
                break;
            case kLanguage:
                if (!modern_language) t.info.language = text_of(value);
                break;
            case kLanguageBcp47:
                modern_language = true;
                t.info.language = text_of(value).substr(0, text_of(value).find('-'));
                break;
            case kCodecId:
                t.codec_id = text_of(value);
                break;
            case kCodecPrivate:
                t.codec_private = Bytes(ByteVector(value.begin(), value.end()));
                break;
            case kVideo:
                video = value;
                break;
            case kAudio:
                t.info.channels = 1;
                for_children(value, [&](std::uint32_t field, ByteSpan v) {
                    if (field == kSamplingFrequency) rate = float_of(v);
                    if (field == kOutputFrequency) output_rate = float_of(v);
                    if (field == kChannels)
                        t.info.channels = static_cast<int>(std::min<std::uint64_t>(unsigned_of(v), 255));
                    if (field == kBitDepth)
                        t.info.bit_depth = static_cast<int>(std::min<std::uint64_t>(unsigned_of(v), 64));
                });
                t.info.sample_rate = static_cast<int>(std::clamp(output_rate > 0 ? output_rate : rate, 0.0, 1e6));
                break;
            case kContentEncodings:
                parse_encodings(value, t);
                break;
            default:
                break;
        }
    });
    if (t.number == 0 || t.number > 0x7FFFFFFF) return std::nullopt;
    if (t.info.language == "und") t.info.language.clear();
    t.info.id = static_cast<TrackId>(t.number);
    if (type == 1) {
        t.info.kind = TrackKind::video;
        parse_video(video, t);
    } else if (type == 2) {
        t.info.kind = TrackKind::audio;
    } else if (type == 17) {
        t.info.kind = TrackKind::subtitle;
    } else {
        left_out = fmt::format("track {} ({}) is not video, audio or subtitles, skipped", t.number, t.codec_id);
        return std::nullopt;
    }
    resolve_codec(t);
    if (t.info.kind == TrackKind::video && t.default_duration > 0)
        t.info.frame_rate = rate_of_period(t.default_duration);
    return t;
}

}  // namespace wavecrest::container::mkv
