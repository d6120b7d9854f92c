#include "convert/name.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>
#include <charconv>

namespace wavecrest::convert {
namespace {

bool is_digit(char c) {
    return c >= '0' && c <= '9';
}

std::string trimmed(std::string_view text) {
    while (!text.empty() && (text.front() == ' ' || text.front() == '.')) text.remove_prefix(1);
    while (!text.empty() && (text.back() == ' ' || text.back() == '.')) text.remove_suffix(1);
    return std::string(text);
}

}  // namespace

std::string FilmName::full() const {
    return year != 0 ? fmt::format("{} ({})", name, year) : name;
}

FilmName given_name(std::string_view text) {
    FilmName result;
    std::string name = trimmed(text);
    const std::size_t n = name.size();
    if (n > 6 && name[n - 1] == ')' && name[n - 6] == '(' && std::all_of(name.end() - 5, name.end() - 1, is_digit)) {
        std::from_chars(name.data() + n - 5, name.data() + n - 1, result.year);
        name = trimmed(std::string_view(name).substr(0, n - 6));
    }
    for (char& c : name) {
        const auto u = static_cast<unsigned char>(c);
        if (u < 32 || u == 127 || std::string_view("/\\:*?\"<>|").find(c) != std::string_view::npos) c = '-';
    }
    result.name = trimmed(name);
    if (result.name.empty()) result.name = "Film";
    return result;
}

FilmName film_name(std::string_view text) {
    FilmName result = given_name(text);
    std::string& name = result.name;
    const bool label = name.find(' ') == std::string::npos &&
                       std::none_of(name.begin(), name.end(), [](unsigned char c) { return std::islower(c) != 0; });
    std::replace(name.begin(), name.end(), '_', ' ');
    bool word_start = true;
    for (char& c : name) {
        const auto u = static_cast<unsigned char>(c);
        if (label) c = static_cast<char>(word_start ? std::toupper(u) : std::tolower(u));
        word_start = c == ' ';
    }
    name = trimmed(name);
    if (name.empty()) name = "Film";
    return result;
}

base::Path library_path(const FilmName& name, std::string_view extension) {
    const std::string full = name.full();
    return base::Path(full) / fmt::format("{}.{}", full, extension);
}

base::Path episode_path(const FilmName& name, int season, int episode, std::string_view extension) {
    return base::Path(name.full()) / fmt::format("Season {:02}", season) /
           fmt::format("{} - S{:02}E{:02}.{}", name.full(), season, episode, extension);
}

}  // namespace wavecrest::convert
