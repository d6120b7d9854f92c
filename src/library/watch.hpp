// Keeps a catalogue up to date while it is served: scans at the start, when the kernel tells of changes (inotify), and
// at intervals, since changes on network shares aren't told.
#pragma once

#include <functional>
#include <memory>
#include <string>
#include <vector>

#include "library/catalogue.hpp"

namespace wavecrest::library {

class Watcher {
  public:
    struct Settings {
        std::vector<Collection> collections;
        Time rest = base::from_seconds(2);        // without a change, before a scan
        Time interval = base::from_seconds(300);  // between scans when nothing is told
        std::function<void(const ScanResult& result)>
            on_scan;  // from its thread, after each that changed something, and the first
        std::function<void(const Error& error)> on_error;  // likewise
    };
    Watcher(Settings settings, Catalogue& catalogue);  // must outlive it
    Watcher(const Watcher&) = delete;
    Watcher& operator=(const Watcher&) = delete;
    ~Watcher();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::library
