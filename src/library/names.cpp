#include "library/names.hpp"

#include <algorithm>
#include <array>
#include <cctype>
#include <regex>

namespace wavecrest::library {
namespace {

constexpr std::array kExtensions = {".mp4",  ".m4v",  ".m4a", ".mkv",  ".webm", ".ts",  ".m2ts",
                                    ".mpg",  ".mpeg", ".vob", ".avi",  ".flv",  ".mov", ".mp3",
                                    ".flac", ".ogg",  ".oga", ".opus", ".wav",  ".aac", ".mka"};

std::string lower(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(), [](unsigned char c) { return std::tolower(c); });
    return text;
}
std::string trimmed(std::string text) {
    const auto is_edge = [](char c) { return c == ' ' || c == '-' || c == '.' || c == '_'; };
    while (!text.empty() && is_edge(text.back())) text.pop_back();
    while (!text.empty() && is_edge(text.front())) text.erase(text.begin());
    return text;
}
// Dots and underscores that stand for blanks.
std::string spaced(std::string text) {
    const bool has_blanks = text.find(' ') != std::string::npos;
    for (char& c : text) {
        if (c == '_' || (c == '.' && !has_blanks)) c = ' ';
    }
    return trimmed(text);
}
// A year behind a name, in brackets: "Lanterns (2019)".
int take_year(std::string& name) {
    static const std::regex kYear(R"(^(.*\S)\s*[\(\[]((?:18|19|20|21)\d\d)[\)\]].*$)");
    std::smatch found;
    if (name.size() > 400 || !std::regex_match(name, found, kYear)) return 0;
    const int year = std::stoi(found[2]);
    name = found[1];
    return year;
}

}  // namespace

bool is_media(const base::Path& file) {
    const std::string extension = lower(file.extension().string());
    return std::find(kExtensions.begin(), kExtensions.end(), extension) != kExtensions.end();
}

std::string sorting(const std::string& title) {
    std::string key = lower(title);
    for (const char* article : {"the ", "a ", "an "}) {
        if (key.starts_with(article) && key.size() > std::string_view(article).size())
            return key.substr(std::string_view(article).size());
    }
    return key;
}

NamedAs named_as(const base::Path& relative) {
    NamedAs named;
    std::vector<std::string> folders;
    for (const base::Path& part : relative.parent_path()) folders.push_back(part.string());
    std::string stem = relative.stem().string();
    if (stem.size() > 400) stem.resize(400);
    // An episode: "Series - S01E02 - Title", "S01E02", "1x02".
    static const std::regex kEpisode(
        R"(^(.*?)[ ._-]*\b(?:[sS](\d{1,2})[ ._-]?[eE](\d{1,3})|(\d{1,2})x(\d{2,3}))\b(.*)$)");
    static const std::regex kSeason(R"(^(?:[sS]eason|[sS]eries|[sS])[ ._-]*(\d{1,2})$)");
    std::smatch found;
    if (std::regex_match(stem, found, kEpisode)) {
        named.season = std::stoi(found[2].matched ? found[2] : found[4]);
        named.episode = std::stoi(found[3].matched ? found[3] : found[5]);
        std::string series = spaced(found[1]);
        const std::string title = spaced(found[6]);
        // The folder of the series says its name where the file doesn't.
        for (auto folder = folders.rbegin(); series.empty() && folder != folders.rend(); ++folder) {
            if (!std::regex_match(*folder, kSeason)) series = spaced(*folder);
        }
        named.year = take_year(series);
        named.series = series.empty() ? "Series" : series;
        named.title = title.empty() ? "Episode " + std::to_string(named.episode) : title;
        return named;
    }
    std::string name = spaced(stem);
    // "03 Title", "03 - Title" in an album's folder.
    static const std::regex kTrack(R"(^(\d{1,3})[ ._-]+(\S.*)$)");
    if (std::regex_match(stem, found, kTrack)) {
        named.track = std::stoi(found[1]);
        named.track_title = spaced(found[2]);
    }
    if (folders.size() >= 2) {
        named.performer = spaced(folders[folders.size() - 2]);
        named.album = spaced(folders.back());
    }
    named.year = take_year(name);
    // "Film (Year)/film.mp4": the folder knows more.
    if (named.year == 0 && !folders.empty()) {
        std::string folder = folders.back();
        if (const int year = take_year(folder); year != 0) {
            named.year = year;
            if (name.empty()) name = spaced(folder);
        }
    }
    named.title = name.empty() ? stem : name;
    return named;
}

}  // namespace wavecrest::library
