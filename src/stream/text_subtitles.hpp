// Subtitles of text that go with HLS: each track a rendition of its own (RFC 8216, 4.3.4.1) in WebVTT, cut where the
// pictures are cut, for players to choose from.
#pragma once

#include <string>
#include <vector>

#include "container/media_playlist.hpp"
#include "container/subtitle_text.hpp"
#include "media/types.hpp"

namespace wavecrest::stream {

// Whether a track can go out that way.
bool is_text_subtitle(const Track& track);

// A segment: what is shown at any time of [from, to), in order of time; a cue that lasts longer is in the next, too.
Bytes cues_between(const std::vector<Packet>& cues, Time from, Time to,
                   container::SegmentClock clock = container::SegmentClock::transport);
// Forgets what is over at a time.
void forget_cues(std::vector<Packet>& cues, Time until);

// A track as players list it; names are told apart within the list. `uri`: of its playlist.
void add_rendition(container::MediaPlaylist& list, const Track& track, std::string uri);

}  // namespace wavecrest::stream
