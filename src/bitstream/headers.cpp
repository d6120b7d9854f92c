#include "bitstream/headers.hpp"

#include <fmt/format.h>

#include <algorithm>

#include "base/bits.hpp"
#include "bitstream/aac.hpp"
#include "bitstream/audio_frames.hpp"
#include "bitstream/captions.hpp"
#include "bitstream/frame_packing.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/mpeg2.hpp"
#include "bitstream/mpeg4_visual.hpp"
#include "bitstream/nal.hpp"
#include "bitstream/web_video.hpp"
#include "bitstream/xiph.hpp"

namespace wavecrest::bitstream {
namespace {

using base::BitReader;

Bytes own(ByteSpan bytes) {
    return Bytes(ByteVector(bytes.begin(), bytes.end()));
}

void take_colour(Track& track, const ColourDescription& colour) {
    if (track.colour.matrix == 2 && track.colour.primaries == 2 && track.colour.transfer == 2) track.colour = colour;
}
void take_aspect(Track& track, Ratio aspect) {
    if (track.pixel_aspect == Ratio{1, 1}) track.pixel_aspect = aspect;
}
// Where pictures come unevenly, headers tell the ticks of their clock (H.264, E.2.1; H.265, E.3.1: the rate is that of
// the ticks unless it is told to be fixed): of use for no more than the fastest there are.
void take_rate(Track& track, Ratio rate) {
    constexpr double kFastest = 300;
    if (track.frame_rate.num == 0 && rate.value() <= kFastest) track.frame_rate = rate;
}
void take_size(Track& track, int width, int height) {
    if (width > 0 && height > 0) {
        track.width = width;
        track.height = height;
    }
}

void describe_h264(Track& track, ByteSpan packet) {
    if (track.codec_config.empty()) {
        std::vector<ByteSpan> sps, pps;
        for (const ByteSpan unit : nal::split_lengths(packet)) {
            if (nal::type(Codec::h264, unit) == h264::kSps && unit.size() > 4) sps.push_back(unit);
            if (nal::type(Codec::h264, unit) == h264::kPps) pps.push_back(unit);
        }
        if (!sps.empty() && !pps.empty()) track.codec_config = Bytes(h264::make_config(sps, pps));
    }
    const auto sps = h264::parse_config(track.codec_config.view());
    if (!sps) return;
    track.profile = sps->profile_name();
    track.level = sps->level_name();
    take_size(track, sps->width, sps->height);
    track.bit_depth = sps->bit_depth;
    track.reference_frames = sps->reference_frames;
    track.reorder_frames = sps->reorder_frames >= 0 ? sps->reorder_frames
                           : sps->profile_idc == 66 ? 0
                                                    : std::min(sps->reference_frames, 4);
    if (track.scan == Scan::unknown) track.scan = sps->frames_only ? Scan::progressive : Scan::interlaced;
    take_rate(track, sps->frame_rate);
    take_aspect(track, sps->pixel_aspect);
    take_colour(track, sps->colour);
    track.closed_captions = track.closed_captions || !caption_pairs(Codec::h264, packet).empty();
    for (const ByteSpan unit : nal::split_lengths(packet)) {
        if (const media::Layers layer = h264::layer_of(unit); layer != media::Layers::none) track.layers = layer;
        for (nal::Messages messages(Codec::h264, unit); const auto message = messages.next();) {
            if (message->type == kFramePackingMessage)
                take_frame_packing(parse_frame_packing(Codec::h264, message->payload), track);
        }
    }
}

void describe_h265(Track& track, ByteSpan packet) {
    const auto units = nal::split_lengths(packet);
    if (track.codec_config.empty()) {
        std::vector<ByteSpan> sets;
        for (const ByteSpan unit : units) {
            if (nal::is_parameter_set(Codec::h265, nal::type(Codec::h265, unit))) sets.push_back(unit);
        }
        track.codec_config = Bytes(h265::make_config(sets));
    }
    const auto sets = h265::parameter_sets(track.codec_config.view());
    if (!sets) return;
    for (const ByteSpan unit : sets->units) {
        h265::read_sei(unit, track);
        const auto sps = h265::parse_sps(unit);
        if (!sps) continue;
        track.profile = sps->profile_name();
        track.level = sps->level_name();
        take_size(track, sps->width, sps->height);
        track.bit_depth = sps->bit_depth;
        track.reference_frames = sps->decoded_picture_buffer;
        track.reorder_frames = sps->reorder_frames;
        if (track.scan == Scan::unknown) track.scan = sps->field_pictures ? Scan::interlaced : Scan::progressive;
        take_rate(track, sps->frame_rate);
        take_aspect(track, sps->pixel_aspect);
        take_colour(track, sps->colour);
    }
    for (const ByteSpan unit : units) h265::read_sei(unit, track);
}

void describe_mpeg2(Track& track, ByteSpan packet) {
    const auto from_config = [&](ByteSpan bytes) -> std::optional<mpeg2::Sequence> {
        for (std::size_t at = mpeg2::find_start_code(bytes, 0); at + 4 < bytes.size();
             at = mpeg2::find_start_code(bytes, at + 3)) {
            if (bytes[at + 3] != mpeg2::kSequenceHeader) continue;
            if (track.codec_config.empty()) {
                std::size_t end = mpeg2::find_start_code(bytes, at + 3);
                while (end + 4 <= bytes.size() && bytes[end + 3] == mpeg2::kExtension)
                    end = mpeg2::find_start_code(bytes, end + 3);
                track.codec_config = own(bytes.subspan(at, end - at));
            }
            return mpeg2::parse_sequence(bytes.subspan(at));
        }
        return std::nullopt;
    };
    auto sequence = from_config(packet);
    if (!sequence) sequence = from_config(track.codec_config.view());
    if (!sequence) return;
    track.codec = sequence->mpeg2 ? Codec::mpeg2 : Codec::mpeg1;
    track.profile = sequence->profile_name();
    track.level = sequence->level_name();
    take_size(track, sequence->width, sequence->height);
    track.bit_depth = 8;
    track.reference_frames = 2;
    track.reorder_frames = sequence->low_delay ? 0 : 1;
    if (track.scan == Scan::unknown)
        track.scan = sequence->progressive || !sequence->mpeg2 ? Scan::progressive : Scan::interlaced;
    take_rate(track, sequence->frame_rate);
    take_aspect(track, sequence->pixel_aspect());
    take_colour(track, sequence->colour);
    track.closed_captions = track.closed_captions || mpeg2::has_closed_captions(packet);
}

// ISO/IEC 14496-2, 6.2.2 and 6.2.3.
void describe_mpeg4(Track& track, ByteSpan packet) {
    ByteSpan bytes = track.codec_config.empty() ? packet : track.codec_config.view();
    track.bit_depth = 8;
    track.reorder_frames = 1;
    for (std::size_t at = mpeg2::find_start_code(bytes, 0); at + 5 < bytes.size();
         at = mpeg2::find_start_code(bytes, at + 3)) {
        const std::uint8_t code = bytes[at + 3];
        if (code == mpeg4::kSequenceStart) {
            const int indication = bytes[at + 4];
            constexpr const char* kSimple = "Simple";
            const int profile = indication >> 4, level = indication & 15;
            track.profile = profile == 0    ? kSimple
                            : profile == 15 ? "Advanced Simple"
                                            : fmt::format("profile {}", profile);
            track.level = fmt::format("{}", profile == 0 && level >= 8    ? 0
                                            : profile == 15 && level >= 8 ? level - 8
                                                                          : level);
        }
        if (code == mpeg4::kVopStart) {
            if (track.codec_config.empty()) track.codec_config = own(bytes.first(at));
            break;
        }
    }
    const auto layer = mpeg4::find_layer(bytes);
    if (!layer) return;
    if (track.profile.empty()) track.profile = layer->advanced ? "Advanced Simple" : "Simple";
    if (layer->pixel_aspect) take_aspect(track, *layer->pixel_aspect);
    if (layer->low_delay) track.reorder_frames = 0;
    if (layer->fixed_rate) take_rate(track, *layer->fixed_rate);
    take_size(track, layer->width, layer->height);
    if (track.scan == Scan::unknown) track.scan = layer->interlaced ? Scan::interlaced : Scan::progressive;
}

// SMPTE ST 421, 6.1: the sequence header of the advanced profile.
void describe_vc1(Track& track, ByteSpan packet) {
    const ByteSpan bytes = track.codec_config.empty() ? packet : track.codec_config.view();
    track.bit_depth = 8;
    track.reorder_frames = 1;
    for (std::size_t at = mpeg2::find_start_code(bytes, 0); at + 12 < bytes.size();
         at = mpeg2::find_start_code(bytes, at + 3)) {
        if (bytes[at + 3] != 0x0F) continue;
        const ByteVector rbsp = nal::unescape(bytes.subspan(at + 4), 64);
        BitReader bits(rbsp);
        if (bits.bits(2) != 3) return;
        track.profile = "Advanced";
        track.level = fmt::format("{}", bits.bits(3));
        bits.skip(2 + 3 + 5 + 1);
        const int width = static_cast<int>(bits.bits(12) + 1) * 2, height = static_cast<int>(bits.bits(12) + 1) * 2;
        bits.skip(1);
        const bool interlaced = bits.flag();
        if (!bits.ok()) return;
        take_size(track, width, height);
        bits.skip(1 + 1 + 1);
        const bool segmented = bits.flag();  // whole pictures, coded as fields
        if (track.scan == Scan::unknown) track.scan = interlaced && !segmented ? Scan::interlaced : Scan::progressive;
        if (bits.flag()) {  // what to do with the pictures: 6.1.14
            bits.skip(14 + 14);
            if (bits.flag()) {
                const std::uint32_t aspect = bits.bits(4);
                const std::uint32_t across = aspect == 15 ? bits.bits(8) : 0, down = aspect == 15 ? bits.bits(8) : 0;
                if (across != 0 && down != 0) take_aspect(track, base::reduced({across, down}));
                // The first thirteen are those of H.264.
                const auto listed = aspect < 14 ? nal::listed_pixel_aspect(aspect) : std::nullopt;
                if (listed) take_aspect(track, *listed);
            }
            if (bits.flag()) {
                if (bits.flag()) {
                    const Ratio rate = base::reduced({bits.bits(16) + 1, 32});
                    if (bits.ok()) take_rate(track, rate);
                } else {
                    constexpr std::int64_t kRates[] = {0, 24, 25, 30, 50, 60, 48, 72};
                    const std::uint32_t rate = bits.bits(8), divisor = bits.bits(4);
                    if (bits.ok() && rate >= 1 && rate <= 7 && (divisor == 1 || divisor == 2))
                        take_rate(track, base::reduced({kRates[rate] * 1000, divisor == 1 ? 1000 : 1001}));
                }
            }
            if (bits.flag()) {
                ColourDescription colour;
                colour.primaries = static_cast<int>(bits.bits(8));
                colour.transfer = static_cast<int>(bits.bits(8));
                colour.matrix = static_cast<int>(bits.bits(8));
                if (bits.ok()) take_colour(track, colour);
            }
        }
        if (track.codec_config.empty()) {
            std::size_t end = mpeg2::find_start_code(bytes, at + 3);
            if (end + 4 <= bytes.size() && bytes[end + 3] == 0x0E) end = mpeg2::find_start_code(bytes, end + 3);
            track.codec_config = own(bytes.subspan(at, end - at));
        }
        return;
    }
}

void describe_web(Track& track, ByteSpan packet) {
    const auto header = track.codec == Codec::vp8   ? parse_vp8(packet)
                        : track.codec == Codec::vp9 ? parse_vp9(packet)
                                                    : parse_av1(packet);
    track.reorder_frames = 0;
    if (track.scan == Scan::unknown) track.scan = Scan::progressive;
    if (track.bit_depth == 0) track.bit_depth = 8;
    ByteSpan config = track.codec_config.view();
    if (header && header->key) {
        WebVideoHeader known = *header;
        take_size(track, known.width, known.height);
        track.bit_depth = known.bit_depth;
        take_colour(track, known.colour);
        if (track.codec == Codec::vp9) {
            known.level = vp9_level(known.width, known.height, track.frame_rate);
            known.colour = track.colour;
            if (config.size() < 6) track.codec_config = Bytes(make_vp9_config(known));
        }
        if (track.codec == Codec::av1 && config.size() < 5) track.codec_config = Bytes(make_av1_config(known, packet));
        config = track.codec_config.view();
    }
    if (track.codec == Codec::vp9 && config.size() >= 6) {
        track.profile = fmt::format("{}", config[0]);
        if (config[1] > 0) track.level = fmt::format("{}.{}", config[1] / 10, config[1] % 10);
        track.bit_depth = config[2] >> 4;
        take_colour(track, {config[3], config[4], config[5], (config[2] & 1) != 0});
    } else if (track.codec == Codec::av1 && config.size() >= 4) {
        constexpr const char* kProfiles[] = {"Main", "High", "Professional"};
        track.profile = kProfiles[std::min(config[1] >> 5, 2)];
        track.level = av1_level_name(config[1] & 31);
        if ((config[2] & 0x80) != 0) track.level += " High";
        track.bit_depth = (config[2] & 0x20) != 0 ? 12 : (config[2] & 0x40) != 0 ? 10 : 8;
        if (!header || !header->key) {
            if (const auto sequence = parse_av1(config.subspan(4))) {
                if (track.width == 0) take_size(track, sequence->width, sequence->height);
                take_colour(track, sequence->colour);
            }
        }
    }
}

void describe_framed(Track& track, ByteSpan packet) {
    // TrueHD on discs has its AC-3 core in front of it; in files it is alone.
    const auto header = parse_audio_header(track.codec == Codec::truehd ? Codec::ac3 : track.codec, packet);
    if (!header) return;
    if (track.codec != Codec::truehd) track.codec = header->codec;
    if (track.channels == 0 || track.codec != Codec::truehd) {
        track.channels = header->channels;
        track.speakers = header->speakers;
    }
    track.sample_rate = header->sample_rate;
    if (track.bitrate_bps == 0 && track.codec != Codec::truehd) track.bitrate_bps = header->bitrate_bps;
    if (track.purpose == Purpose::main) track.purpose = header->purpose;
    if (track.codec == Codec::mp2) track.profile = (packet[1] >> 1 & 3) == 3 ? "Layer I" : "Layer II";
    if (track.codec == Codec::ac3 || track.codec == Codec::eac3) {
        ByteVector config = make_ac3_config(packet);
        // A dependent substream adds pairs and single channels at these places (TS 102 366, F.6).
        if (track.codec == Codec::eac3 && config.size() >= 6) {
            const unsigned places = (config[4] & 1u) << 8 | config[5];
            constexpr Speakers kPlaces[] = {0, media::speaker::kLeftBack | media::speaker::kRightBack,
                                            media::speaker::kCentreSurround};
            for (std::size_t i = 1; i < std::size(kPlaces); ++i) {
                if ((places & 1u << i) != 0) track.speakers |= kPlaces[i];
            }
            track.channels = media::speaker_count(track.speakers);
        }
        track.codec_config = Bytes(std::move(config));
    }
    if (track.codec == Codec::dts) {
        const auto extension = packet.size() > header->bytes
                                   ? parse_audio_header(Codec::dts, packet.subspan(header->bytes))
                                   : std::nullopt;
        if (extension && track.profile.empty()) track.profile = "HD";
    }
}

void describe_aac(Track& track) {
    const auto config = aac::parse_config(track.codec_config.view());
    if (!config) return;
    track.profile = config->profile_name();
    track.sample_rate = config->sample_rate;
    if (config->channels > 0) track.channels = config->channels;
    track.speakers = media::usual_speakers(track.channels);
}

}  // namespace

void describe_headers(Track& track, ByteSpan packet) {
    switch (track.codec) {
        case Codec::h264:
            return describe_h264(track, packet);
        case Codec::h265:
            return describe_h265(track, packet);
        case Codec::mpeg1:
        case Codec::mpeg2:
            return describe_mpeg2(track, packet);
        case Codec::mpeg4:
            return describe_mpeg4(track, packet);
        case Codec::vc1:
            return describe_vc1(track, packet);
        case Codec::vp8:
        case Codec::vp9:
        case Codec::av1:
            return describe_web(track, packet);
        case Codec::ac3:
        case Codec::eac3:
        case Codec::dts:
        case Codec::truehd:
        case Codec::mp2:
        case Codec::mp3:
            return describe_framed(track, packet);
        case Codec::aac:
            return describe_aac(track);
        case Codec::opus:
            if (const auto head = parse_opus_head(track.codec_config.view())) {
                track.channels = head->channels;
                track.sample_rate = kOpusRate;
            }
            return;
        case Codec::vorbis:
            if (const auto headers = split_vorbis_headers(track.codec_config.view())) {
                if (const auto head = parse_vorbis_head(headers->front())) {
                    track.channels = head->channels;
                    track.sample_rate = head->sample_rate;
                }
            }
            return;
        case Codec::flac:
            if (const auto info = parse_flac_info(track.codec_config.view())) {
                track.channels = info->channels;
                track.sample_rate = info->sample_rate;
                track.bit_depth = info->bits;
            }
            return;
        default:
            return;
    }
}

void describe_cadence(Track& track, const std::vector<ByteSpan>& pictures) {
    if (track.codec != Codec::mpeg2) return;
    int count = 0, repeats = 0, progressive = 0;
    std::optional<mpeg2::Sequence> sequence;
    for (const ByteSpan data : pictures) {
        for (std::size_t at = mpeg2::find_start_code(data, 0); at + 4 < data.size();
             at = mpeg2::find_start_code(data, at + 3)) {
            if (data[at + 3] == mpeg2::kSequenceHeader) sequence = mpeg2::parse_sequence(data.subspan(at));
            if (data[at + 3] != mpeg2::kPicture) continue;
            if (const auto picture = mpeg2::parse_picture(data.subspan(at))) {
                ++count;
                repeats += picture->repeat_first_field ? 1 : 0;
                progressive += picture->progressive_frame ? 1 : 0;
            }
            break;
        }
    }
    if (count < 8 || !sequence || sequence->progressive) return;
    if (progressive == count && repeats * 10 > count * 4 && repeats * 10 < count * 6) {
        track.scan = Scan::pulldown;
        track.frame_rate = base::reduced({sequence->frame_rate.num * 4, sequence->frame_rate.den * 5});
    } else if (progressive == count && repeats == 0) {
        track.scan = Scan::progressive;
    }
}

std::string missing_configuration(const Track& track) {
    const auto needs_config = [&] {
        switch (track.codec) {
            case Codec::h264:
            case Codec::h265:
            case Codec::av1:
            case Codec::vp9:
            case Codec::aac:
            case Codec::flac:
            case Codec::opus:
            case Codec::vorbis:
                return true;
            default:
                return false;
        }
    };
    if (needs_config() && track.codec_config.empty()) return "its decoder configuration was not found";
    if (track.kind == TrackKind::video && (track.width <= 0 || track.height <= 0))
        return "its video size was not found";
    if (track.kind == TrackKind::audio && (track.channels <= 0 || track.sample_rate <= 0))
        return "its channels and sample rate were not found";
    return "";
}

std::string codec_string(const Track& track) {
    const ByteSpan config = track.codec_config.view();
    switch (track.codec) {
        case Codec::h264:
            return config.size() >= 4 ? fmt::format("avc1.{:02X}{:02X}{:02X}", config[1], config[2], config[3]) : "";
        case Codec::h265: {
            if (config.size() < 13) return "";
            // ISO/IEC 14496-15, annex E.3: the compatibility flags in reverse order of bits.
            std::uint32_t flags = 0;
            for (int i = 0; i < 32; ++i) {
                if ((config[2 + static_cast<std::size_t>(i) / 8] & 0x80 >> i % 8) != 0) flags |= 1u << i;
            }
            const int space = config[1] >> 6;
            std::string text =
                fmt::format("hvc1.{}{}.{:X}.{}{}", space > 0 ? std::string(1, static_cast<char>('A' + space - 1)) : "",
                            config[1] & 31, flags, (config[1] & 0x20) != 0 ? 'H' : 'L', config[12]);
            std::size_t last = 6;
            while (last > 0 && config[6 + last - 1] == 0) --last;
            for (std::size_t i = 0; i < last; ++i) text += fmt::format(".{:X}", config[6 + i]);
            return text;
        }
        case Codec::av1: {
            if (config.size() < 4) return "";
            const int depth = (config[2] & 0x20) != 0 ? 12 : (config[2] & 0x40) != 0 ? 10 : 8;
            return fmt::format("av01.{}.{:02}{}.{:02}", config[1] >> 5, config[1] & 31,
                               (config[2] & 0x80) != 0 ? 'H' : 'M', depth);
        }
        case Codec::vp9:
            return config.size() >= 3 ? fmt::format("vp09.{:02}.{:02}.{:02}", config[0], config[1], config[2] >> 4)
                                      : "vp09";
        case Codec::vp8:
            return "vp8";
        case Codec::mpeg4:
            for (std::size_t at = 0; at + 5 <= config.size(); ++at) {
                if (config[at] == 0 && config[at + 1] == 0 && config[at + 2] == 1 && config[at + 3] == 0xB0)
                    return fmt::format("mp4v.20.{}", config[at + 4]);
            }
            return "mp4v.20";
        case Codec::mpeg2:
            return "mp4v.61";
        case Codec::mpeg1:
            return "mp4v.6A";
        case Codec::aac:
            if (const auto aac = aac::parse_config(config)) return fmt::format("mp4a.40.{}", aac->object_type);
            return "mp4a.40";
        case Codec::mp2:
        case Codec::mp3:
            return track.sample_rate >= 32000 ? "mp4a.6B" : "mp4a.69";
        case Codec::ac3:
            return "ac-3";
        case Codec::eac3:
            return "ec-3";
        case Codec::dts:
            return "dtsc";
        case Codec::truehd:
            return "mlpa";
        case Codec::vc1:
            return "vc-1";
        case Codec::flac:
            return "flac";
        case Codec::opus:
            return "opus";
        case Codec::vorbis:
            return "vorbis";
        default:
            return "";
    }
}

Time audio_duration(const Track& track, ByteSpan packet) {
    if (track.sample_rate <= 0) return {};
    switch (track.codec) {
        case Codec::aac: {
            const auto config = aac::parse_config(track.codec_config.view());
            return base::from_ticks(config ? config->frame_samples : aac::kFrameSamples,
                                    config ? config->core_rate : track.sample_rate);
        }
        case Codec::opus:
            return base::from_ticks(opus_packet_samples(packet), kOpusRate);
        case Codec::flac:
            if (const auto frame = parse_flac_frame(packet)) return base::from_ticks(frame->samples, track.sample_rate);
            return {};
        case Codec::lpcm: {
            const int bytes = track.channels * (track.bit_depth > 24 ? 4 : track.bit_depth > 16 ? 3 : 2);
            return bytes == 0 ? Time{}
                              : base::from_ticks(static_cast<std::int64_t>(packet.size()) / bytes, track.sample_rate);
        }
        case Codec::truehd: {
            // An access unit alone is a fortieth of a sample block of 48 kHz or a multiple (40 samples at 48 kHz).
            if (const auto header = parse_audio_header(Codec::ac3, packet))
                return base::from_ticks(header->samples, header->sample_rate);
            return base::from_ticks(1, 1200);
        }
        default:
            if (const auto header = parse_audio_header(track.codec, packet))
                return base::from_ticks(header->samples, header->sample_rate);
            return {};
    }
}

ByteVector make_ac3_config(ByteSpan frame) {
    const auto header = parse_audio_header(Codec::ac3, frame);
    if (!header) return {};
    base::BitWriter out;
    if (header->codec == Codec::ac3) {
        BitReader bits(frame.subspan(4));
        out.bits(bits.bits(2), 2);
        const std::uint32_t size_code = bits.bits(6);
        out.bits(bits.bits(5), 5);
        out.bits(bits.bits(3), 3);
        out.bits(bits.bits(3), 3);
        out.bits((header->speakers & media::speaker::kLowFrequency) != 0 ? 1 : 0, 1);
        out.bits(size_code >> 1, 5);
        out.bits(0, 5);
        return out.release();
    }
    // One independent substream, with what depends on it behind it in the packet.
    unsigned dependents = 0, places = 0;
    std::size_t total = header->bytes;
    while (total < frame.size()) {
        const ByteSpan rest = frame.subspan(total);
        const auto next = parse_audio_header(Codec::eac3, rest);
        if (!next || !next->dependent) break;
        ++dependents;
        total += next->bytes;
        BitReader bits(rest.subspan(2));
        bits.skip(2 + 3 + 11);
        bits.skip(2 + 2);
        const std::uint32_t mode = bits.bits(3);
        bits.skip(1 + 5 + 5);
        if (bits.flag()) bits.skip(8);
        if (mode == 0) {
            bits.skip(5);
            if (bits.flag()) bits.skip(8);
        }
        if (bits.flag()) {
            const std::uint32_t map = bits.bits(16);  // E.2.3.1.8; the first is the highest bit
            for (unsigned i = 0; i < 8; ++i) {
                if ((map & 0x8000u >> (5 + i)) != 0) places |= 1u << i;
            }
        }
    }
    BitReader bits(frame.subspan(2));
    bits.skip(2 + 3 + 11);
    const std::uint32_t rate = bits.bits(2);
    bits.skip(2);
    const std::uint32_t mode = bits.bits(3), low = bits.bits(1), bsid = bits.bits(5);
    const auto kbps = static_cast<std::uint32_t>(static_cast<std::int64_t>(total) * 8 * header->sample_rate /
                                                 std::max(1, header->samples) / 1000);
    out.bits(std::min(kbps, 0x1FFFu), 13);
    out.bits(0, 3);
    out.bits(rate, 2);
    out.bits(bsid, 5);
    out.bits(0, 1 + 1 + 3);
    out.bits(mode, 3);
    out.bits(low, 1);
    out.bits(0, 3);
    out.bits(std::min(dependents, 15u), 4);
    if (dependents > 0) {
        out.bits(places, 9);
    } else {
        out.bits(0, 1);
    }
    return out.release();
}

}  // namespace wavecrest::bitstream
