#include "host/disk_work.hpp"

#include <pthread.h>
#include <signal.h>

#include <algorithm>
#include <chrono>
#include <deque>
#include <list>
#include <map>
#include <optional>
#include <thread>
#include <utility>

#include "base/mutex.hpp"
#include "host/mounts.hpp"

namespace wavecrest::host {
namespace {

using Steady = std::chrono::steady_clock;
using Outcome = DiskWork::Outcome;
using namespace std::chrono_literals;

constexpr auto kWatch = 200ms;
constexpr auto kTableAge = 2s;

Steady::duration steady(Time time) {
    return std::chrono::duration_cast<Steady::duration>(time);
}

struct Job {
    std::function<void()> work;
    std::function<void(Outcome)> done;
    Steady::time_point since = Steady::now();  // waiting, then working
    bool told = false;                         // `done` was called; under the state's mutex
};
using Held = std::shared_ptr<Job>;

struct Queue {
    int at_once = 1, working = 0;
    std::map<std::string, std::deque<Held>> turns;
    std::string last;  // that had its turn

    Held take() {
        if (working >= at_once || turns.empty()) return nullptr;
        auto next = turns.upper_bound(last);
        if (next == turns.end()) next = turns.begin();
        last = next->first;
        Held job = std::move(next->second.front());
        next->second.pop_front();
        if (next->second.empty()) turns.erase(next);
        return job;
    }
};

struct Disk {
    std::string at;
    std::map<std::string, Queue> queues;
    std::string last;         // queue that had its turn
    std::list<Held> working;  // under way
    int threads = 0, idle = 0;
    base::Condition turn;
    bool hangs = false;
    Steady::time_point hangs_since;

    // The next job whose turn it is, with its queue's name.
    std::pair<Held, std::string> take() {
        auto next = queues.upper_bound(last);
        for (std::size_t i = 0; i < queues.size(); ++i, ++next) {
            if (next == queues.end()) next = queues.begin();
            if (Held job = next->second.take()) {
                last = next->first;
                ++next->second.working;
                return {std::move(job), last};
            }
        }
        return {};
    }
};

}  // namespace

struct DiskWork::State : std::enable_shared_from_this<State> {
    DiskWorkSettings settings;
    mutable base::Mutex mutex;
    std::map<std::string, std::shared_ptr<Disk>> disks GUARDED_BY(mutex);  // and what is in them
    std::optional<Steady::time_point> table_read GUARDED_BY(mutex);
    std::vector<std::string> mounts GUARDED_BY(mutex);  // folders
    bool stopping GUARDED_BY(mutex) = false;
    int working GUARDED_BY(mutex) = 0;  // threads with work in hand
    base::Condition changed;
    std::thread watching;

