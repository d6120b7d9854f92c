// Which tracks somebody wants, as people write it: audio by languages (ISO 639), by numbers of tracks, counted from 1
// in the order that inspect lists them, or "none"; pictures by number.
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest {
namespace media {

struct TrackChoice {
    std::vector<std::string> audio{};  // as above; empty: all that can go along
    int video = 0;                     // from 1; 0: the first
    // Which subtitles are drawn into pictures that are encoded: "forced", "none", or those in a language.
    std::string burn_in = "forced";
};

// The number that a word is, from 1; nothing for a language.
std::optional<std::size_t> track_number(const std::string& word);
// Kind usage for what is neither a language nor a number, and for "none" beside others.
Status check_audio_words(const std::vector<std::string>& words, const std::string& where);

// Goes through a title's tracks in their order.
class TrackPicker {
  public:
    explicit TrackPicker(const TrackChoice& choice) : choice_(choice) {}
    // Why the next track isn't wanted; empty when it is. Subtitles always are: they are chosen at the player.
    std::string why_not(const Track& track);

  private:
    const TrackChoice& choice_;
    std::size_t audio_tracks_ = 0;
    int pictures_ = 0;
};

// Fails (kind usage) where `chosen` holds nothing of what was asked for.
Status check_chosen(const TrackChoice& choice, const std::vector<Track>& chosen, const std::string& where);

}  // namespace media

using media::TrackChoice;

}  // namespace wavecrest
