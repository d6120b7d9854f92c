// This machine: free space, processors, addresses, ports and who holds them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::host {

// Bytes an ordinary user may still write where `path` is or would be (the nearest existing parent counts).
Result<std::uint64_t> free_space(const base::Path& path);

// Fails (kind machine) where this user may not write at `path`, or in the nearest of its folders that exists.
Status check_writable(const base::Path& path);

int processors();
// From now on this thread and those it starts get processor and drive as far as others leave them, and a little always.
void yield_to_others();
// Processor time this process has used so far, in seconds: all threads, in the kernel and outside.
double processor_seconds();

struct Address {
    std::string interface;  // "eth0"
    std::string address;    // IPv4 dotted, or IPv6
    bool ipv6 = false;
    bool loopback = false;
};
// Addresses of interfaces that are up; IPv4 first, loopback last, link-local IPv6 left out.
std::vector<Address> addresses();

// The address devices should use: the first IPv4 one that is not loopback; loopback when there is no other.
std::string best_address();

struct PortHolder {
    int pid = 0;          // 0: belongs to another user, and can't be seen
    std::string program;  // empty when unknown
};
// Who listens on a TCP port, from /proc; nothing when nobody does.
std::optional<PortHolder> tcp_listener(std::uint16_t port);

}  // namespace wavecrest::host
