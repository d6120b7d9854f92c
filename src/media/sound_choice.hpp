// Which sound tracks somebody wants, as people write it: languages (ISO 639), or numbers of tracks, counted from 1 in
// the order that inspect lists them, or "none".
#pragma once

#include <cstddef>
#include <optional>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest::media {

// The number that a word is, from 1; nothing for a language.
std::optional<std::size_t> track_number(const std::string& word);
// Kind usage for what is neither a language nor a number, and for "none" beside others.
Status check_sound_words(const std::vector<std::string>& words, const std::string& where);
// Whether the `nth` sound track (from 1) is among them; no words mean all.
bool is_wanted(const std::vector<std::string>& words, const Track& track, std::size_t nth);

}  // namespace wavecrest::media
