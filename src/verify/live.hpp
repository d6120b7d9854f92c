// Receives live streams over HTTP and RTMP, and HLS of both kinds, as a device's player would, and judges.
#pragma once

#include "verify/verify.hpp"

namespace wavecrest::verify {

bool is_playlist_address(const std::string& address);

// An endless body of transport packets: played for job.listen, in real time, over a link as the device has.
Result<Verification> run_http_live(const Job& job, const Progress& progress, const Cancel& cancel);
// The same from an RTMP server.
Result<Verification> run_rtmp(const Job& job, const Progress& progress, const Cancel& cancel);
// HLS: on demand it is played to its end, with seeks; live for job.listen.
Result<Verification> run_hls(const Job& job, const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::verify
