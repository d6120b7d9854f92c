// A UDP socket for questions and answers: what it sends comes from the port at which it receives, and of what it
// receives it tells who sent it. (UdpSender and UdpReceiver of udp.hpp are for streams.)
#pragma once

#include <chrono>
#include <cstdint>
#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"

namespace wavecrest::net {

// One end: an address in digits ("192.168.1.20", "fe80::1%eth0") and a port.
struct UdpEnd {
    std::string address;
    std::uint16_t port = 0;

    bool operator==(const UdpEnd&) const = default;
    bool ipv6() const { return address.find(':') != std::string::npos; }
};

// An interface of this machine that multicast can go out by.
struct MulticastInterface {
    unsigned index = 0;
    std::string name;
    std::string ipv4;       // its first address; empty: none
    std::string ipv6;       // its link-local address, of loopback its only one; empty: none
    std::string broadcast;  // address for all hosts of its IPv4 network; empty: none
    bool loopback = false;

    bool operator==(const MulticastInterface&) const = default;
};
// Those that are up, loopback last. `only`: by name or address; empty: all. Kind usage where there is none like that.
Result<std::vector<MulticastInterface>> multicast_interfaces(const std::string& only = "");

class UdpSocket {
  public:
    struct Settings {
        bool ipv6 = false;
        std::string address;     // that datagrams come from; empty: the system's choice (of loopback's multicast: none)
        std::uint16_t port = 0;  // 0: any free one
        bool shared = false;     // other sockets may have the port, too
        int ttl = 2;             // of multicast
        unsigned interface = 0;  // by its index: multicast goes out by it; 0: the system's choice
    };
    struct Datagram {
        std::string text;
        UdpEnd from;
        unsigned interface = 0;  // by which it came
    };
    // Fails (kind machine) where there can be none like that.
    static Result<std::unique_ptr<UdpSocket>> open(const Settings& settings);
    UdpSocket(const UdpSocket&) = delete;
    UdpSocket& operator=(const UdpSocket&) = delete;
    ~UdpSocket();

    // Takes what is sent to a group on an interface. False where that can't be.
    bool join(const std::string& group, unsigned interface);
    // False where the system refuses it.
    bool send(const UdpEnd& to, std::string_view text);
    // What has come, after waiting for at most so long; ends early on a signal. Datagrams beyond 8 KB are cut off.
    std::vector<Datagram> receive(std::chrono::milliseconds wait);
    std::uint16_t port() const;

  private:
    UdpSocket(int handle, bool ipv6) : handle_(handle), ipv6_(ipv6) {}
    int handle_;
    bool ipv6_;
};

}  // namespace wavecrest::net
