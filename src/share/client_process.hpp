// A client in a process of its own, asked over a socket. For libraries that keep their state for the whole process and
// aren't made for several threads (libsmbclient): so a server that hangs holds up nobody but those who asked it, and
// what hangs can be ended. What a server sends is taken apart there, too, away from everything else.
#pragma once

#include <functional>
#include <memory>

#include "share/client.hpp"

namespace wavecrest::share {

// `make` is called in the process, which is begun (fork) with the first question. ETIMEDOUT where an answer takes
// longer than `limit`: the process is ended then, and the next question begins another. EIO where it ended by itself.
std::unique_ptr<Client> in_own_process(std::function<std::unique_ptr<Client>()> make, Time limit);

}  // namespace wavecrest::share
