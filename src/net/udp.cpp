#include "net/udp.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <net/if.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <charconv>
#include <cstring>

#include "host/machine.hpp"

namespace wavecrest::net {
namespace {

constexpr std::size_t kBatch = 64;
constexpr std::size_t kLargest = 2048;
constexpr int kSendBuffer = 1 << 20, kReceiveBuffer = 8 << 20;

tl::unexpected<Error> refused(const char* what, const std::string& where) {
    return fail(ErrorKind::machine, fmt::format("{}: {}", what, std::strerror(errno)), where,
                "check the network, or choose another address or port");
}

// The number of an interface given by name or by one of its addresses; 0 when empty.
Result<unsigned> interface_of(const std::string& text) {
    if (text.empty()) return 0u;
    std::string name = text;
    std::string known;
    for (const host::Address& address : host::addresses()) {
        if (address.address == text) name = address.interface;
        known += (known.empty() ? "" : ", ") + address.interface + " (" + address.address + ")";
    }
    const unsigned index = ::if_nametoindex(name.c_str());
    if (index == 0)
        return fail(ErrorKind::usage, fmt::format("there is no network interface \"{}\"", text), "interface",
                    fmt::format("use one of: {}", known));
    return index;
}

}  // namespace

Result<UdpAddress> parse_udp_address(const std::string& text) {
    const auto refuse = [&](const char* why) {
        return fail(ErrorKind::usage, fmt::format("\"{}\" {}", text, why), "UDP address",
                    "write address and port, such as 239.20.0.1:5004 or [ff15::7]:5004");
    };
    const std::size_t colon = text.rfind(':');
    if (colon == std::string::npos) return refuse("has no port");
    std::string host = text.substr(0, colon);
    unsigned port = 0;
    const auto [end, error] = std::from_chars(text.data() + colon + 1, text.data() + text.size(), port);
    if (error != std::errc{} || end != text.data() + text.size() || port == 0 || port > 65535)
        return refuse("has no port from 1 to 65535");
    if (host.size() > 2 && host.front() == '[' && host.back() == ']') host = host.substr(1, host.size() - 2);
    UdpAddress address;
    address.port = static_cast<std::uint16_t>(port);
    address.text = text;
    sockaddr_in v4{};
    sockaddr_in6 v6{};
    if (::inet_pton(AF_INET, host.c_str(), &v4.sin_addr) == 1) {
        v4.sin_family = AF_INET;
        v4.sin_port = htons(address.port);
        address.multicast = IN_MULTICAST(ntohl(v4.sin_addr.s_addr));
        address.size = sizeof v4;
        std::memcpy(address.raw.data(), &v4, sizeof v4);
    } else if (::inet_pton(AF_INET6, host.c_str(), &v6.sin6_addr) == 1) {
        v6.sin6_family = AF_INET6;
        v6.sin6_port = htons(address.port);
        address.ipv6 = true;
        address.multicast = IN6_IS_ADDR_MULTICAST(&v6.sin6_addr);
        address.size = sizeof v6;
        std::memcpy(address.raw.data(), &v6, sizeof v6);
    } else {
        return refuse("does not start with an IP address");
    }
    return address;
}

Result<std::uint16_t> free_udp_port() {
    const int socket = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    sockaddr_in at{};
    at.sin_family = AF_INET;
    at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof at;
    const bool bound = socket >= 0 && ::bind(socket, reinterpret_cast<const sockaddr*>(&at), size) == 0 &&
                       ::getsockname(socket, reinterpret_cast<sockaddr*>(&at), &size) == 0;
    if (socket >= 0) ::close(socket);
    if (!bound) return fail(ErrorKind::machine, "no UDP port is free", "127.0.0.1", "close programs that use many");
    return ntohs(at.sin_port);
}

Result<std::unique_ptr<UdpSender>> UdpSender::open(const UdpSettings& settings) {
    WAVECREST_TRY_ASSIGN(index, interface_of(settings.interface));
    const int v4 = ::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (v4 < 0) return refused("can't create a socket", "UDP");
    const int v6 = ::socket(AF_INET6, SOCK_DGRAM | SOCK_CLOEXEC, 0);  // a machine may be without
    std::unique_ptr<UdpSender> sender(new UdpSender(v4, v6));
    const int buffer = kSendBuffer, hops = settings.ttl;
    ::setsockopt(v4, SOL_SOCKET, SO_SNDBUF, &buffer, sizeof buffer);
    ::setsockopt(v4, IPPROTO_IP, IP_MULTICAST_TTL, &hops, sizeof hops);
    if (v6 >= 0) {
        ::setsockopt(v6, SOL_SOCKET, SO_SNDBUF, &buffer, sizeof buffer);
        ::setsockopt(v6, IPPROTO_IPV6, IPV6_MULTICAST_HOPS, &hops, sizeof hops);
    }
    if (index != 0) {
        ip_mreqn request{};
        request.imr_ifindex = static_cast<int>(index);
        if (::setsockopt(v4, IPPROTO_IP, IP_MULTICAST_IF, &request, sizeof request) != 0)
            return refused("the interface can't be used for multicast", settings.interface);
        if (v6 >= 0) ::setsockopt(v6, IPPROTO_IPV6, IPV6_MULTICAST_IF, &index, sizeof index);
    }
    return sender;
}

UdpSender::~UdpSender() {
    ::close(v4_);
    if (v6_ >= 0) ::close(v6_);
}

std::size_t UdpSender::send(std::span<const Datagram> datagrams) {
    std::size_t failed = 0;
    for (std::size_t at = 0; at < datagrams.size();) {
        // As many as go out by the same socket.
        const bool ipv6 = datagrams[at].to->ipv6;
        mmsghdr messages[kBatch];
        iovec parts[kBatch];
        std::size_t count = 0;
        for (; count < kBatch && at + count < datagrams.size() && datagrams[at + count].to->ipv6 == ipv6; ++count) {
            const Datagram& datagram = datagrams[at + count];
            parts[count] = {const_cast<std::uint8_t*>(datagram.bytes.data()), datagram.bytes.size()};
            messages[count] = {};
            messages[count].msg_hdr.msg_name = const_cast<std::uint8_t*>(datagram.to->raw.data());
            messages[count].msg_hdr.msg_namelen = datagram.to->size;
            messages[count].msg_hdr.msg_iov = &parts[count];
            messages[count].msg_hdr.msg_iovlen = 1;
        }
        std::size_t done = 0;
        while (done < count) {
            const int sent = ::sendmmsg(ipv6 ? v6_ : v4_, messages + done, static_cast<unsigned>(count - done), 0);
            if (sent > 0) {
                done += static_cast<std::size_t>(sent);
            } else if (sent < 0 && errno == EINTR) {
                continue;
            } else {
                ++failed;  // this one; an earlier one's refusal is told here, too
                ++done;
            }
        }
        at += count;
    }
    return failed;
}

UdpReceiver::UdpReceiver(int handle) : handle_(handle), buffer_(kBatch * kLargest) {}
UdpReceiver::~UdpReceiver() {
    ::close(handle_);
}

Result<std::unique_ptr<UdpReceiver>> UdpReceiver::open(const UdpAddress& address, const UdpSettings& settings) {
    WAVECREST_TRY_ASSIGN(index, interface_of(settings.interface));
    const int handle = ::socket(address.ipv6 ? AF_INET6 : AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0);
    if (handle < 0) return refused("can't create a socket", address.text);
    std::unique_ptr<UdpReceiver> receiver(new UdpReceiver(handle));
    const int on = 1, buffer = kReceiveBuffer;
    // Several receivers of one group on a machine are usual; of one plain port they would take each other's datagrams.
    if (address.multicast) ::setsockopt(handle, SOL_SOCKET, SO_REUSEADDR, &on, sizeof on);
    ::setsockopt(handle, SOL_SOCKET, SO_RCVBUF, &buffer, sizeof buffer);
    ::setsockopt(handle, SOL_SOCKET, SO_TIMESTAMPNS, &on, sizeof on);
    ::setsockopt(handle, SOL_SOCKET, SO_RXQ_OVFL, &on, sizeof on);
    if (::bind(handle, reinterpret_cast<const sockaddr*>(address.raw.data()), address.size) != 0) {
        if (errno == EADDRINUSE)
            return fail(ErrorKind::machine, "the UDP port is in use", address.text,
                        "stop the program that receives there, or choose another port");
        return refused("the address can't be listened on", address.text);
    }
    if (address.multicast && !address.ipv6) {
        ip_mreqn request{};
        sockaddr_in v4{};
        std::memcpy(&v4, address.raw.data(), sizeof v4);
        request.imr_multiaddr = v4.sin_addr;
        request.imr_ifindex = static_cast<int>(index);
        if (::setsockopt(handle, IPPROTO_IP, IP_ADD_MEMBERSHIP, &request, sizeof request) != 0)
            return refused("the multicast group can't be joined", address.text);
    } else if (address.multicast) {
        ipv6_mreq request{};
        sockaddr_in6 v6{};
        std::memcpy(&v6, address.raw.data(), sizeof v6);
        request.ipv6mr_multiaddr = v6.sin6_addr;
        request.ipv6mr_interface = index;
        if (::setsockopt(handle, IPPROTO_IPV6, IPV6_JOIN_GROUP, &request, sizeof request) != 0)
            return refused("the multicast group can't be joined", address.text);
    }
    return receiver;
}

namespace {

struct Clocks {
    std::chrono::nanoseconds wall, steady;
};

// Both as of one moment: of a few readings the one in which the thread was interrupted least.
Clocks both_clocks() {
    Clocks best{};
    std::chrono::nanoseconds least = std::chrono::nanoseconds::max();
    for (int i = 0; i < 4 && least > std::chrono::microseconds(1); ++i) {
        const std::chrono::nanoseconds before = std::chrono::steady_clock::now().time_since_epoch(),
                                       wall = std::chrono::system_clock::now().time_since_epoch(),
                                       after = std::chrono::steady_clock::now().time_since_epoch();
        if (after - before < least) {
            least = after - before;
            best = {wall, before + least / 2};
        }
    }
    return best;
}

}  // namespace

Result<std::vector<UdpReceiver::Datagram>> UdpReceiver::receive(std::chrono::milliseconds wait) {
    std::vector<Datagram> datagrams;
    pollfd waiting{handle_, POLLIN, 0};
    const int ready = ::poll(&waiting, 1, static_cast<int>(wait.count()));
    if (ready <= 0) return datagrams;
    mmsghdr messages[kBatch];
    iovec parts[kBatch];
    alignas(cmsghdr) char control[kBatch][128];
    for (std::size_t i = 0; i < kBatch; ++i) {
        parts[i] = {buffer_.data() + i * kLargest, kLargest};
        messages[i] = {};
        messages[i].msg_hdr.msg_iov = &parts[i];
        messages[i].msg_hdr.msg_iovlen = 1;
        messages[i].msg_hdr.msg_control = control[i];
        messages[i].msg_hdr.msg_controllen = sizeof control[i];
    }
    const int got = ::recvmmsg(handle_, messages, kBatch, MSG_DONTWAIT, nullptr);
    if (got < 0) {
        if (errno == EAGAIN || errno == EINTR || errno == ECONNREFUSED) return datagrams;
        return refused("receiving failed", "UDP");
    }
    const auto [wall, steady] = both_clocks();
    for (int i = 0; i < got; ++i) {
        Datagram datagram;
        datagram.at = steady;
        datagram.bytes = {buffer_.data() + static_cast<std::size_t>(i) * kLargest, messages[i].msg_len};
        for (cmsghdr* c = CMSG_FIRSTHDR(&messages[i].msg_hdr); c != nullptr; c = CMSG_NXTHDR(&messages[i].msg_hdr, c)) {
            if (c->cmsg_level == SOL_SOCKET && c->cmsg_type == SCM_TIMESTAMPNS) {
                timespec at{};
                std::memcpy(&at, CMSG_DATA(c), sizeof at);
                datagram.at = arrival_on_steady_clock(
                    std::chrono::seconds(at.tv_sec) + std::chrono::nanoseconds(at.tv_nsec), wall, steady);
            } else if (c->cmsg_level == SOL_SOCKET && c->cmsg_type == SO_RXQ_OVFL) {
                std::uint32_t dropped = 0;
                std::memcpy(&dropped, CMSG_DATA(c), sizeof dropped);
                overrun_ = dropped;
            }
        }
        // The clocks are read anew for each call, a little apart: what came later never counts as earlier.
        datagram.at = last_ = std::max(datagram.at, last_);
        datagrams.push_back(datagram);
    }
    return datagrams;
}

std::chrono::nanoseconds arrival_on_steady_clock(std::chrono::nanoseconds timestamp, std::chrono::nanoseconds wall,
                                                 std::chrono::nanoseconds steady) {
    const std::chrono::nanoseconds age = wall - timestamp;
    return age < std::chrono::nanoseconds(0) || age > std::chrono::seconds(1) ? steady : steady - age;
}

}  // namespace wavecrest::net
