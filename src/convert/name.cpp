#include "convert/name.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <optional>
#include <regex>

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

// What no file system, or no SMB client, takes in a name.
void replace_illegal(std::string& name) {
    for (char& c : name) {
        const auto u = static_cast<unsigned char>(c);
        if (u < 32 || u == 127 || std::string_view("/\\:*?\"<>|").find(c) != std::string_view::npos) c = '-';
    }
}

// Takes what matches at the end off, with blanks and dashes before it; the number in it.
std::optional<int> take_off(std::string& name, const char* pattern) {
    const std::regex at_end(fmt::format("^(.*[^ _-])[ _-]+(?:{})$", pattern), std::regex::icase);
    std::smatch match;
    if (!std::regex_match(name, match, at_end)) return std::nullopt;
    int number = 0;
    const std::string digits = match[2].str();
    std::from_chars(digits.data(), digits.data() + digits.size(), number);
    name = match[1].str();
    return number;
}

std::optional<int> take_year(std::string& name) {
    const std::size_t n = name.size();
    if (n <= 6 || name[n - 1] != ')' || name[n - 6] != '(' || !std::all_of(name.end() - 5, name.end() - 1, is_digit))
        return std::nullopt;
    int year = 0;
    std::from_chars(name.data() + n - 5, name.data() + n - 1, year);
    name = trimmed(std::string_view(name).substr(0, n - 6));
    return year;
}

// A template cut into what stands in it and its fields.
struct Piece {
    std::string text;   // literal, where there is no field
    std::string field;  // "title"
    int digits = 0;
};
std::optional<std::vector<Piece>> pieces_of(std::string_view text) {
    std::vector<Piece> pieces;
    while (!text.empty()) {
        const std::size_t open = text.find('{');
        if (open > 0) pieces.push_back({std::string(text.substr(0, open)), "", 0});
        if (open == std::string_view::npos) break;
        const std::size_t close = text.find('}', open);
        if (close == std::string_view::npos) return std::nullopt;
        std::string field(text.substr(open + 1, close - open - 1));
        int digits = 0;
        if (const std::size_t colon = field.find(':'); colon != std::string::npos) {
            const std::string width = field.substr(colon + 1);
            const auto [end, error] = std::from_chars(width.data(), width.data() + width.size(), digits);
            if (error != std::errc() || end != width.data() + width.size() || digits < 1 || digits > 4)
                return std::nullopt;
            field.resize(colon);
        }
        pieces.push_back({"", std::move(field), digits});
        text.remove_prefix(close + 1);
    }
    return pieces;
}

constexpr std::array kFields = {"title", "series", "year", "season", "episode", "part"};

// Nothing where it isn't known.
std::string value_of(const Piece& piece, const FilmName& name) {
    if (piece.field == "title" || piece.field == "series") return name.name;
    const int number = piece.field == "year"      ? name.year
                       : piece.field == "season"  ? name.season
                       : piece.field == "episode" ? name.episode
                                                  : name.part;
    if (piece.field == "season" ? number < 0 : number == 0) return "";
    return fmt::format("{:0{}}", number, piece.digits);
}

// What is not known leaves its brackets empty: they go, with the blank before them.
constexpr char kUnknown = '\x01';
std::string without_unknown(std::string text) {
    static const std::regex bracketed("[ ]?[(\\[][^()\\[\\]]*\x01[^()\\[\\]]*[)\\]]"), alone("[ ]?\x01");
    text = std::regex_replace(text, bracketed, "");
    return std::regex_replace(text, alone, "");
}

bool has_field(const std::vector<Piece>& pieces, std::string_view field) {
    return std::any_of(pieces.begin(), pieces.end(), [&](const Piece& piece) { return piece.field == field; });
}

