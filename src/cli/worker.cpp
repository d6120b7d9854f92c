#include "cli/worker.hpp"

#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <csignal>
#include <cstdio>
#include <cstring>
#include <optional>

#include "cli/terminal.hpp"

namespace wavecrest::cli {

int run_in_worker(const std::function<int()>& work, std::chrono::milliseconds patience) {
    using Steady = std::chrono::steady_clock;
    sigset_t watched, before;
    sigemptyset(&watched);
    for (const int signal : {SIGHUP, SIGINT, SIGTERM, SIGQUIT, SIGCHLD}) sigaddset(&watched, signal);
    ::sigprocmask(SIG_BLOCK, &watched, &before);
    std::fflush(nullptr);
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
        if (::getppid() != parent) return exit_status(ErrorKind::interrupted);
        return work();
    }
    ::setpgid(worker, worker);
    std::optional<Steady::time_point> limit;
    while (true) {
        int status = 0;
        if (::waitpid(worker, &status, WNOHANG) == worker) {
            ::sigprocmask(SIG_SETMASK, &before, nullptr);
            if (WIFEXITED(status)) return WEXITSTATUS(status);
            note(fmt::format("the program's worker was ended by a signal: {}", ::strsignal(WTERMSIG(status))));
            return 128 + WTERMSIG(status);
        }
        if (limit && Steady::now() >= *limit) {
            ::kill(worker, SIGKILL);
            note("a drive or share does not respond: the program exits when it does");
            return exit_status(ErrorKind::interrupted);
        }
        const timespec nap{0, 100'000'000};
        const int signal = limit ? ::sigtimedwait(&watched, nullptr, &nap) : ::sigwaitinfo(&watched, nullptr);
        if (signal <= 0 || signal == SIGCHLD) continue;
        ::kill(worker, signal == SIGQUIT ? SIGQUIT : SIGTERM);
        if (!limit) limit = Steady::now() + patience;
    }
}

}  // namespace wavecrest::cli
