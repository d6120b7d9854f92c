// A browser of this machine as the client: the stream is really played, without a screen, over a link of the device's
// rate, and the page that plays it says what it saw. The second opinion, before the devices are at hand.
#pragma once

#include "host/browser.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

// Plays to the end, or a live stream for as long as the job listens; takes as long as that. The link's rate and the
// job's faults are imitated by a relay in front of the browser. What the device's description allows isn't looked at:
// whether the browser plays it is. Fails (kind usage) for addresses that no browser plays and for https, whose
// certificate is for another place; (kind machine) where the browser isn't installed or can't be started; (kind
// interrupted) on cancellation.
Result<Verification> run_in_browser(const Job& job, host::Engine engine, const Progress& progress,
                                    const Cancel& cancel);

}  // namespace wavecrest::verify
