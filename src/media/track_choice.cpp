#include "media/track_choice.hpp"

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

std::string TrackPicker::why_not(const Track& track) {
    if (track.kind == TrackKind::video) {
        const int number = ++pictures_;
        if (number == std::max(choice_.picture, 1)) return "";
        return choice_.picture == 0 ? "there is another picture" : "another picture is asked for";
    }
    if (track.kind != TrackKind::audio) return "";
    const std::size_t nth = ++sounds_;
    const std::string own = language_639_2(track.language);
    const auto means = [&](const std::string& word) {
        const auto number = track_number(word);
        return number ? *number == nth : language_639_2(word) == own && own != "und";
    };
    return choice_.sound.empty() || std::any_of(choice_.sound.begin(), choice_.sound.end(), means)
               ? ""
               : "other sound is asked for";
}

Status check_chosen(const TrackChoice& choice, const std::vector<Track>& chosen, const std::string& where) {
    const auto any = [&](TrackKind kind) {
        return std::any_of(chosen.begin(), chosen.end(), [&](const Track& track) { return track.kind == kind; });
    };
    if (choice.picture > 0 && !any(TrackKind::video))
        return fail(ErrorKind::usage, fmt::format("there is no picture track {}", choice.picture), where,
                    "wavecrest inspect lists its tracks");
    if (choice.sound.empty() || choice.sound.front() == "none") return {};
    const auto missing = [&](const std::string& word) {
        if (track_number(word)) return !any(TrackKind::audio);
        return std::none_of(chosen.begin(), chosen.end(), [&](const Track& track) {
            return track.kind == TrackKind::audio && language_639_2(track.language) == language_639_2(word);
        });
    };
    const auto word = std::find_if(choice.sound.begin(), choice.sound.end(), missing);
    if (word == choice.sound.end()) return {};
    return fail(ErrorKind::usage, fmt::format("there is no sound \"{}\" that can be sent", *word), where,
                "wavecrest inspect lists its sound tracks: name only those that are there");
}

}  // namespace wavecrest::media
