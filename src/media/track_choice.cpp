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

Status check_audio_words(const std::vector<std::string>& words, const std::string& where) {
    for (const std::string& word : words) {
        if (word == "none" && words.size() == 1) continue;
        if (track_number(word) || language_639_2(word) != "und") continue;
        return fail(ErrorKind::usage,
                    word == "none" ? "\"none\" can't be combined"
                                   : fmt::format("\"{}\" is neither a language nor an audio track number", word),
                    where, "write languages, e.g. en, track numbers from 1 (wavecrest inspect lists them), or none");
    }
    return {};
}

std::string TrackPicker::why_not(const Track& track) {
    if (track.kind == TrackKind::video) {
        const int number = ++pictures_;
        if (number == std::max(choice_.video, 1)) return "";
        return choice_.video == 0 ? "another video track is used" : "another video track is selected";
    }
    if (track.kind != TrackKind::audio) return "";
    const std::size_t nth = ++audio_tracks_;
    const std::string own = language_639_2(track.language);
    const auto means = [&](const std::string& word) {
        const auto number = track_number(word);
        return number ? *number == nth : language_639_2(word) == own && own != "und";
    };
    return choice_.audio.empty() || std::any_of(choice_.audio.begin(), choice_.audio.end(), means)
               ? ""
               : "other audio is selected";
}

Status check_chosen(const TrackChoice& choice, const std::vector<Track>& chosen, const std::string& where) {
    const auto any = [&](TrackKind kind) {
        return std::any_of(chosen.begin(), chosen.end(), [&](const Track& track) { return track.kind == kind; });
    };
    if (choice.video > 0 && !any(TrackKind::video))
        return fail(ErrorKind::usage, fmt::format("there is no video track {}", choice.video), where,
                    "wavecrest inspect lists its tracks");
    if (choice.audio.empty() || choice.audio.front() == "none") return {};
    const auto missing = [&](const std::string& word) {
        if (track_number(word)) return !any(TrackKind::audio);
        return std::none_of(chosen.begin(), chosen.end(), [&](const Track& track) {
            return track.kind == TrackKind::audio && language_639_2(track.language) == language_639_2(word);
        });
    };
    const auto word = std::find_if(choice.audio.begin(), choice.audio.end(), missing);
    if (word == choice.audio.end()) return {};
    return fail(ErrorKind::usage, fmt::format("there is no audio \"{}\" that can be sent", *word), where,
                "wavecrest inspect lists its audio tracks");
}

}  // namespace wavecrest::media
