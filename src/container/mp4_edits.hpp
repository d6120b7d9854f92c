// Edit lists (ISO/IEC 14496-12, 8.6.5 and 8.6.6): which intervals of a track's media are presented, and when.
#pragma once

#include <string>
#include <vector>

#include "container/mp4_reader.hpp"

namespace wavecrest::container::mp4 {

struct Edit {
    std::int64_t duration = 0;    // movie timescale; 0 as the last one's: to the end of the media
    std::int64_t media_time = 0;  // track timescale; -1: nothing is presented meanwhile
    bool dwell = false;           // the picture at media_time stands for all of the duration
};

struct Presentation {
    Time end = Time::max();  // where the edit list ends the track; Time::max() where it doesn't say
    std::string note;        // what could not be followed
};

// Moves a track's samples onto the presentation's timeline. One interval is a shift: what lies before it keeps negative
// times. Several become a new order of samples, in which
// - pictures outside of an interval that others in it are predicted from are marked hidden;
// - audio is cut at whole packets, LPCM at the sample; its times stay exact, so that it keeps with the picture;
// - decoding times never go back.
// `whole` tells that all samples are known: over a pipe they are not, and several intervals are not followed.
Presentation apply_edits(const std::vector<Edit>& edits, std::int64_t movie_timescale, bool whole, Mp4Track& track);

}  // namespace wavecrest::container::mp4
