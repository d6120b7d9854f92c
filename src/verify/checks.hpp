// What the receivers of all protocols judge alike.
#pragma once

#include "measure/playback.hpp"
#include "measure/transport.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

void add(Verification& v, std::string name, device::Verdict verdict, std::string measured, std::string limit,
         std::string why = "");
// A stream that can't be played at all.
Verification failed(Verification v, Short short_of, const Error& error, std::string check);
// Startup and stalls of a player's model, and the link. `cause` is what stalls are put down to.
void add_playback(Verification& v, const measure::PlaybackModel& player, Short cause);
// Gaps, clock references, tables and lateness of transport packets.
void add_transport(Verification& v, const measure::TransportReport& report, const std::string& why_gaps);
// Verdict, what is short, and the words for it, from the checks. `cause` is what stalls are put down to.
void conclude_live(Verification& v, Short cause);

}  // namespace wavecrest::verify
