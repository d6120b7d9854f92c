#include "net/listen.hpp"

#include <fmt/format.h>

#include <cerrno>

#include "host/machine.hpp"

namespace wavecrest::net {

Error listen_error(int error, const std::string& message, const std::string& address, std::uint16_t port) {
    const std::string where = fmt::format("TCP port {}", port);
    if (error == EADDRINUSE) {
        const auto holder = host::tcp_listener(port);
        const bool known = holder && holder->pid != 0;
        const std::string who = known ? fmt::format("the process \"{}\" (PID {})", holder->program, holder->pid)
                                      : "a process of another user";
        return {ErrorKind::machine, fmt::format("the port is in use by {}", who), where,
                known ? fmt::format("stop it (kill {}) or choose another port", holder->pid) : "choose another port"};
    }
    if (error == EACCES)
        return {ErrorKind::machine, "this user may not listen on this port", where, "choose a port above 1023"};
    if (error == EADDRNOTAVAIL)
        return {ErrorKind::machine, fmt::format("{} is not an address of this machine", address), where,
                "use one of this machine's addresses (wavecrest site check lists them)"};
    return {ErrorKind::machine, fmt::format("listening failed: {}", message), where, "choose another port or address"};
}

}  // namespace wavecrest::net
