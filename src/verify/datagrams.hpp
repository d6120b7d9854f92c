// Receives a stream of UDP datagrams as a device would, for a while, and judges what arrived: plain transport packets,
// or RTP (RFC 2250).
#pragma once

#include "verify/verify.hpp"

namespace wavecrest::verify {

// Is this an address for it: udp:// or rtp://?

// Waits for the stream to appear (job.wait), then listens for job.listen. A stream that doesn't come, or whose packets
// make no sense, gives a failed verification. Errors: usage (a malformed address), machine (the port is taken, the
// group can't be joined), interruption.
Result<Verification> run_datagrams(const Job& job, const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::verify