Status check_one(const std::string& text, const char* key, std::initializer_list<const char*> needed) {
    const auto refuse = [&](std::string what, const char* remedy) {
        return fail(ErrorKind::usage, std::move(what), fmt::format("{} = \"{}\"", key, text), remedy);
    };
    const auto pieces = pieces_of(text);
    if (!pieces)
        return refuse("a field of the name has no end or no valid number of digits", "write for example {season:02}");
    for (const Piece& piece : *pieces) {
        if (!piece.field.empty() && std::find(kFields.begin(), kFields.end(), piece.field) == kFields.end())
            return refuse(fmt::format("names have no field {{{}}}", piece.field),
                          "use {title}, {year}, {season}, {episode} or {part}");
    }
    for (const char* field : needed) {
        const bool there =
            has_field(*pieces, field) || (std::string_view(field) == "title" && has_field(*pieces, "series"));
        if (!there) return refuse(fmt::format("without {{{}}} several would have one name", field), "add it");
    }
    for (const base::Path& part : base::Path(text)) {
        if (text.front() == '/' || part == ".." || part == ".")
            return refuse("the name leads out of the library's folder", "write a path below it, without ..");
    }
    if (text.back() == '/') return refuse("the name ends in a folder", "write the file's name behind it");
    return {};
}

}  // namespace

std::string FilmName::full() const {
    std::string text = year != 0 ? fmt::format("{} ({})", name, year) : name;
    if (part > 0) text += fmt::format(" - part{}", part);
    if (episode > 0) text += fmt::format(" S{:02}E{:02}", std::max(season, 0), episode);
    return text;
}

FilmName given_name(std::string_view text) {
    FilmName result;
    std::string name = trimmed(text);
    static const std::regex episode("^(.*[^ _-])[ _-]+s(\\d{1,3})e(\\d{1,4})$", std::regex::icase);
    if (std::smatch match; std::regex_match(name, match, episode)) {
        result.season = std::stoi(match[2].str());
        result.episode = std::stoi(match[3].str());
        name = trimmed(match[1].str());
    }
    result.year = take_year(name).value_or(0);
    replace_illegal(name);
    result.name = trimmed(name);
    if (result.name.empty()) result.name = "Film";
    return result;
}

FilmName film_name(std::string_view text) {
    constexpr const char *kDisc = "(?:disc|disk|dvd|bd|cd)[ _-]*(\\d{1,2})", *kSeason = "season[ _-]*(\\d{1,2})";
    std::string given = trimmed(text);
    const int part = take_off(given, kDisc).value_or(0);
    FilmName result = given_name(given);
    std::string& name = result.name;
    result.part = part > 0 ? part : take_off(name, kDisc).value_or(0);
    if (result.season < 0) result.season = take_off(name, kSeason).value_or(-1);
    if (result.year == 0) result.year = take_year(name).value_or(0);
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

Status check(const NameTemplates& templates) {
    WAVECREST_TRY(check_one(templates.film, "film_names", {"title"}));
    return check_one(templates.episode, "episode_names", {"title", "episode"});
}

base::Path library_path(const FilmName& name, std::string_view extension, const NameTemplates& templates) {
    const std::string& text = name.episode > 0 ? templates.episode : templates.film;
    const auto pieces = pieces_of(text).value_or(std::vector<Piece>{});
    std::string filled;
    for (const Piece& piece : pieces) {
        std::string value = piece.field.empty() ? piece.text : value_of(piece, name);
        if (!piece.field.empty()) replace_illegal(value);
        filled += value.empty() ? std::string(1, kUnknown) : value;
    }
    if (name.part > 0 && name.episode == 0 && !has_field(pieces, "part")) filled += fmt::format(" - part{}", name.part);
    base::Path path;
    for (const base::Path& part : base::Path(without_unknown(filled))) path /= safe_name(part.string());
    path += fmt::format(".{}", extension);
    return path;
}

std::string safe_name(std::string_view text) {
    std::string name(text);
    replace_illegal(name);
    constexpr std::size_t kLongest = 200;
    if (name.size() > kLongest) {
        std::size_t end = kLongest;
        while (end > 0 && (static_cast<unsigned char>(name[end]) & 0xC0) == 0x80) --end;  // no half character
        name.resize(end);
    }
    name = trimmed(name);
    static const std::regex reserved("^(con|prn|aux|nul|com[1-9]|lpt[1-9])(\\..*)?$", std::regex::icase);
    if (name.empty() || std::regex_match(name, reserved)) name += "_";
    return name;
}

}  // namespace wavecrest::convert
