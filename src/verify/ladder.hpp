// Plays a ladder (HLS with several variants or with fragmented MP4, DASH) as an adaptive player would, by the rule of
// measure/adaptation.hpp, and judges: what it played of which rung and why it changed, and whether playlists, manifest
// and segments keep what they promise.
#pragma once

#include "source/adaptive_title.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

// By its name: a manifest of DASH.
bool is_manifest_address(const std::string& address);

// On demand it is played to its end, live for job.listen.
Result<Verification> run_ladder(const Job& job, const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::verify
