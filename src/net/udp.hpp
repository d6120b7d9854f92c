// UDP: many datagrams a call to several places, unicast and multicast; and their receiver, with the kernel's times.
#pragma once

#include <array>
#include <chrono>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "base/result.hpp"

namespace wavecrest::net {

struct UdpAddress {
    std::array<std::uint8_t, 28> raw{};  // sockaddr_in or sockaddr_in6
    std::uint32_t size = 0;
    bool multicast = false;
    bool ipv6 = false;
    std::uint16_t port = 0;
    std::string text;  // "239.20.0.1:5004"
};
// "239.20.0.1:5004", "[ff15::7]:5004". Kind usage.
Result<UdpAddress> parse_udp_address(const std::string& text);

// A port of this machine where nobody listens right now.
Result<std::uint16_t> free_udp_port();

struct UdpSettings {
    int ttl = 4;            // how many routers multicast may pass, 1 to 255
    std::string interface;  // by name or address, for multicast; empty: the system's choice
};

class UdpSender {
  public:
    struct Datagram {
        const UdpAddress* to = nullptr;
        ByteSpan bytes;
    };
    // Fails (kind machine) where no socket can be made; kind usage for an interface that isn't there.
    static Result<std::unique_ptr<UdpSender>> open(const UdpSettings& settings);
    ~UdpSender();
    // Sends all of them, in their order. Gives how many the system refused: nobody listens, no way there, no room.
    std::size_t send(std::span<const Datagram> datagrams);

  private:
    UdpSender(int v4, int v6) : v4_(v4), v6_(v6) {}
    int v4_, v6_;
};

class UdpReceiver {
  public:
    struct Datagram {
        ByteSpan bytes;  // valid until the next call
        // Of arrival, on the steady clock: setting the machine's clock doesn't move it. Never before the one in front.
        std::chrono::nanoseconds at{};
    };
    // Listens where the address says: joins its group when it is multicast. Fails (kind machine) when the port is taken
    // or the group can't be joined.
    static Result<std::unique_ptr<UdpReceiver>> open(const UdpAddress& address, const UdpSettings& settings = {});
    ~UdpReceiver();
    // What has come, after waiting for at most so long; empty when nothing did. Ends early on a signal.
    Result<std::vector<Datagram>> receive(std::chrono::milliseconds wait);
    // Datagrams that found no room in the socket's buffer.
    std::uint64_t overrun() const { return overrun_; }

  private:
    explicit UdpReceiver(int handle);
    int handle_;
    std::vector<std::uint8_t> buffer_;
    std::uint64_t overrun_ = 0;
    std::chrono::nanoseconds last_{};  // arrival
};

// When a datagram came, on the steady clock: the kernel timestamps it by the machine's clock, which may be set at any
// time. `wall` and `steady` are now; a timestamp that can't be (in the future, or of more than a second ago) counts as
// now.
std::chrono::nanoseconds arrival_on_steady_clock(std::chrono::nanoseconds timestamp, std::chrono::nanoseconds wall,
                                                 std::chrono::nanoseconds steady);

}  // namespace wavecrest::net
