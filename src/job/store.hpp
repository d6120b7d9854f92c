// The conversions of this machine and user, waiting, running, done, failed and why, in a small database (SQLite 3,
// https://www.sqlite.org/fileformat2.html): jobs.db in $XDG_STATE_HOME/wavecrest, or in ~/.local/state/wavecrest. It is
// on a local disk, not in the library: libraries lie on shares, whose locks databases can't rely on.
//
// Several programs may use it at once. Every change is written through before a call returns, so that what was told
// survives a power cut. A job whose program is gone (killed, or the machine was off) is waiting again.
#pragma once

#include <chrono>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "job/job.hpp"

namespace wavecrest::job {

enum class State { waiting, running, done, failed, stopped };
std::string_view short_name(State state);
std::optional<State> state_from_name(std::string_view name);

// Seconds since 1970, as the wall clock was.
using WallTime = std::int64_t;

struct Record {
    std::int64_t id = 0;
    State state = State::waiting;
    Job job;
    std::string digest;  // of the source; empty: not known
    WallTime added = 0, started = 0, ended = 0;
    WallTime next_try = 0;       // of one that waits because of a failure that may pass
    int tries = 0;               // begun so far
    double progress = 0;         // of one that runs, 0 to 1
    bool stop_wanted = false;    // of one that runs
    std::optional<Error> error;  // of the latest try
    std::string result;          // JSON: what came of it
};

class Store {
  public:
    // Makes the database where there is none. Kind machine where it can't be.
    static Result<std::unique_ptr<Store>> open(const base::Path& file);
    static base::Path usual_place();
    virtual ~Store() = default;

    virtual Result<std::int64_t> add(const Job& job, const std::string& digest, WallTime now) = 0;
    // In the order they were added.
    virtual Result<std::vector<Record>> list() = 0;
    // Fails (kind usage) for a number that isn't there.
    virtual Result<Record> get(std::int64_t id) = 0;
    // Takes the first job that waits and is due, or this one, for this program.
    virtual Result<std::optional<Record>> claim(WallTime now, std::optional<std::int64_t> id = std::nullopt) = 0;
    // Of a job that this program runs: how far it is; whether somebody wants it stopped.
    virtual Result<bool> report(std::int64_t id, double progress) = 0;
    virtual Status finish(std::int64_t id, const Done& done, WallTime now) = 0;
    // What may pass waits and is tried again, after a minute, then two, four ... up to an hour.
    virtual Status give_up(std::int64_t id, const Error& error, bool may_pass, WallTime now) = 0;
    // Of one that was interrupted: it waits as before.
    virtual Status put_back(std::int64_t id) = 0;
    virtual Status stopped(std::int64_t id, WallTime now) = 0;
    // Waiting, failed and stopped ones, tried again at once. Kind usage for those that run or are done.
    virtual Status retry(std::int64_t id) = 0;
    // One that waits is stopped at once, one that runs when its program sees it.
    virtual Status stop(std::int64_t id, WallTime now) = 0;
};

}  // namespace wavecrest::job