    const std::string& mount_of(const std::string& path) REQUIRES(mutex);
    void work(const std::shared_ptr<Disk>& disk);
    void watch();
    std::vector<std::pair<std::string, bool>> look(std::vector<Held>& given_up) REQUIRES(mutex);
};

// By name alone: a look at the file could take for ever.
const std::string& DiskWork::State::mount_of(const std::string& path) {
    if (!table_read || Steady::now() - *table_read > kTableAge) {
        table_read = Steady::now();
        mounts = mount_points();
    }
    static const std::string root = "/";
    const std::string* best = &root;
    for (const std::string& at : mounts) {
        if (at.size() >= best->size() && (path == at || path.starts_with(at + "/"))) best = &at;
    }
    return *best;
}

void DiskWork::State::work(const std::shared_ptr<Disk>& disk) {
    base::MutexLock lock(mutex);
    while (!stopping) {
        auto [job, name] = disk->take();
        if (!job) {
            ++disk->idle;
            disk->turn.wait(mutex);
            --disk->idle;
            continue;
        }
        job->since = Steady::now();
        const auto place = disk->working.insert(disk->working.end(), job);
        ++working;
        lock.unlock();
        job->work();
        lock.lock();
        disk->working.erase(place);
        const auto queue = disk->queues.find(name);
        if (--queue->second.working == 0 && queue->second.turns.empty()) disk->queues.erase(queue);
        const bool tell = !std::exchange(job->told, true);
        lock.unlock();
        if (tell) job->done(Outcome::done);
        job.reset();  // and what it holds, not under the lock
        lock.lock();
        --working;
        if (stopping) changed.notify_all();
    }
}

// Who hangs, and who doesn't any more; and what is given up.
std::vector<std::pair<std::string, bool>> DiskWork::State::look(std::vector<Held>& given_up) {
    std::vector<std::pair<std::string, bool>> news;
    const auto now = Steady::now();
    for (const auto& [at, disk] : disks) {
        Steady::time_point oldest = now;
        for (const Held& job : disk->working) {
            oldest = std::min(oldest, job->since);
            if (now - job->since > steady(settings.give_up_after) && !std::exchange(job->told, true))
                given_up.push_back(job);
        }
        const bool hangs = now - oldest > steady(settings.hung_after);
        if (hangs != disk->hangs) {
            disk->hangs = hangs;
            disk->hangs_since = oldest;
            news.emplace_back(at, hangs);
        }
        // Work that could be done by another thread isn't given up, but what waits for one that won't come.
        const bool stuck = hangs && static_cast<int>(disk->working.size()) >= settings.threads;
        for (auto& [name, queue] : disk->queues) {
            for (auto turn = queue.turns.begin(); turn != queue.turns.end();) {
                std::deque<Held>& jobs = turn->second;
                while (!jobs.empty() && (stuck || now - jobs.front()->since > steady(settings.give_up_after))) {
                    jobs.front()->told = true;
                    given_up.push_back(std::move(jobs.front()));
                    jobs.pop_front();
                }
                turn = jobs.empty() ? queue.turns.erase(turn) : std::next(turn);
            }
        }
    }
    return news;
}

void DiskWork::State::watch() {
    base::MutexLock lock(mutex);
    while (!stopping) {
        changed.wait_for(mutex, kWatch);
        std::vector<Held> given_up;
        const auto news = look(given_up);
        lock.unlock();
        for (const Held& job : given_up) job->done(Outcome::hangs);
        given_up.clear();
        for (const auto& [at, hangs] : news) {
            if (settings.on_change) settings.on_change(at, hangs);
        }
        lock.lock();
    }
}

DiskWork::DiskWork(DiskWorkSettings settings) : state_(std::make_shared<State>()) {
    state_->settings = std::move(settings);
    state_->watching = std::thread([s = state_.get()] { s->watch(); });
}

namespace {

// "smb://attic": each file server hangs by itself.
std::string server_of(const base::Address& address) {
    const std::string& text = address.text();
    const std::size_t host = text.size() - address.behind_scheme().size();
    return text.substr(0, text.find('/', host));
}

}  // namespace

DiskWork::~DiskWork() {
    stop(Time{});
}

void DiskWork::run(const DiskQueue& queue, std::function<void()> work, std::function<void(Outcome)> done) {
    State& s = *state_;
    const bool local = queue.path.is_local();
    const std::string path =
        local ? base::absolute_path(queue.path.path()).lexically_normal().string() : server_of(queue.path);
    base::MutexLock lock(s.mutex);
    if (s.stopping) {
        lock.unlock();
        done(Outcome::hangs);
        return;
    }
    const std::string& at = local ? s.mount_of(path) : path;
    std::shared_ptr<Disk>& disk = s.disks[at];
    if (!disk) {
        disk = std::make_shared<Disk>();
        disk->at = at;
    }
    if (disk->hangs && static_cast<int>(disk->working.size()) >= s.settings.threads) {
        lock.unlock();
        done(Outcome::hangs);
        return;
    }
    Queue& its = disk->queues[queue.name];
    its.at_once = std::max(queue.at_once, 1);
    std::deque<Held>& waiting = its.turns[queue.turn];
    if (waiting.size() >= s.settings.most_waiting) {
        lock.unlock();
        done(Outcome::busy);
        return;
    }
    auto job = std::make_shared<Job>();
    job->work = std::move(work);
    job->done = std::move(done);
    waiting.push_back(std::move(job));
    if (disk->idle > 0) {
        disk->turn.notify_one();
    } else if (disk->threads < s.settings.threads) {
        ++disk->threads;
        std::thread([state = state_, disk] {
            // sendfile to a client that left raises SIGPIPE; and signals for the program are for other threads.
            sigset_t all;
            sigfillset(&all);
            ::pthread_sigmask(SIG_BLOCK, &all, nullptr);
            state->work(disk);
        }).detach();
    }
}

std::vector<HungDisk> DiskWork::hung() const {
    const base::MutexLock lock(state_->mutex);
    std::vector<HungDisk> all;
    for (const auto& [at, disk] : state_->disks) {
        if (disk->hangs) all.push_back({at, std::chrono::duration_cast<Time>(Steady::now() - disk->hangs_since)});
    }
    return all;
}

bool DiskWork::stop(Time patience) {
    State& s = *state_;
    std::vector<Held> given_up;
    bool whole = true;
    {
        base::MutexLock lock(s.mutex);
        s.stopping = true;
        for (const auto& [at, disk] : s.disks) {
            for (auto& [name, queue] : disk->queues) {
                for (auto& [turn, jobs] : queue.turns) {
                    for (Held& job : jobs) given_up.push_back(std::move(job));
                }
                queue.turns.clear();
            }
            disk->turn.notify_all();
        }
        s.changed.notify_all();
        const auto until = Steady::now() + steady(patience);
        while (s.working > 0 && s.changed.wait_until(s.mutex, until)) {
        }
        whole = s.working == 0;
        for (const auto& [at, disk] : s.disks) {
            for (const Held& job : disk->working) {
                if (!std::exchange(job->told, true)) given_up.push_back(job);
            }
        }
    }
    for (const Held& job : given_up) job->done(Outcome::hangs);
    if (s.watching.joinable()) s.watching.join();
    return whole;
}

}  // namespace wavecrest::host
