// A client in a process of its own, asked over a socket. The libraries aren't made for a program of several threads
// that goes on when a server is lost (libsmbclient keeps its state for the whole process; libnfs 4.0 crashes when what
// waits for an answer is given up): so a server that hangs holds up nobody but those who asked it, and what hangs can
// be ended. What a server sends is taken apart there, too, away from everything else.
#pragma once

#include <functional>
#include <memory>

#include "share/client.hpp"

namespace wavecrest::share {

// `make` is called in the process, which is begun (fork) with the first question. ETIMEDOUT where an answer takes
// longer than `limit`: the process is ended then, and the next question begins another. EIO where it ended by itself.
std::unique_ptr<Client> in_own_process(std::function<std::unique_ptr<Client>()> make, Time limit);

}  // namespace wavecrest::share
