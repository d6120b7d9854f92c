#include "base/units.hpp"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <cstdlib>
#include <initializer_list>
#include <utility>

namespace wavecrest::base {
namespace {

// A number of at most three digits before the unit keeps two or three significant ones.
std::string short_number(double value) {
    if (value >= 99.95) return fmt::format("{:.0f}", value);
    return value >= 9.995 ? fmt::format("{:.1f}", value) : fmt::format("{:.2f}", value);
}

std::string scaled(double value, std::initializer_list<std::pair<double, const char*>> units) {
    for (const auto& [factor, unit] : units) {
        if (value >= factor * 0.9995) return fmt::format("{} {}", short_number(value / factor), unit);
    }
    return "";
}

std::string lower(std::string_view text) {
    std::string out(text);
    for (char& c : out) c = c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c;
    return out;
}

struct Unit {
    std::string_view name;
    double factor;
};

std::optional<double> parse_with_units(std::string_view text, std::initializer_list<Unit> units) {
    double number = 0;
    const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    if (error != std::errc{} || !std::isfinite(number) || number < 0) return std::nullopt;
    std::string_view written(rest, static_cast<std::size_t>(text.data() + text.size() - rest));
    while (!written.empty() && written.front() == ' ') written.remove_prefix(1);
    const std::string unit = lower(written);
    for (const auto& [name, factor] : units) {
        if (name == unit && number * factor < 9e15) return number * factor;
    }
    return std::nullopt;
}

}  // namespace

std::string format_bitrate(std::int64_t bits_per_second) {
    const auto value = static_cast<double>(bits_per_second);
    const std::string text = scaled(value, {{1e9, "Gbit/s"}, {1e6, "Mbit/s"}, {1e3, "kbit/s"}});
    return text.empty() ? fmt::format("{} bit/s", bits_per_second) : text;
}

std::string format_bytes(std::uint64_t bytes) {
    const std::string text = scaled(static_cast<double>(bytes), {{1e12, "TB"}, {1e9, "GB"}, {1e6, "MB"}, {1e3, "kB"}});
    return text.empty() ? fmt::format("{} bytes", bytes) : text;
}

std::string format_clock(Time time) {
    const std::int64_t seconds = rescale(time.count(), 1, kFlicksPerSecond);
    if (seconds >= 3600) return fmt::format("{}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    return fmt::format("{}:{:02}", seconds / 60, seconds % 60);
}

std::string format_span(Time time) {
    const double seconds = to_seconds(time);
    if (seconds > 0 && seconds < 0.0005) return "under 1 ms";
    if (seconds < 0.9995) return fmt::format("{:.0f} ms", seconds * 1000);
    if (seconds < 59.95) return fmt::format("{:.1f} s", seconds);
    const auto whole = static_cast<std::int64_t>(std::llround(seconds));
    if (whole < 3600) return fmt::format("{} min {:02} s", whole / 60, whole % 60);
    return fmt::format("{} h {:02} min", whole / 3600, whole / 60 % 60);
}

std::string capitalized(std::string text) {
    if (!text.empty() && text[0] >= 'a' && text[0] <= 'z') text[0] = static_cast<char>(text[0] - 32);
    return text;
}

std::string format_count(std::size_t count, std::string_view noun) {
    return fmt::format("{} {}{}", count, noun, count == 1 ? "" : "s");
}

std::optional<Ratio> parse_frame_rate(std::string_view text) {
    Ratio rate;
    const std::size_t slash = text.find('/');
    const auto whole = [](std::string_view part, std::int64_t& value) {
        const auto [end, error] = std::from_chars(part.data(), part.data() + part.size(), value);
        return error == std::errc() && end == part.data() + part.size() && value > 0 && value < 1'000'000;
    };
    if (slash != std::string_view::npos) {
        if (!whole(text.substr(0, slash), rate.num) || !whole(text.substr(slash + 1), rate.den)) return std::nullopt;
    } else {
        double value = 0;
        const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
        if (error != std::errc() || end != text.data() + text.size() || !(value >= 1 && value <= 240))
            return std::nullopt;
        const auto nearest = std::llround(value);
        // 23.976, 29.97 and 59.94 stand for n x 1000/1001.
        const auto above = std::llround(value * 1.001);
        if (std::abs(value - static_cast<double>(nearest)) < 1e-9) {
            rate = {nearest, 1};
        } else if (std::abs(value * 1.001 - static_cast<double>(above)) < 0.006) {
            rate = {above * 1000, 1001};
        } else {
            rate = reduced({std::llround(value * 1000), 1000});
        }
    }
    rate = reduced(rate);
    return rate.value() >= 1 && rate.value() <= 240 ? std::optional(rate) : std::nullopt;
}

std::string format_rate(Ratio rate) {
    if (rate.den == 1) return fmt::format("{}", rate.num);
    return fmt::format("{:.3f}", rate.value());
}

std::optional<std::int64_t> parse_bitrate(std::string_view text) {
    // "MB/s" is bytes, eight times as much as is meant or not: not guessed.
    if (text.ends_with("B/s")) return std::nullopt;
    const auto value = parse_with_units(text, {{"bit/s", 1},
                                               {"bps", 1},
                                               {"b/s", 1},
                                               {"kbit/s", 1e3},
                                               {"kbps", 1e3},
                                               {"kb/s", 1e3},
                                               {"mbit/s", 1e6},
                                               {"mbps", 1e6},
                                               {"mb/s", 1e6},
                                               {"gbit/s", 1e9},
                                               {"gbps", 1e9},
                                               {"gb/s", 1e9}});
    return value ? std::optional(static_cast<std::int64_t>(std::llround(*value))) : std::nullopt;
}

std::optional<Time> parse_span(std::string_view text) {
    const auto value = parse_with_units(text, {{"", 1},
                                               {"ms", 1e-3},
                                               {"s", 1},
                                               {"sec", 1},
                                               {"second", 1},
                                               {"seconds", 1},
                                               {"m", 60},
                                               {"min", 60},
                                               {"minute", 60},
                                               {"minutes", 60},
                                               {"h", 3600},
                                               {"hour", 3600},
                                               {"hours", 3600}});
    if (!value || *value > 1e6) return std::nullopt;
    return from_seconds(*value);
}

std::optional<Time> parse_clock(std::string_view text) {
    std::int64_t seconds = 0;
    int fields = 0;
    while (true) {
        const std::size_t colon = text.find(':');
        const std::string_view field = text.substr(0, colon);
        int value = 0;
        const auto [rest, error] = std::from_chars(field.data(), field.data() + field.size(), value);
        if (error != std::errc{} || rest != field.data() + field.size() || value < 0 || (fields > 0 && value > 59) ||
            value > 9999 || ++fields > 3)
            return std::nullopt;
        seconds = seconds * 60 + value;
        if (colon == std::string_view::npos) break;
        text.remove_prefix(colon + 1);
    }
    if (fields < 2) return std::nullopt;
    return std::chrono::duration_cast<Time>(std::chrono::seconds(seconds));
}

std::optional<std::uint64_t> parse_bytes(std::string_view text) {
    const auto value =
        parse_with_units(text, {{"bytes", 1}, {"b", 1}, {"kb", 1e3}, {"mb", 1e6}, {"gb", 1e9}, {"tb", 1e12}});
    return value ? std::optional(static_cast<std::uint64_t>(std::llround(*value))) : std::nullopt;
}

std::optional<double> parse_loudness(std::string_view written) {
    std::string text = lower(written);
    if (text.ends_with("lufs")) text.resize(text.size() - 4);
    while (text.ends_with(" ")) text.pop_back();
    double value = 0;
    const auto [rest, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (error != std::errc{} || rest != text.data() + text.size()) return std::nullopt;
    return value;
}

std::optional<Size> parse_size(std::string_view written) {
    const std::string text = lower(written);
    if (text == "4k" || text == "uhd") return Size{3840, 2160};
    int first = 0;
    const char* const end = text.data() + text.size();
    const auto [rest, error] = std::from_chars(text.data(), end, first);
    if (error != std::errc{} || first <= 0 || first > 16384) return std::nullopt;
    if (rest == end || ((*rest == 'p' || *rest == 'i') && rest + 1 == end)) {
        if (rest == end && first < 100) return std::nullopt;
        return Size{(first * 16 / 9 + 1) / 2 * 2, first};
    }
    if (*rest != 'x') return std::nullopt;
    int second = 0;
    const auto [rest2, error2] = std::from_chars(rest + 1, end, second);
    if (error2 != std::errc{} || rest2 != end || second <= 0 || second > 16384) return std::nullopt;
    return Size{first, second};
}

}  // namespace wavecrest::base
