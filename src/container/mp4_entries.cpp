#include "container/mp4_entries.hpp"

#include <fmt/format.h>

#include <cstring>

#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/headers.hpp"
#include "bitstream/xiph.hpp"
#include "container/mp4_boxes.hpp"
#include "container/riff_codecs.hpp"

namespace wavecrest::container::mp4 {
namespace {

using base::ByteReader;

Bytes own(ByteSpan bytes) {
    return Bytes(ByteVector(bytes.begin(), bytes.end()));
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

void parse_video_entry(const BoxView& entry, Mp4Track& track) {
    if (entry.body.size() < 78) return;
    Track& info = track.info;
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
                track.length_size = sets->length_size;
            } else {
                track.problem = "its decoder configuration is missing or damaged";
            }
            break;
        case fourcc("hvc1"):
        case fourcc("hev1"):
            info.codec = Codec::h265;
            config_of("hvcC");
            if (const auto sets = bitstream::h265::parameter_sets(info.codec_config.view())) {
                track.length_size = sets->length_size;
            } else {
                track.problem = "its decoder configuration is missing or damaged";
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
    if (track.length_size != 4) track.payload = Mp4Track::Payload::nal_lengths;
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

// The fields of an AudioSampleEntry (ISO/IEC 14496-12, 12.2.3) and of QuickTime's sound descriptions of version 1 and
// 2, which are longer.
struct AudioEntry {
    int bits = 0;
    int constant_bits = 0;           // of version 2: of each sample of LPCM
    std::uint32_t format_flags = 0;  // of version 2
    ByteSpan boxes;                  // behind the fields
};

// Nothing where it is cut short.
std::optional<AudioEntry> read_audio_fields(ByteSpan body, Track& info) {
    if (body.size() < 28) return std::nullopt;
    AudioEntry entry;
    ByteReader reader(body);
    reader.skip(8);
    const int version = reader.u16();  // QuickTime's; 0 elsewhere
    reader.skip(6);
    info.channels = reader.u16();
    entry.bits = entry.constant_bits = reader.u16();
    reader.skip(4);
    info.sample_rate = static_cast<int>(reader.u32() >> 16);
    std::size_t boxes_at = 28;
    if (version == 1) boxes_at += 16;
    if (version == 2 && body.size() >= 64) {
        boxes_at += 36;
        reader.skip(4);
        const std::uint64_t rate = reader.u64();
        double value = 0;
        static_assert(sizeof(value) == sizeof(rate));
        std::memcpy(&value, &rate, sizeof(value));
        if (value > 0 && value < 1e6) info.sample_rate = static_cast<int>(value);
        info.channels = static_cast<int>(std::min<std::uint32_t>(reader.u32(), 64));
        reader.skip(4);
        entry.constant_bits = static_cast<int>(reader.u32());
        entry.format_flags = reader.u32();
    }
    if (boxes_at > body.size()) return std::nullopt;
    entry.boxes = body.subspan(boxes_at);
    return entry;
}

// By the object type that MPEG-4 systems gives it (ISO/IEC 14496-1, table 5, and the registration authority's).
Codec audio_codec_of(int object_type) {
    switch (object_type) {
        case 0x69:
        case 0x6B:
            return Codec::mp3;
        case 0xA5:
            return Codec::ac3;
        case 0xA6:
            return Codec::eac3;
        case 0xA9:
            return Codec::dts;
        case 0xDD:
            return Codec::vorbis;
        default:
            return Codec::aac;
    }
}

void take_lpcm(Mp4Track& track, int depth, bool little) {
    if (depth != 16 && depth != 24 && depth != 32) {
        track.info.profile = fmt::format("LPCM of {} bits", depth);
        return;
    }
    track.info.codec = Codec::lpcm;
    track.info.bit_depth = depth;
    if (little) track.payload = Mp4Track::Payload::little_endian;
}

// Uncompressed audio, whose order of bytes each form tells in its own way.
void read_lpcm(std::uint32_t type, const AudioEntry& entry, ByteSpan wave, Mp4Track& track) {
    switch (type) {
        case fourcc("ipcm"): {
            ByteReader pcm(child(entry.boxes, "pcmC"));
            pcm.skip(4);
            const bool little = (pcm.u8() & 1) != 0;
            take_lpcm(track, pcm.u8(), little);
            return;
        }
        case fourcc("sowt"):
            take_lpcm(track, entry.bits, true);
            return;
        case fourcc("twos"):
            take_lpcm(track, entry.bits, false);
            return;
        case fourcc("in24"):
        case fourcc("in32"): {
            ByteReader endian(child(wave, "enda"));
            take_lpcm(track, type == fourcc("in24") ? 24 : 32, endian.u16() == 1);
            return;
        }
        case fourcc("lpcm"):
            if ((entry.format_flags & 1) == 0) take_lpcm(track, entry.constant_bits, (entry.format_flags & 2) == 0);
            return;
        default:
            break;
    }
}

void parse_audio_entry(const BoxView& box, Mp4Track& track) {
    Track& info = track.info;
    const auto entry = read_audio_fields(box.body, info);
    if (!entry) return;
    const ByteSpan wave = child(entry->boxes, "wave");
    const auto find = [&](const char(&type)[5]) {
        const ByteSpan direct = child(entry->boxes, type);
        return direct.empty() ? child(wave, type) : direct;
    };
    switch (box.type) {
        case fourcc("mp4a"): {
            const ElementaryStream es = parse_esds(find("esds"));
            info.codec = audio_codec_of(es.object_type);
            if (info.codec != Codec::mp3) info.codec_config = own(es.specific);
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
            if (box.type != fourcc("dtsc")) info.profile = "HD";
            break;
        case fourcc("mlpa"):
            info.codec = Codec::truehd;
            break;
        case fourcc(".mp3"):
            info.codec = Codec::mp3;
            break;
        case fourcc("Opus"):
            info.codec = Codec::opus;
            if (const auto head = bitstream::parse_opus_box(child(entry->boxes, "dOps")))
                info.codec_config = Bytes(bitstream::make_opus_head(*head));
            break;
        case fourcc("fLaC"): {
            info.codec = Codec::flac;
            const ByteSpan dfla = child(entry->boxes, "dfLa");
            if (dfla.size() >= 8 + bitstream::kFlacStreamInfo)
                info.codec_config = own(dfla.subspan(8, bitstream::kFlacStreamInfo));
            break;
        }
        default:
            read_lpcm(box.type, *entry, wave, track);
    }
    bitstream::describe_headers(info, {});
}

void parse_text_entry(const BoxView& entry, Mp4Track& track) {
    Track& info = track.info;
    if (entry.type == fourcc("tx3g") || entry.type == fourcc("text")) {
        info.codec = Codec::text;
        track.payload = Mp4Track::Payload::timed_text;
        ByteReader reader(entry.body);
        reader.skip(8);
        const std::uint32_t flags = reader.u32();
        info.forced = entry.type == fourcc("tx3g") && reader.ok() && (flags & kAllForced) != 0;
    } else if (entry.type == fourcc("wvtt")) {
        info.codec = Codec::text;
        track.payload = Mp4Track::Payload::web_vtt;
    }
}

}  // namespace

void parse_sample_entries(ByteSpan stsd, Mp4Track& track) {
    if (stsd.size() < 8) return;
    const auto entries = children(stsd.subspan(8));
    if (entries.empty()) return;
    const BoxView& entry = entries.front();
    if (entries.size() > 1) track.problem = "it has several sample descriptions: only the first is shown";
    if (entry.type == fourcc("encv") || entry.type == fourcc("enca")) track.problem = "it is encrypted";
    if (track.info.kind == TrackKind::video) {
        parse_video_entry(entry, track);
    } else if (track.info.kind == TrackKind::audio) {
        parse_audio_entry(entry, track);
    } else {
        parse_text_entry(entry, track);
    }
    Track& info = track.info;
    if (info.codec == Codec::unknown && info.profile.empty()) {
        for (int shift = 24; shift >= 0; shift -= 8) {
            const char c = static_cast<char>(entry.type >> shift & 0xFF);
            info.profile += c >= 32 && c < 127 ? c : '?';
        }
        if (track.problem.empty())
            track.problem = fmt::format("{} codec {} not supported, skipped", media::short_name(info.kind),
                                        name_of_code(info.profile));
    }
}

}  // namespace wavecrest::container::mp4
