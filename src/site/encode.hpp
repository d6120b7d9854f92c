// Streams that are encoded anew on their way.
#pragma once

#include <optional>
#include <string>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "stream/live.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::site {

// How a stream's source is encoded on the way with a profile: for live ways out. Fails where the source can't be
// decoded or the profile is unknown.
Result<transcode::GraphSettings> plan_encode(const stream::Part& part, const std::string& profile);
// What is wrong with a profile for streams, whatever their source: unknown, or for files only.
Status check_profile(const std::string& profile);
// Whether this machine encodes it as fast as it plays: tried on a few seconds of it. Gives a warning where not.
Result<std::optional<Error>> try_encode(const stream::Part& part, const std::string& profile, const Cancel& cancel);

// The profile of a live ladder where none is named, and its effort: what a small machine keeps up with.
inline constexpr const char* kLadderProfile = "any-room";

struct EncodedLadder {
    transcode::GraphSettings graph;
    stream::LadderTracks tracks;  // with what people are told of it
};
// How a stream's source is encoded on the way in several bit rates: as many rungs of the profile (empty:
// kLadderProfile) as this machine keeps up with, the smallest ones. Where `tries`, that is measured on a few seconds of
// the source, or of what comes once by what was measured of this machine before. `others`: it goes out in other ways,
// too, as the best rung. Fails as plan_encode(), and (kind machine) where not even the smallest rung is kept up with.
Result<EncodedLadder> plan_ladder(const stream::Part& part, const std::string& profile, bool others, bool tries,
                                  const Cancel& cancel);

}  // namespace wavecrest::site
