#include "cli/worker.hpp"

#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <new>
#include <optional>

#include "base/address.hpp"
#include "cli/terminal.hpp"
#include "host/mounts.hpp"

namespace wavecrest::cli {
namespace {

// In the worker: where its parent looks for the status with which it leaves.
std::atomic<int>* told_status = nullptr;
static_assert(std::atomic<int>::is_always_lock_free);  // between processes

// As SIGTSTP would have done, until SIGCONT.
void stop_both(pid_t worker) {
    ::kill(worker, SIGSTOP);
    ::raise(SIGSTOP);
    ::kill(worker, SIGCONT);
}

}  // namespace

bool names_holding_mount(const std::vector<std::string>& words) {
    return std::any_of(words.begin(), words.end(), [](const std::string& word) {
        const std::string path = word.starts_with("-") ? word.substr(word.find('=') + 1) : word;
        if (path.empty() || path.starts_with("-") || base::has_scheme(path)) return false;
        const auto mount = host::mount_by_name(path);
        return mount && mount->holds_processes();
    });
}

int run_in_worker(const std::function<int()>& work) {
    const auto with_handlers = [&] {
        install_signal_handlers();
        return work();
    };
    return told_status != nullptr ? work() : run_in_worker(with_handlers, std::chrono::seconds(10));
}

void tell_parent(int status) {
    if (told_status == nullptr) return;
    told_status->store(status);
    ::kill(::getppid(), SIGCHLD);
}

int run_in_worker(const std::function<int()>& work, std::chrono::milliseconds patience) {
    if (told_status != nullptr) return work();
    using Steady = std::chrono::steady_clock;
    constexpr std::chrono::milliseconds kLeaving{500};
    sigset_t watched, before;
    sigemptyset(&watched);
    for (const int signal : {SIGHUP, SIGINT, SIGTERM, SIGQUIT, SIGTSTP, SIGCHLD}) sigaddset(&watched, signal);
    ::sigprocmask(SIG_BLOCK, &watched, &before);
    std::fflush(nullptr);
    constexpr int kNothing = -1;
    void* const shared =
        ::mmap(nullptr, sizeof(std::atomic<int>), PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    auto* const told = shared == MAP_FAILED ? nullptr : new (shared) std::atomic<int>(kNothing);
    const pid_t parent = ::getpid(), worker = ::fork();
    if (worker < 0) {
        ::sigprocmask(SIG_SETMASK, &before, nullptr);
        return work();
    }
    if (worker == 0) {
        // In a group of its own: what a terminal sends comes once, from the parent.
        ::setpgid(0, 0);
        ::prctl(PR_SET_PDEATHSIG, SIGTERM);
        ::sigprocmask(SIG_SETMASK, &before, nullptr);
        told_status = told;
        if (::getppid() != parent) return exit_status(ErrorKind::interrupted);
        return work();
    }
    ::setpgid(worker, worker);
    std::optional<Steady::time_point> limit;
    int left_with = exit_status(ErrorKind::interrupted);
    while (true) {
        int status = 0;
        if (::waitpid(worker, &status, WNOHANG) == worker) {
            ::sigprocmask(SIG_SETMASK, &before, nullptr);
            if (WIFEXITED(status)) return WEXITSTATUS(status);
            note(fmt::format("the program's worker was ended by a signal: {}", ::strsignal(WTERMSIG(status))));
            return 128 + WTERMSIG(status);
        }
        // What it told of isn't told again.
        const bool is_leaving = told != nullptr && told->load() != kNothing;
        if (is_leaving && !(limit && *limit <= Steady::now() + kLeaving)) {
            left_with = told->load();
            limit = Steady::now() + kLeaving;
        }
        if (limit && Steady::now() >= *limit) {
            ::kill(worker, SIGKILL);
            if (!is_leaving) note("a drive or share does not respond: the program exits when it does");
            return left_with;
        }
        const timespec nap{0, 100'000'000};
        const int signal = limit ? ::sigtimedwait(&watched, nullptr, &nap) : ::sigwaitinfo(&watched, nullptr);
        if (signal == SIGTSTP) stop_both(worker);
        if (signal <= 0 || signal == SIGCHLD || signal == SIGTSTP) continue;
        ::kill(worker, signal == SIGQUIT ? SIGQUIT : SIGTERM);
        if (!limit) limit = Steady::now() + patience;
    }
}

}  // namespace wavecrest::cli
