#include "container/sniff.hpp"

#include <algorithm>
#include <optional>
#include <string>

#include "bitstream/aac.hpp"
#include "bitstream/audio_frames.hpp"
#include "container/mp4_reader.hpp"
#include "container/mpeg_ts.hpp"

namespace wavecrest::container {

namespace {

// Where an ID3v2 tag in front ends; nothing when there is none.
std::optional<std::size_t> behind_id3(ByteSpan b) {
    if (b.size() < 10 || b[0] != 'I' || b[1] != 'D' || b[2] != '3') return std::nullopt;
    return 10 + (static_cast<std::size_t>(b[6] & 0x7F) << 21 | static_cast<std::size_t>(b[7] & 0x7F) << 14 |
                 static_cast<std::size_t>(b[8] & 0x7F) << 7 | (b[9] & 0x7Fu));
}

// A WebVTT file, or numbered cues with times.
bool looks_like_subtitles(ByteSpan bytes) {
    std::string text(bytes.begin(), bytes.end());
    if (text.rfind("\xEF\xBB\xBF", 0) == 0) text.erase(0, 3);
    if (text.rfind("WEBVTT", 0) == 0) return true;
    const std::size_t arrow = text.find("-->");
    if (arrow == std::string::npos || text.find('\0') < arrow) return false;
    return std::all_of(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(arrow), [](char c) {
        return (c >= '0' && c <= '9') || c == ':' || c == ',' || c == '.' || c == '\r' || c == '\n' || c == ' ';
    });
}

}  // namespace

std::string_view sniff(ByteSpan bytes) {
    const auto begins = [&](std::string_view text, std::size_t at = 0) {
        return bytes.size() >= at + text.size() &&
               std::equal(text.begin(), text.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at),
                          [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
    };
    using namespace std::string_view_literals;
    if (looks_like_mp4(bytes)) return "mp4";
    if (begins("\x1A\x45\xDF\xA3"sv)) return "matroska";
    if (begins("\0\0\x01\xBA"sv)) return "mpeg-ps";
    if (begins("\0\0\x01\xB3"sv)) return "mpeg-video";
    if (begins("RIFF"sv) && begins("AVI "sv, 8)) return "avi";
    if (begins("RIFF"sv) && begins("WAVE"sv, 8)) return "wav";
    if (begins("FLV\x01"sv)) return "flv";
    if (begins("fLaC"sv)) return "flac";
    if (begins("OggS"sv)) return "ogg";
    if (const auto tagged = behind_id3(bytes)) {
        if (*tagged >= bytes.size()) return "mp3";  // a tag longer than what is here; the audio file's reader looks on
        bytes = bytes.subspan(*tagged);
    }
    if (begins("fLaC"sv)) return "flac";
    if (bitstream::aac::parse_adts(bytes)) {
        const auto header = bitstream::parse_audio_header(Codec::aac, bytes);
        if (bytes.size() < header->bytes + 7 || bitstream::aac::parse_adts(bytes.subspan(header->bytes))) return "adts";
    }
    if (const auto header = bitstream::parse_audio_header(Codec::mp3, bytes)) {
        if (bytes.size() < header->bytes + 4 || bitstream::parse_audio_header(Codec::mp3, bytes.subspan(header->bytes)))
            return "mp3";
    }
    if (ts::find_layout(bytes)) return "mpeg-ts";
    if (looks_like_subtitles(bytes)) return "text";
    return "";
}

}  // namespace wavecrest::container
