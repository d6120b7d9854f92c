// Plays a stream as a device would, over a link as the device has, and judges.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/file.hpp"
#include "base/progress.hpp"
#include "base/result.hpp"
#include "device/device.hpp"
#include "measure/playback.hpp"
#include "net/worse_link.hpp"

namespace wavecrest::verify {

struct Job {
    std::string stream;   // name for the result
    std::string address;  // http://...
    device::Device device;
    device::Link link;
    Time wait{};                           // for a stream to appear
    Time listen = base::from_seconds(10);  // to it
    base::Path trusted;                    // a certificate accepted besides the system's (HTTPS); empty: none
    net::LinkFaults faults;                // of the network, besides the link's rate
    base::Path stills;                     // folder for pictures of what was received; empty: none
    bool to_end = false;                   // that it ends is no fault
    bool real_time = false;  // else waiting for the link is skipped on the clock; the server's own time always counts
    bool simulated = false;  // `faults` are at work: set by run()
    // The link's rate over time, where it changes on purpose: taken from `faults` by run() where it is part of the
    // model.
    std::vector<net::RateStep> squeeze{};
    net::Outages outages{};  // of the link, likewise
};

struct SeekOrder {
    Time to{};      // asked for
    Time landed{};  // where playing goes on: there, or at the keyframe before it (device::Playing::seeks_exactly)
    Time first_picture{};  // from the request until it does: what must be in the buffer has come
};

struct Second {             // of the player's clock, from the request
    double stream_bps = 0;  // of the part of the title being shown then; 0 before the start and in stalls
    double received_bps = 0;
};

// A change of bit rate by a player of a ladder.
struct RungChange {
    Time clock{};                  // since the request
    Time position{};               // in the title: of the first segment of the new rung
    std::size_t from = 0, to = 0;  // of Verification::rungs
    std::string why;
};
struct RungUse {
    std::string name;                         // "720p"
    std::int64_t peak_bps = 0, mean_bps = 0;  // promised, with audio; 0: not told
    int width = 0, height = 0;
    Time played{};  // media of it
};

// What kept the stream from playing well.
enum class Cause { none, server, supply, network, device, file };
std::string_view short_name(Cause what);

struct Verification {
    std::string grounds = "computed";  // or "browser": really played by one
    std::string browser;               // which
    std::string stream;
    std::string address;
    std::string device;
    device::Link link;
    device::Verdict verdict = device::Verdict::pass;
    Cause cause = Cause::none;
    std::string summary;     // one sentence
    std::string remedy;      // what to change; empty on a pass
    Time duration{};         // of the title
    bool simulated = false;  // behind a network that is made worse on purpose: what comes late is its doing
    bool paused = false;     // the server says so, or keeps the connection alive and sends nothing of the stream
    bool started = false;
    Time startup{};
    std::vector<measure::Stall> stalls;
    std::vector<measure::BufferLevel> levels;
    std::vector<Second> seconds;
    std::vector<SeekOrder> seeks;
    std::int64_t mean_bps = 0;
    std::int64_t peak_1s_bps = 0;
    // The slowest link that this device plays it over without a stall, computed; nothing where that isn't known (live).
    std::optional<std::int64_t> slowest_link_bps;
    std::vector<device::Check> checks;
    std::vector<base::Path> stills;
    // Of ladders: the rungs, the lowest first; which was asked for when, and why.
    std::vector<RungUse> rungs;
    std::vector<RungChange> changes;
    std::vector<std::pair<Time, std::int64_t>> link_rates;  // from when on the link carries how much, where it changes
};

// How many times as fast as it need be the link is; nothing where that isn't known.
std::optional<double> headroom(const Verification& v);

// A stream that can't be reached or read gives a failed verification, not an error; errors are wrong usage (a malformed
// address) and interruption.
Result<Verification> run(const Job& job, const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::verify
