// Sample discs made from descriptions, once per test program.
#pragma once

#include <string>

#include "base/file.hpp"
#include "standin/sample_disc.hpp"

namespace wavecrest::test {

// The disc of this description below the build folder; made when it is first asked for in a run.
base::Path made_disc(const std::string& name, const standin::DiscDescription& disc);
// Several audio and subtitle tracks, episodes with a play-all title, angles, breaking clocks, unmarked film and video.
standin::DiscDescription rich_description(standin::DiscDescription::Kind kind);
base::Path rich_dvd();
base::Path rich_blu_ray();

}  // namespace wavecrest::test
