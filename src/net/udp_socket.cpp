#include "net/udp_socket.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <map>

namespace wavecrest::net {
namespace {

constexpr std::size_t kLargest = 8 << 10, kMostAtOnce = 64;

// The size of what was written to `raw`; 0 where the address is none of this kind.
socklen_t to_socket_address(const UdpEnd& end, bool ipv6, sockaddr_storage& raw) {
    raw = {};
    if (!ipv6) {
        auto& v4 = reinterpret_cast<sockaddr_in&>(raw);
        v4.sin_family = AF_INET;
        v4.sin_port = htons(end.port);
        return ::inet_pton(AF_INET, end.address.c_str(), &v4.sin_addr) == 1 ? sizeof v4 : 0;
    }
    auto& v6 = reinterpret_cast<sockaddr_in6&>(raw);
    v6.sin6_family = AF_INET6;
    v6.sin6_port = htons(end.port);
    const std::size_t zone = end.address.find('%');
    if (zone != std::string::npos) v6.sin6_scope_id = ::if_nametoindex(end.address.c_str() + zone + 1);
    return ::inet_pton(AF_INET6, end.address.substr(0, zone).c_str(), &v6.sin6_addr) == 1 ? sizeof v6 : 0;
}

UdpEnd from_socket_address(const sockaddr_storage& raw) {
    char text[INET6_ADDRSTRLEN] = {};
    if (raw.ss_family == AF_INET) {
        const auto& v4 = reinterpret_cast<const sockaddr_in&>(raw);
        ::inet_ntop(AF_INET, &v4.sin_addr, text, sizeof text);
        return {text, ntohs(v4.sin_port)};
    }
    const auto& v6 = reinterpret_cast<const sockaddr_in6&>(raw);
    ::inet_ntop(AF_INET6, &v6.sin6_addr, text, sizeof text);
    UdpEnd end{text, ntohs(v6.sin6_port)};
    char name[IF_NAMESIZE] = {};
    if (IN6_IS_ADDR_LINKLOCAL(&v6.sin6_addr) && ::if_indextoname(v6.sin6_scope_id, name) != nullptr)
        end.address += fmt::format("%{}", name);
    return end;
}

unsigned interface_of(msghdr& message) {
    for (cmsghdr* c = CMSG_FIRSTHDR(&message); c != nullptr; c = CMSG_NXTHDR(&message, c)) {
        if (c->cmsg_level == IPPROTO_IP && c->cmsg_type == IP_PKTINFO) {
            in_pktinfo info{};
            std::memcpy(&info, CMSG_DATA(c), sizeof info);
            return static_cast<unsigned>(info.ipi_ifindex);
        }
        if (c->cmsg_level == IPPROTO_IPV6 && c->cmsg_type == IPV6_PKTINFO) {
            in6_pktinfo info{};
            std::memcpy(&info, CMSG_DATA(c), sizeof info);
            return info.ipi6_ifindex;
        }
    }
    return 0;
}

}  // namespace

Result<std::vector<MulticastInterface>> multicast_interfaces(const std::string& only) {
    std::map<unsigned, MulticastInterface> by_index;
    std::string known, name;  // of the wanted one
    ifaddrs* list = nullptr;
    if (::getifaddrs(&list) != 0)
        return fail(ErrorKind::machine, "the network interfaces can't be listed", "network", "check the system");
    for (const ifaddrs* entry = list; entry != nullptr; entry = entry->ifa_next) {
        if (entry->ifa_addr == nullptr || (entry->ifa_flags & IFF_UP) == 0) continue;
        const bool loopback = (entry->ifa_flags & IFF_LOOPBACK) != 0;
        if (!loopback && (entry->ifa_flags & IFF_MULTICAST) == 0) continue;
        const unsigned index = ::if_nametoindex(entry->ifa_name);
        const int family = entry->ifa_addr->sa_family;
        if (index == 0 || (family != AF_INET && family != AF_INET6)) continue;
        MulticastInterface& one = by_index[index];
        one.index = index;
        one.name = entry->ifa_name;
        one.loopback = loopback;
        char text[INET6_ADDRSTRLEN] = {};
        if (family == AF_INET) {
            ::inet_ntop(AF_INET, &reinterpret_cast<const sockaddr_in*>(entry->ifa_addr)->sin_addr, text, sizeof text);
            if (one.ipv4.empty()) {
                one.ipv4 = text;
                if ((entry->ifa_flags & IFF_BROADCAST) != 0 && entry->ifa_broadaddr != nullptr) {
                    char all[INET_ADDRSTRLEN] = {};
                    ::inet_ntop(AF_INET, &reinterpret_cast<const sockaddr_in*>(entry->ifa_broadaddr)->sin_addr, all,
                                sizeof all);
                    one.broadcast = all;
                }
            }
        } else {
            const in6_addr& ip = reinterpret_cast<const sockaddr_in6*>(entry->ifa_addr)->sin6_addr;
            ::inet_ntop(AF_INET6, &ip, text, sizeof text);
            if (one.ipv6.empty() && (loopback || IN6_IS_ADDR_LINKLOCAL(&ip))) one.ipv6 = text;
        }
        known += fmt::format("{}{} ({})", known.empty() ? "" : ", ", one.name, text);
        if (only == one.name || only == text) name = one.name;
    }
    ::freeifaddrs(list);
    if (!only.empty() && name.empty())
        return fail(ErrorKind::usage, fmt::format("there is no network interface \"{}\"", only), "interface",
                    fmt::format("use one of: {}", known));
    std::vector<MulticastInterface> found;
    for (auto& [index, one] : by_index) {
        if (only.empty() || one.name == name) found.push_back(std::move(one));
    }
    std::stable_sort(found.begin(), found.end(), [](const auto& a, const auto& b) { return a.loopback < b.loopback; });
    return found;
}

Result<std::unique_ptr<UdpSocket>> UdpSocket::open(const Settings& settings) {
    const int family = settings.ipv6 ? AF_INET6 : AF_INET;
    const auto refused = [&](const char* what) {
        return fail(ErrorKind::machine, fmt::format("{}: {}", what, std::strerror(errno)),
                    fmt::format("UDP port {}", settings.port), "check the network, and who has the port");
    };
    const int handle = ::socket(family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (handle < 0) return refused("can't create a socket");
    std::unique_ptr<UdpSocket> made(new UdpSocket(handle, settings.ipv6));
    const int on = 1, hops = settings.ttl;
    sockaddr_storage raw{};
    socklen_t size = 0;
    if (settings.shared) ::setsockopt(handle, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    if (settings.ipv6) {
        ::setsockopt(handle, IPPROTO_IPV6, IPV6_V6ONLY, &on, sizeof on);
        ::setsockopt(handle, IPPROTO_IPV6, IPV6_RECVPKTINFO, &on, sizeof on);
        ::setsockopt(handle, IPPROTO_IPV6, IPV6_MULTICAST_HOPS, &hops, sizeof hops);
        if (settings.interface != 0)
            ::setsockopt(handle, IPPROTO_IPV6, IPV6_MULTICAST_IF, &settings.interface, sizeof settings.interface);
        size = to_socket_address({settings.address.empty() ? "::" : settings.address, settings.port}, true, raw);
    } else {
        ::setsockopt(handle, IPPROTO_IP, IP_PKTINFO, &on, sizeof on);
        ::setsockopt(handle, SOL_SOCKET, SO_BROADCAST, &on, sizeof on);
        ::setsockopt(handle, IPPROTO_IP, IP_MULTICAST_TTL, &hops, sizeof hops);
        ip_mreqn request{};
        request.imr_ifindex = static_cast<int>(settings.interface);
        if (settings.interface != 0) ::setsockopt(handle, IPPROTO_IP, IP_MULTICAST_IF, &request, sizeof request);
        size = to_socket_address({settings.address.empty() ? "0.0.0.0" : settings.address, settings.port}, false, raw);
        // Else a socket of IPv4 is given what other sockets' groups get.
        const int off = 0;
        ::setsockopt(handle, IPPROTO_IP, IP_MULTICAST_ALL, &off, sizeof off);
    }
    if (::bind(handle, reinterpret_cast<const sockaddr*>(&raw), size) != 0) return refused("the port can't be used");
    return made;
}

UdpSocket::~UdpSocket() {
    ::close(handle_);
}

bool UdpSocket::join(const std::string& group, unsigned interface) {
    if (ipv6_) {
        ipv6_mreq request{};
        request.ipv6mr_interface = interface;
        return ::inet_pton(AF_INET6, group.c_str(), &request.ipv6mr_multiaddr) == 1 &&
               ::setsockopt(handle_, IPPROTO_IPV6, IPV6_JOIN_GROUP, &request, sizeof request) == 0;
    }
    ip_mreqn request{};
    request.imr_ifindex = static_cast<int>(interface);
    return ::inet_pton(AF_INET, group.c_str(), &request.imr_multiaddr) == 1 &&
           ::setsockopt(handle_, IPPROTO_IP, IP_ADD_MEMBERSHIP, &request, sizeof request) == 0;
}

bool UdpSocket::send(const UdpEnd& to, std::string_view text) {
    sockaddr_storage raw{};
    const socklen_t size = to_socket_address(to, ipv6_, raw);
    return size != 0 && ::sendto(handle_, text.data(), text.size(), MSG_NOSIGNAL,
                                 reinterpret_cast<const sockaddr*>(&raw), size) == static_cast<ssize_t>(text.size());
}

std::vector<UdpSocket::Datagram> UdpSocket::receive(std::chrono::milliseconds wait) {
    std::vector<Datagram> datagrams;
    pollfd waiting{handle_, POLLIN, 0};
    if (::poll(&waiting, 1, static_cast<int>(wait.count())) <= 0) return datagrams;
    while (datagrams.size() < kMostAtOnce) {
        char bytes[kLargest];
        alignas(cmsghdr) char control[256];
        sockaddr_storage from{};
        iovec part{bytes, sizeof bytes};
        msghdr message{};
        message.msg_name = &from;
        message.msg_namelen = sizeof from;
        message.msg_iov = &part;
        message.msg_iovlen = 1;
        message.msg_control = control;
        message.msg_controllen = sizeof control;
        const ssize_t got = ::recvmsg(handle_, &message, MSG_DONTWAIT);
        if (got < 0) {
            if (errno == ECONNREFUSED) continue;  // of something sent before, told here
            break;
        }
        datagrams.push_back(
            {std::string(bytes, static_cast<std::size_t>(got)), from_socket_address(from), interface_of(message)});
    }
    return datagrams;
}

std::uint16_t UdpSocket::port() const {
    sockaddr_storage raw{};
    socklen_t size = sizeof raw;
    if (::getsockname(handle_, reinterpret_cast<sockaddr*>(&raw), &size) != 0) return 0;
    return from_socket_address(raw).port;
}

}  // namespace wavecrest::net
