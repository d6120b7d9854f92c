// Tracks in words for people.
#pragma once

#include <string>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::cli {

// A track in one line for people: "MPEG-2 Main@Main, 720x480 shown 16:9, 23.976 pictures/s, film with pulldown".
std::string describe(const Track& track);
// "audio 2" for each, in their order: the numbers by which tracks are chosen, where there are several of a kind.
std::vector<std::string> names_of(const std::vector<Track>& tracks);

}  // namespace wavecrest::cli
