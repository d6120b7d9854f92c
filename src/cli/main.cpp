#include <malloc.h>
#include <sys/resource.h>

#include <exception>

#include "base/log.hpp"
#include "cli/command_line.hpp"
#include "cli/terminal.hpp"

namespace {

using namespace wavecrest::cli;

// Connections and films under way take open files: as many as the system lets this user have.
void allow_open_files() {
    rlimit limit{};
    if (::getrlimit(RLIMIT_NOFILE, &limit) != 0 || limit.rlim_cur >= limit.rlim_max) return;
    limit.rlim_cur = limit.rlim_max;
    ::setrlimit(RLIMIT_NOFILE, &limit);
}

// Large blocks go back to the system at once when they are given up. By itself the library learns to keep them, in a
// heap for each thread: half a gigabyte more at 2160p.
void return_large_blocks() {
#ifdef __GLIBC__
    ::mallopt(M_MMAP_THRESHOLD, 2'000'000);
#endif
}

}  // namespace

int main(int argc, char** argv) {
    install_signal_handlers();
    allow_open_files();
    return_large_blocks();
    try {
        const int status = finish_output(run_command_line(argc, argv));
        if (!wavecrest::base::finish_log()) note("the log is incomplete: it could not be written to its file");
        return status;
    } catch (const std::exception& error) {
        // Nothing throws on purpose this far up: memory has run out, most likely.
        return report_error({wavecrest::ErrorKind::machine, fmt::format("the program had to stop: {}", error.what()),
                             "", "close other programs and try again; if it happens again, report it"});
    }
}
