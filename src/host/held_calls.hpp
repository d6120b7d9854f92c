// System calls on files that don't return: what a drive, share or automount that hangs does to a program. A mount has
// limits of its own as a rule, but not every one (Linux ignores "soft" of nfs(5) for NFS 4 while the server's TCP still
// answers), and a thread in such a call looks at no flag and runs no signal handler.
#pragma once

#include <chrono>
#include <cstdint>
#include <map>
#include <optional>
#include <string>

#include "base/file.hpp"

namespace wavecrest::host {

using Steady = std::chrono::steady_clock;

// A call in which a thread of this program waits.
struct HeldCall {
    std::string path;                  // of the file or folder; empty: not known
    std::chrono::milliseconds held{};  // since it was first seen there
};

// Looks at this program's threads now and then, by Linux's proc(5); touches no file but those of /proc, so that it
// can't be held itself. For one thread.
//
// What counts: looking up and opening files and folders, and reading those of shares and file systems in user space.
// Pipes, terminals, devices and sockets may have nothing to give for ever. A drive of this machine has limits of its
// own, and may try for minutes to read a scratched disc. Writing and flushing count on a mount by NFS alone, from the
// server's last answer on: what the system has put off may be much for a slow drive.
class HeldCalls {
  public:
    // Another folder stands for /proc/self in tests.
    explicit HeldCalls(base::Path process = "/proc/self");

    // The call that has been held longest, by this look and those before; nothing where none was seen twice.
    std::optional<HeldCall> look(Steady::time_point now);

  private:
    struct Seen {
        std::string call;            // the line of proc(5)'s "syscall": number, arguments, stack and program counter
        std::uint64_t switches = 0;  // how often the thread had waited by then
        std::optional<std::uint64_t> answers;  // of the file server, where the call writes
        std::string path;
        Steady::time_point since;
    };

    base::Path process_;
    std::map<std::string, Seen> threads_;
};

}  // namespace wavecrest::host
