// Several ways of one film to one device, each played as the device would over its link: which is the smoothest. Of a
// film that lies on a share, for a device that can play from shares, straight from the share or through Wavecrest's own
// HTTP; of a stream, its deliveries.
#pragma once

#include <string>
#include <vector>

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
// By what a viewer notices, in this order: the verdict, stalls, then the start or seeks, whichever differ more
// (differences of more than 0.3 s). Neither: the device plays it on no path.
PathComparison compare(verify::Verification straight, verify::Verification through);

// A stream as it was played in one of its deliveries ("file", "hls", "ladder").
struct Delivered {
    std::string stream, delivery;
    const verify::Verification* played = nullptr;  // outlives the call
};
struct BestDelivery {
    std::string stream, device;
    std::string delivery, address;  // of the best; empty: it plays by none
    std::string why;                // "seeks take 1.3 s against 9.2 s (file)"
};
// The address to enter on each device, of the streams that were played there in several deliveries; by the same order
// as compare(), and where they are alike the first.
std::vector<BestDelivery> best_deliveries(const std::vector<Delivered>& all);

// Whether a device plays a file at this address by itself.
bool plays_straight(const device::Device& device, const base::Address& file);

// Plays both; the server of the second runs meanwhile, on a free port of this machine alone. What this machine's own
// network adds is the share's link in both cases: on the second path each byte goes over it twice where server, device
// and this machine are on one wire. Errors as of stream::prepare() and verify::run().
Result<PathComparison> try_both_paths(const base::Address& file, const device::Device& device, const device::Link& link,
                                      const Cancel& cancel);

}  // namespace wavecrest::site
