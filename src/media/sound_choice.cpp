#include "media/sound_choice.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>

#include "media/language.hpp"

namespace wavecrest::media {

std::optional<std::size_t> track_number(const std::string& word) {
    std::size_t number = 0;
    const char* const end = word.data() + word.size();
    const auto [rest, error] = std::from_chars(word.data(), end, number);
    if (error != std::errc{} || rest != end || number == 0) return std::nullopt;
    return number;
}

Status check_sound_words(const std::vector<std::string>& words, const std::string& where) {
    for (const std::string& word : words) {
        if (word == "none" && words.size() == 1) continue;
        if (track_number(word) || language_639_2(word) != "und") continue;
        return fail(ErrorKind::usage,
                    word == "none" ? "\"none\" stands alone"
                                   : fmt::format("\"{}\" is neither a language nor the number of a sound track", word),
                    where, "write languages such as en, numbers from 1 as wavecrest inspect lists the tracks, or none");
    }
    return {};
}

bool is_wanted(const std::vector<std::string>& words, const Track& track, std::size_t nth) {
    const std::string own = language_639_2(track.language);
    return words.empty() || std::any_of(words.begin(), words.end(), [&](const std::string& word) {
               const auto number = track_number(word);
               return number ? *number == nth : language_639_2(word) == own && own != "und";
           });
}

}  // namespace wavecrest::media
