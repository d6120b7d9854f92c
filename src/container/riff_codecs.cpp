#include "container/riff_codecs.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <utility>

namespace wavecrest::container {
namespace {

unsigned little16(ByteSpan b, std::size_t at) {
    return static_cast<unsigned>(base::little_endian(b, at, 2));
}
std::uint32_t little32(ByteSpan b, std::size_t at) {
    return static_cast<std::uint32_t>(base::little_endian(b, at, 4));
}

}  // namespace

std::string name_of_code(std::string_view code) {
    std::string upper(code);
    std::transform(upper.begin(), upper.end(), upper.begin(), [](unsigned char c) { return std::toupper(c); });
    constexpr std::pair<std::string_view, std::string_view> kNames[] = {
        {"CVID", "Cinepak"},
        {"IV31", "Indeo 3"},
        {"IV32", "Indeo 3"},
        {"IV41", "Indeo 4"},
        {"IV50", "Indeo 5"},
        {"MPG4", "MS-MPEG-4 version 1"},
        {"MP42", "MS-MPEG-4 version 2"},
        {"DIV2", "MS-MPEG-4 version 2"},
        {"MP43", "MS-MPEG-4 version 3"},
        {"DIV3", "MS-MPEG-4 version 3"},
        {"DIV4", "MS-MPEG-4 version 3"},
        {"MJPG", "Motion JPEG"},
        {"DVSD", "DV"},
        {"THEO", "Theora"},
        {"H263", "H.263"},
        {"FLV1", "Sorenson H.263"},
        {"WMV1", "Windows Media Video 7"},
        {"WMV2", "Windows Media Video 8"},
        {"WMV3", "VC-1 (Simple or Main profile)"},
        {"HFYU", "HuffYUV"},
        {"FFV1", "FFV1"},
        // QuickTime
        {"JPEG", "Photo JPEG"},
        {"MJPA", "Motion JPEG A"},
        {"MJPB", "Motion JPEG B"},
        {"SVQ1", "Sorenson Video 1"},
        {"SVQ3", "Sorenson Video 3"},
        {"S263", "H.263"},
        {"RLE ", "QuickTime Animation"},
        {"RPZA", "QuickTime Video"},
        {"SMC ", "QuickTime Graphics"},
        {"DVC ", "DV"},
        {"DVCP", "DV"},
        {"APCN", "ProRes 422"},
        {"APCH", "ProRes 422 HQ"},
        {"APCS", "ProRes 422 LT"},
        {"APCO", "ProRes 422 Proxy"},
        {"AP4H", "ProRes 4444"},
        {"SAMR", "AMR narrowband"},
        {"SAWB", "AMR wideband"},
        {"QDM2", "QDesign Music 2"},
        {"IMA4", "IMA ADPCM"},
        {"ULAW", "G.711 u-law"},
        {"ALAW", "G.711 A-law"},
        {"ALAC", "ALAC"},
        {"MLPA", "TrueHD"},
    };
    for (const auto& [known, name] : kNames) {
        if (upper == known) return fmt::format("{} ({})", name, code);
    }
    return std::string(code);
}

BitmapInfo parse_bitmap_info(ByteSpan b) {
    BitmapInfo info;
    if (b.size() < 40) return info;
    info.width = static_cast<int>(little32(b, 4));
    info.height = static_cast<int>(little32(b, 8));
    if (info.height < 0) info.height = -info.height;
    std::string upper;
    for (std::size_t i = 16; i < 20; ++i) {
        const char c = static_cast<char>(b[i]);
        info.name += std::isprint(static_cast<unsigned char>(c)) ? c : '?';
        upper += static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    }
    constexpr std::pair<std::string_view, Codec> kCodecs[] = {
        {"XVID", Codec::mpeg4}, {"FMP4", Codec::mpeg4}, {"MP4V", Codec::mpeg4}, {"DIVX", Codec::mpeg4},
        {"DX50", Codec::mpeg4}, {"H264", Codec::h264},  {"AVC1", Codec::h264},  {"X264", Codec::h264},
        {"HEVC", Codec::h265},  {"H265", Codec::h265},  {"HVC1", Codec::h265},  {"WVC1", Codec::vc1},
        {"MPG2", Codec::mpeg2}, {"MPEG", Codec::mpeg2}, {"MPG1", Codec::mpeg1}, {"VP80", Codec::vp8},
        {"VP90", Codec::vp9},   {"AV01", Codec::av1}};
    for (const auto& [name, codec] : kCodecs) {
        if (upper == name) info.codec = codec;
    }
    if (info.codec == Codec::unknown) info.name = name_of_code(info.name);
    // (The header's own size may count what follows.)
    info.extra = Bytes(ByteVector(b.begin() + 40, b.end()));
    return info;
}

WaveFormat parse_wave_format(ByteSpan b) {
    WaveFormat format;
    unsigned tag = little16(b, 0);
    format.channels = static_cast<int>(little16(b, 2));
    format.sample_rate = static_cast<int>(std::min<std::uint32_t>(little32(b, 4), 1 << 24));
    format.byte_rate = little32(b, 8);
    format.block_align = static_cast<int>(little16(b, 12));
    format.bits = static_cast<int>(little16(b, 14));
    std::size_t extra = 18;
    std::size_t extra_size = little16(b, 16);
    if (tag == 0xFFFE && extra_size >= 22 && b.size() >= 40) {
        // The mask's bits are speakers; the first nine but the front pair beside the centre are ours in another order.
        const std::uint32_t mask = little32(b, 20);
        constexpr std::pair<std::uint32_t, Speakers> kPlaces[] = {{0x1, media::speaker::kLeft},
                                                                  {0x2, media::speaker::kRight},
                                                                  {0x4, media::speaker::kCentre},
                                                                  {0x8, media::speaker::kLowFrequency},
                                                                  {0x10, media::speaker::kLeftSurround},
                                                                  {0x20, media::speaker::kRightSurround},
                                                                  {0x100, media::speaker::kCentreSurround}};
        for (const auto& [bit, place] : kPlaces) {
            if ((mask & bit) != 0) format.speakers |= place;
        }
        // Side speakers are the surround pair; with both, those behind are the back pair.
        if ((mask & 0x600) == 0x600) {
            if ((mask & 0x30) == 0x30) {
                format.speakers |= media::speaker::kLeftBack | media::speaker::kRightBack;
            } else {
                format.speakers |= media::speaker::kLeftSurround | media::speaker::kRightSurround;
            }
        }
        if (media::speaker_count(format.speakers) != format.channels) format.speakers = 0;
        tag = little16(b, 24);
        extra += 22;
        extra_size -= 22;
    }
    if (b.size() > extra && extra_size > 0) {
        const std::size_t count = std::min(extra_size, b.size() - extra);
        format.extra = Bytes(ByteVector(b.begin() + static_cast<std::ptrdiff_t>(extra),
                                        b.begin() + static_cast<std::ptrdiff_t>(extra + count)));
    }
    switch (tag) {
        case 0x0001:
            if (format.bits == 8 || format.bits == 16 || format.bits == 24 || format.bits == 32) {
                format.codec = Codec::lpcm;
                format.little_endian = true;
                format.unsigned_bytes = format.bits == 8;
            }
            break;
        case 0x0050:
            format.codec = Codec::mp2;
            break;
        case 0x0055:
            format.codec = Codec::mp3;
            break;
        case 0x00FF:
        case 0x1600:
            format.codec = Codec::aac;
            break;
        case 0x2000:
            format.codec = Codec::ac3;
            break;
        case 0x2001:
            format.codec = Codec::dts;
            break;
        case 0xF1AC:
            format.codec = Codec::flac;
            break;
        default:
            break;
    }
    if (format.codec == Codec::unknown)
        format.name = tag == 3 ? "floating-point LPCM" : fmt::format("format 0x{:04X}", tag);
    return format;
}

}  // namespace wavecrest::container
