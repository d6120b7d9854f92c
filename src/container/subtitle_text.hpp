// Writing subtitles of text as files.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::container {

// The text of a cue as WebVTT has it: without blank lines, which would end it, and with its marks written out.
std::string escaped_web_vtt(std::string_view text);
// A WebVTT file (W3C WebVTT, clause 3) of cues whose data is plain UTF-8 text, in order of time.
std::string write_web_vtt(const std::vector<Packet>& cues);
// The media that segments of subtitles go with: transport packets of TransportMux, whose clock doesn't begin at 0, or
// fragmented MP4 (cmaf.hpp).
enum class SegmentClock { transport, mp4 };
// A WebVTT segment of HLS: the same, telling where the cues' clock stands on that of the media of the same timeline
// (RFC 8216, 3.5). `at`: a time near them; the media's clock wraps after 26.5 hours, the cues' own doesn't.
std::string write_web_vtt_segment(const std::vector<Packet>& cues, Time at,
                                  SegmentClock clock = SegmentClock::transport);

}  // namespace wavecrest::container
