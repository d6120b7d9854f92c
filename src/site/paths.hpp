// Two paths of a film that lies on a share to a device that can play from shares: straight from the share, or through
// Wavecrest's own HTTP. Both are played as the device would, over its link; the smoother one is told.
#pragma once

#include <string>

#include "base/address.hpp"
#include "base/cancel.hpp"
#include "verify/verify.hpp"

namespace wavecrest::site {

enum class Smoother { straight, through, alike, neither };

struct PathComparison {
    verify::Verification straight, through;
    Smoother smoother = Smoother::alike;
    std::string why;  // "1 stall, 3.2 s total, against none"
};

// For people.
const char* in_words(Smoother smoother);
// By what a viewer notices, in this order: the verdict, stalls, the start and seeks (differences of more than 0.3 s).
// Neither: the device plays it on no path.
PathComparison compare(verify::Verification straight, verify::Verification through);

// Whether a device plays a file at this address by itself.
bool plays_straight(const device::Device& device, const base::Address& file);

// Plays both; the server of the second runs meanwhile, on a free port of this machine alone. What this machine's own
// network adds is the share's link in both cases: on the second path each byte goes over it twice where server, device
// and this machine are on one wire. Errors as of stream::prepare() and verify::run().
Result<PathComparison> try_both_paths(const base::Address& file, const device::Device& device, const device::Link& link,
                                      const Cancel& cancel);

}  // namespace wavecrest::site
