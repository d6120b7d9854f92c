// Work on files that must not hold whoever asks for it: opening, reading and sending what lies on a drive or share that
// may hang. Every file system has threads of its own, so that one that hangs holds nothing but its own work; work waits
// in queues that take turns, and is given up when it waits too long.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/time.hpp"

namespace wavecrest::host {

struct DiskWorkSettings {
    int threads = 8;                              // of each file system, 1 or more
    Time hung_after = base::from_seconds(3);      // work that takes so long: its file system hangs
    Time give_up_after = base::from_seconds(10);  // work that has neither begun nor ended by then
    std::size_t most_waiting = 1000;              // in one turn of a queue
    // Called when a file system hangs, and when it answers again; from a thread of its own.
    std::function<void(const std::string& at, bool hangs)> on_change;
};

// Where work belongs: queues of a file system take turns, and within a queue whoever asks does.
struct DiskQueue {
    // A file of the file system, looked at by its name alone, so that no link on the way counts; or of a file server.
    base::Address path;
    std::string name;    // of the queue
    int at_once = 1000;  // how much of the queue's work is done at a time
    std::string turn;    // who asks: an address
};

struct HungDisk {
    std::string at;  // where it is mounted: "/media/films"
    Time since{};    // how long it has hung
};

class DiskWork {
  public:
    enum class Outcome {
        done,
        hangs,  // given up: the file system hangs. The work may still be under way, or come later.
        busy,   // refused: too much waits already in this turn
    };
    explicit DiskWork(DiskWorkSettings settings = {});
    // See stop().
    ~DiskWork();
    DiskWork(const DiskWork&) = delete;
    DiskWork& operator=(const DiskWork&) = delete;

    // `work` is called by a thread of the file system that holds queue.path, then `done`, exactly once, from some
    // thread. What `work` uses must live as long as it does, which may be longer than `done` takes to come.
    void run(const DiskQueue& queue, std::function<void()> work, std::function<void(Outcome)> done);

    // File systems that hang now.
    std::vector<HungDisk> hung() const;

    // Gives up what waits and takes nothing more. False when work is still under way after `patience`: it goes on by
    // itself, in threads that nobody waits for, with what it uses.
    bool stop(Time patience);

  private:
    struct State;
    std::shared_ptr<State> state_;
};

}  // namespace wavecrest::host
