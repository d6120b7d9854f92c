// Audio put onto another set of speakers.
#pragma once

#include "media/types.hpp"

namespace wavecrest::filter {

// Of speakers that `to` lacks, what they carry goes to the nearest there: to stereo and mono by Rec. ITU-R BS.775 or
// the programme's own shares (downmix.hpp); back channels go to the side ones, one in the middle behind to both of them
// at half power, and the other way round; a missing centre to left and right at half power. Speakers that the source
// lacks stay silent. What is loud on all channels may go beyond full scale: a limiter (limiter.hpp) belongs behind it.
void remix(AudioFrames& audio, Speakers to);

}  // namespace wavecrest::filter
