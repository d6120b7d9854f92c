// Whether a share is fit for the house, step by step up to the first that fails, with the cause told apart: what looks
// alike in a file manager (an empty list) is a wrong name, a closed port, a password, a permission, or a folder's name
// taken for a share's.
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "base/result.hpp"
#include "share/account.hpp"
#include "share/location.hpp"

namespace wavecrest::share {

struct ProofSettings {
    bool write = false;                    // also that files can be written: one is, and is removed
    Time length = base::from_seconds(10);  // of the sustained read; 0: speed isn't measured
    int readers = 3;                       // at once, after that; 1 to 16
    Time answer = base::from_seconds(5);   // of the wait for each answer
    // Average bit rate of a media file, by its address; nothing where it isn't one.
    std::function<std::optional<std::int64_t>(const std::string& address)> rate_of;
};

struct ProofStep {
    enum class State { passed, warning, failed, not_tried };
    std::string name;  // "name", "host", "port", "protocol", "account", "share", "folder", ...
    State state = State::not_tried;
    std::string found;   // what was seen: "192.168.1.20", "SMB 3.1.1, signed"
    std::string remedy;  // where it isn't well
};

struct Proof {
    Location location;
    std::string user;  // empty: guest
    std::vector<ProofStep> steps;
    std::size_t files = 0, folders = 0;
    std::string file;                  // the address of one that was read; empty: none
    std::vector<std::string> content;  // their names
    int nfs_version = 0;               // the highest; 0: not NFS
    std::int64_t read_bps = 0;         // sustained; 0: not measured
    std::int64_t slowest_bps = 0;      // over one second of it
    int readers = 0;
    std::int64_t together_bps = 0;  // of all readers at once
    Time seek{}, slowest_seek{};    // until 64 kB elsewhere in a file are there: median, most
    std::int64_t highest_bps = 0;   // the highest average of the media files looked at; 0: none
    std::string highest;            // its name
    int at_once = 0;                // films of that bit rate that can be read at the same time; 0: not known

    bool passed() const;
    // The step that failed; null: none.
    const ProofStep* failure() const;
};

// Fails only where it was cancelled: what is wrong with the share is in the proof.
Result<Proof> prove(const Location& location, const Account& account, const ProofSettings& settings,
                    const Progress& progress, const Cancel& cancel);

}  // namespace wavecrest::share
