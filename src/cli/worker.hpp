// Work in a process of its own, so that its end can be waited for with a limit: a thread that a hanging drive or share
// holds in the kernel can't be ended, nor can the process it belongs to.
#pragma once

#include <chrono>
#include <functional>
#include <string>
#include <vector>

namespace wavecrest::cli {

// Calls `work` in a new process (which goes when this one does) and gives its exit status. SIGINT, SIGTERM and SIGHUP
// are handed on as SIGTERM; what isn't gone after `patience` is left behind, and 130 given. SIGTSTP (Ctrl-Z) stops
// both. To be called before any thread begins, but for that of install_signal_handlers(), which the new process hasn't.
// In such a process already, `work` is done right there.
int run_in_worker(const std::function<int()>& work, std::chrono::milliseconds patience);
// The same with signal handlers installed in the new process, and 10 s.
int run_in_worker(const std::function<int()>& work);

// Whether a word of the command line ("--into=FOLDER", too) names a path that lies where the kernel may hold a process
// (host::Mount::holds_processes()). No drive is looked at.
bool names_holding_mount(const std::vector<std::string>& words);

// In such a process: it ends with this status, and isn't waited for should the kernel hold it. Elsewhere nothing.
void tell_parent(int status);

}  // namespace wavecrest::cli
