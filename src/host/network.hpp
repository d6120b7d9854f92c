// This machine's network as an installer has to know it: addresses that may change, a firewall in the way.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace wavecrest::host {

// How long the address stays this machine's: nothing for one set by hand, seconds for one that is leased (DHCP, router
// advertisements); nothing, too, where the address isn't this machine's.
std::optional<std::uint32_t> lease_seconds(const std::string& address);

// Whether an address (in digits) is in the subnet of one of this machine's interfaces that are up, or is its own.
bool on_local_network(const std::string& address);

// What an interface's wire is set to, in bits per second; nothing where it tells none (wireless, virtual ones).
// `folder` is where the kernel lists interfaces.
std::optional<std::int64_t> wire_speed(const std::string& interface, const std::string& folder = "/sys/class/net");

enum class Transport { tcp, udp };

// What the kernel's packet filter does with new connections to a port.
struct FirewallAnswer {
    enum class Kind { open, closed, unknown } kind = Kind::unknown;
    std::string why;  // of closed: which chain; of unknown: what keeps it from being told
};
// From the kernel's rules of both kinds (nft, iptables), which needs root's rights. Rules that look at more than
// protocol, port and state of the connection are taken not to match.
FirewallAnswer firewall(Transport transport, std::uint16_t port);
// The same from what `nft --json list ruleset` prints.
FirewallAnswer judge_ruleset(std::string_view json, Transport transport, std::uint16_t port);
// The same from what `iptables-save` prints.
FirewallAnswer judge_saved_rules(std::string_view text, Transport transport, std::uint16_t port);

}  // namespace wavecrest::host
