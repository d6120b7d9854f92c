#include "container/sniff.hpp"

#include <algorithm>

#include "container/mp4_reader.hpp"

namespace wavecrest::container {

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
    if (bytes.size() > 376 && bytes[0] == 0x47 && bytes[188] == 0x47 && bytes[376] == 0x47) return "mpeg-ts";
    if (bytes.size() > 388 && bytes[4] == 0x47 && bytes[196] == 0x47 && bytes[388] == 0x47) return "mpeg-ts";
    if (begins("RIFF"sv) && begins("AVI "sv, 8)) return "avi";
    if (begins("RIFF"sv) && begins("WAVE"sv, 8)) return "wav";
    if (begins("FLV\x01"sv)) return "flv";
    if (begins("fLaC"sv)) return "flac";
    if (begins("OggS"sv)) return "ogg";
    if (begins("ID3"sv) || (bytes.size() > 2 && bytes[0] == 0xFF && (bytes[1] & 0xE6) == 0xE2)) return "mp3";
    return "";
}

}  // namespace wavecrest::container
