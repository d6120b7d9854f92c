#include "library/watch.hpp"

#include <fcntl.h>
#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <ctime>
#include <set>
#include <thread>

namespace wavecrest::library {

using Clock = std::chrono::steady_clock;

struct Watcher::State {
    Settings settings;
    Catalogue& catalogue;
    Cancel cancel;
    int handle = -1;
    std::array<int, 2> wake{-1, -1};
    std::set<std::string> watched;
    std::thread thread;

    State(Settings s, Catalogue& c) : settings(std::move(s)), catalogue(c) {}

    // The folders of all collections; each is watched by itself.
    void watch_folders() {
        constexpr std::size_t kMost = 8192;
        constexpr std::uint32_t kWhat = IN_CREATE | IN_DELETE | IN_MOVED_FROM | IN_MOVED_TO | IN_CLOSE_WRITE |
                                        IN_MODIFY | IN_DELETE_SELF | IN_ONLYDIR | IN_DONT_FOLLOW;
        const auto watch = [&](const base::Path& folder) {
            if (watched.size() < kMost && ::inotify_add_watch(handle, folder.c_str(), kWhat) >= 0)
                watched.insert(folder.string());
        };
        watched.clear();
        for (const Collection& one : settings.collections) {
            std::error_code error;
            watch(one.folder);
            for (std::filesystem::recursive_directory_iterator
                     entry(one.folder, std::filesystem::directory_options::skip_permission_denied, error),
                 end;
                 !error && entry != end && watched.size() < kMost; entry.increment(error)) {
                std::error_code ignored;
                if (!entry->is_symlink(ignored) && entry->is_directory(ignored)) watch(entry->path());
            }
        }
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
        watch_folders();
        scan(true);
        auto next = Clock::now() + interval;
        Clock::time_point first_change{}, last_change{};
        bool is_changing = false;
        while (!cancel.requested()) {
            const auto now = Clock::now();
            const auto due = is_changing ? std::min(last_change + rest, first_change + longest_rest) : next;
            if (now >= due) {
                is_changing = false;
                watch_folders();
                scan(false);
                next = Clock::now() + interval;
                continue;
            }
            std::array<pollfd, 2> waiting{{{handle, POLLIN, 0}, {wake[0], POLLIN, 0}}};
            const auto wait =
                std::chrono::duration_cast<std::chrono::milliseconds>(due - now) + std::chrono::milliseconds(1);
            if (::poll(waiting.data(), waiting.size(), static_cast<int>(wait.count())) <= 0) continue;
            std::array<char, 16384> events{};
            bool any = false;
            while (::read(handle, events.data(), events.size()) > 0) any = true;
            if (!any) continue;
            last_change = Clock::now();
            if (!is_changing) first_change = last_change;
            is_changing = true;
        }
    }
};

Watcher::Watcher(Settings settings, Catalogue& catalogue)
    : state_(std::make_unique<State>(std::move(settings), catalogue)) {
    // Without inotify (too many are in use) the intervals remain.
    state_->handle = ::inotify_init1(IN_NONBLOCK | IN_CLOEXEC);
    if (::pipe2(state_->wake.data(), O_CLOEXEC) != 0) state_->wake = {-1, -1};
    state_->thread = std::thread([s = state_.get()] { s->run(); });
}

Watcher::~Watcher() {
    state_->cancel.request();
    if (state_->wake[1] >= 0) (void)!::write(state_->wake[1], "x", 1);
    state_->thread.join();
    for (const int handle : {state_->handle, state_->wake[0], state_->wake[1]}) {
        if (handle >= 0) ::close(handle);
    }
}

}  // namespace wavecrest::library
