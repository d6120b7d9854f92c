// Quantities as people write and read them: "4.2 Mbit/s", "1:32:05", "1.04 GB", "250 ms". Decimal prefixes throughout.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/time.hpp"

namespace wavecrest::base {

std::string format_bitrate(std::int64_t bits_per_second);  // "850 kbit/s", "4.2 Mbit/s"
std::string format_bytes(std::uint64_t bytes);             // "820 bytes", "14.2 MB"
std::string format_clock(Time time);                       // "0:15", "1:32:05"; rounded to seconds
std::string format_span(Time time);                        // "350 ms", "2.4 s", "3 min 20 s", "2 h 05 min"
// "High" of "high": for names that are lower-case in configuration.
std::string capitalized(std::string text);
std::string format_count(std::size_t count, std::string_view noun);  // "1 stream", "2 streams"
std::string format_rate(Ratio frames_per_second);                    // "23.976", "25"
// "23.976", "29.97", "25", "30000/1001": 1 to 240 frames a second.
std::optional<Ratio> parse_frame_rate(std::string_view text);

// Nothing when the text is not a number with a known unit. Blanks between number and unit may be left out.
std::optional<std::int64_t> parse_bitrate(std::string_view text);  // bit/s, kbit/s, Mbit/s, Gbit/s
std::optional<Time> parse_span(std::string_view text);             // ms, s, min, h
std::optional<Time> parse_clock(std::string_view text);            // "0:15", "1:32:05"
std::optional<std::uint64_t> parse_bytes(std::string_view text);   // bytes, kB, MB, GB
std::optional<double> parse_loudness(std::string_view text);       // "-23 LUFS"

struct Size {
    int width = 0;
    int height = 0;

    bool operator==(const Size&) const = default;
};
// "1920x1080", or a height with p: "1080p" is 1920x1080, "480p" 854x480.
std::optional<Size> parse_size(std::string_view text);

}  // namespace wavecrest::base
