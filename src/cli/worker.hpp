// Work in a process of its own, so that its end can be waited for with a limit: a thread that a hanging drive or share
// holds in the kernel can't be ended, nor can the process it belongs to.
#pragma once

#include <chrono>
#include <functional>

namespace wavecrest::cli {

// Calls `work` in a new process (which goes when this one does) and gives its exit status. SIGINT, SIGTERM and SIGHUP
// are handed on as SIGTERM; what isn't gone after `patience` is left behind, and 130 given. To be called before any
// thread begins, but for that of install_signal_handlers(), which the new process hasn't.
int run_in_worker(const std::function<int()>& work, std::chrono::milliseconds patience);

// In such a process: it ends with this status, and isn't waited for should the kernel hold it. Elsewhere nothing.
void tell_parent(int status);

}  // namespace wavecrest::cli
