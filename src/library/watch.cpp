#include "library/watch.hpp"

#include <chrono>
#include <ctime>
#include <thread>

#include "host/folder_changes.hpp"

namespace wavecrest::library {

using Clock = std::chrono::steady_clock;

struct Watcher::State {
    Settings settings;
    Catalogue& catalogue;
    Cancel cancel;
    host::FolderChanges changes;
    std::thread thread;

    State(Settings s, Catalogue& c) : settings(std::move(s)), catalogue(c), changes(folders_of(settings)) {}
    static std::vector<base::Path> folders_of(const Settings& settings) {
        std::vector<base::Path> folders;
        for (const Collection& one : settings.collections) folders.push_back(one.folder);
        return folders;
    }

    void scan(bool first) {
        const auto result = catalogue.scan(settings.collections, std::time(nullptr), cancel);
        if (!result) {
            if (result.error().kind != ErrorKind::interrupted && settings.on_error) settings.on_error(result.error());
        } else if ((first || result->any()) && settings.on_scan) {
            settings.on_scan(*result);
        }
    }

    void run() {
        const auto rest = std::chrono::duration_cast<Clock::duration>(settings.rest);
        const auto interval = std::chrono::duration_cast<Clock::duration>(settings.interval);
        // What is written on and on is looked at meanwhile, too.
        const auto longest_rest = 15 * rest;
        changes.renew();
        scan(true);
        auto next = Clock::now() + interval;
        Clock::time_point first_change{}, last_change{};
        bool is_changing = false;
        while (!cancel.requested()) {
            const auto now = Clock::now();
            const auto due = is_changing ? std::min(last_change + rest, first_change + longest_rest) : next;
            if (now >= due) {
                is_changing = false;
                changes.renew();
                scan(false);
                next = Clock::now() + interval;
                continue;
            }
            if (!changes.wait(base::from_seconds(std::chrono::duration<double>(due - now).count()))) continue;
            last_change = Clock::now();
            if (!is_changing) first_change = last_change;
            is_changing = true;
        }
    }
};

Watcher::Watcher(Settings settings, Catalogue& catalogue)
    : state_(std::make_unique<State>(std::move(settings), catalogue)) {
    state_->thread = std::thread([s = state_.get()] { s->run(); });
}

Watcher::~Watcher() {
    state_->cancel.request();
    state_->changes.wake();
    state_->thread.join();
}

}  // namespace wavecrest::library
