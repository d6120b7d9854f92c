// A conversion as a value that can be stored, sent and taken up again: everything it depends on, by content where a
// name could come to mean something else (profiles, device descriptions).
#pragma once

#include <cstdint>
#include <functional>
#include <nlohmann/json_fwd.hpp>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "convert/convert.hpp"
#include "convert/remux.hpp"
#include "device/device.hpp"

namespace wavecrest::job {

struct JobDevice {
    std::string name;                // as the house calls it
    std::vector<std::string> texts;  // its description, and that of a receiver behind it
    std::int64_t highest_bps = 0;    // of its link; 0: only what the description says
};

struct Job {
    std::string source;  // path or address
    convert::Selection selection;
    std::vector<std::string> profiles;  // their texts, in order; may be none where devices decide
    std::vector<JobDevice> devices;     // if any: these decide, and the one profile gives quality and effort
    bool one_file = false;
    bool ladder = false;  // of the one profile (convert/ladder.hpp)
    std::string remux;    // instead of encoding: to this container (its short name, or "webvtt")
    std::string cut;      // of a remux: FROM-TO; empty: all of it
    bool quality = false;
    std::string subtitle_file;
    bool captions = false;
    int retries = 2;
};

nlohmann::ordered_json to_json(const Job& job);
// Fails (kind input) for text that is no job of this program.
Result<Job> from_json(const std::string& text);

// What came of a job.
struct Done {
    struct File {
        std::string path;
        std::uint64_t bytes = 0;
        std::vector<std::string> devices;
    };
    std::vector<File> files;  // none: it plays on its devices as it is
    Time duration{}, elapsed{};
    std::uint64_t source_bytes = 0;
    std::vector<std::string> problems;
    Time lost{};
    std::vector<std::string> warnings;
};

// Adds what came of one title.
void add_up(Done& done, const convert::Plan& plan, const convert::Outcome& outcome, bool for_devices);
void add_up(Done& done, const convert::RemuxPlan& plan, const convert::Outcome& outcome);

// Plans and converts. On error or cancellation nothing is left but the files of titles that were finished before.
Result<Done> run(const Job& job, const Progress& progress, const Cancel& cancel);

// Whether a failure may pass by itself, so that trying again later makes sense: a full disk, a share that is gone, a
// folder that can't be written to. All else is final: protected, damaged, unsupported, contradictory, or the target is
// there already.
bool may_pass(const Job& job, const Error& error);

// What it asks for, with its profiles as they are written in it; connected to the share it goes to, if any.
Result<convert::Request> request_of(const Job& job, const Cancel& cancel);
Result<convert::RemuxRequest> remux_request_of(const Job& job, const Cancel& cancel);

// The devices as their descriptions say, with the house's names and links.
Result<std::vector<device::Device>> devices_of(const Job& job);

}  // namespace wavecrest::job
