// What the receivers of all protocols judge alike.
#pragma once

#include "measure/playback.hpp"
#include "measure/transport.hpp"
#include "media/flow.hpp"
#include "verify/film.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

void add(Verification& v, std::string name, device::Verdict verdict, std::string measured, std::string limit,
         std::string why = "");
// A device's player as the model has it: of files, or of HLS on demand.
// How the device plays a film, of this bit rate on average (0: not known), or HLS.
measure::PlayerSettings player_of(const device::Device& device, Time duration, bool hls, std::int64_t bps = 0);
// No link need be faster, whatever a film does: where the search for the slowest one begins.
std::int64_t most_asked_of_a_link(const Verification& v);
// A stream that can't be played at all.
Verification failed(Verification v, Cause cause, const Error& error, std::string check);
// Startup and stalls of a player's model, and the link. `cause` is what stalls are put down to; `filled`: it was the
// link that was waited for most of the time.
void add_playback(Verification& v, const measure::PlaybackModel& player, Cause cause, bool filled);
// Startup and stalls of v, as somebody saw them.
void add_seen_playback(Verification& v);
// The same of a ladder, whose player lowers its bit rate before it stalls. `carried`: the link always carried as much
// as the lowest rung needs.
void add_ladder_playback(Verification& v, Cause cause, bool carried);
// How long the seeks took, where there were some.
void add_skips(Verification& v);
// Takes them over; what kept them from being made is a failed check. Fails where they were interrupted.
Status take_seeks(Verification& v, Result<std::vector<SeekOrder>> seeks);
// Startup, stalls, seeks and the link of a film that was played to its end; v has them. `why_slow` is said of a slow
// start.
void add_film_playback(Verification& v, Cause cause, const std::string& why_slow);
// Whether enough of a live stream was seen to judge it: `seen` of its own timeline, in the time the job listens. What
// ended, stands still or is paused gives little, however whole that is. `ended`: the sender said so.
void add_seen(Verification& v, const Job& job, Time seen, bool ended);
// Whether tracks are as long as one another, and frames follow one another at times that can be: of any device.
void add_film_timing(Verification& v, const Film& film);
// The bit rate shown at each second of the player's clock: the title's, moved by the start and the stalls; and what
// came in.
void fill_seconds(Verification& v, const std::vector<double>& title_rate, const std::vector<std::uint64_t>& received);
// Decodes what was received, all of it or (places > 0) at so many places, and saves stills where the job wants them.
void add_pictures(Verification& v, const Job& job, PacketSource& source, int places, const Cancel& cancel);
// Gaps, clock references, tables and lateness of transport packets.
void add_transport(Verification& v, const measure::TransportReport& report, const std::string& why_gaps);
// Verdict, what is short, and the words for it, from the checks. `cause` is what stalls are put down to.
void conclude_live(Verification& v, Cause cause);
void conclude_film(Verification& v, Cause cause);

}  // namespace wavecrest::verify
