// The rungs of a ladder that suit a title: the video in several encodes, of which a player takes the one its link
// carries (convert/ladder.hpp makes them, for files; stream/live_ladder.hpp on the way).
#pragma once

#include <chrono>
#include <string>
#include <vector>

#include "profile/profile.hpp"

namespace wavecrest::profile {

// Of a ladder's segments, where the profile has no keyframe_interval: short enough to step down in time, long enough
// for the encoder.
inline constexpr Time kLadderSegment = std::chrono::seconds(2);

struct Rung {
    VideoSettings video;
    std::string why;
};

// The best first. Of a profile's rungs those that aren't above the source, with the smallest of them that covers it;
// `notes` gets what was left out. Of an automatic ladder, or a profile without one, usual sizes and rates: those of a
// title nobody has looked into.
std::vector<Rung> rungs_for(const Profile& profile, const Track& video, std::vector<std::string>& notes);

// "720p" for a picture of this size (square pixels): wide films are called by their width.
std::string size_name(int width, int height);

}  // namespace wavecrest::profile
