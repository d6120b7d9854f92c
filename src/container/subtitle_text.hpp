// Writing subtitles of text as files.
#pragma once

#include <string>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::container {

// A WebVTT file (W3C WebVTT, clause 3) of cues whose data is plain UTF-8 text, in order of time.
std::string write_web_vtt(const std::vector<Packet>& cues);

}  // namespace wavecrest::container
