// Streams that are encoded anew on their way.
#pragma once

#include <optional>
#include <string>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "stream/playout.hpp"
#include "transcode/graph.hpp"

namespace wavecrest::site {

// How a stream's source is encoded on the way with a profile: for live ways out. Fails where the source can't be
// decoded or the profile is unknown.
Result<transcode::GraphSettings> plan_encode(const stream::Part& part, const std::string& profile);
// Whether this machine encodes it as fast as it plays: tried on a few seconds of it. Gives a warning where not.
Result<std::optional<Error>> try_encode(const stream::Part& part, const std::string& profile, const Cancel& cancel);

}  // namespace wavecrest::site
