// A network worse than this machine's, between any sender and any receiver: of limited rate, with delay, jitter, loss,
// datagrams out of order, and outages, by a schedule that a seed decides.
#pragma once

#include <atomic>
#include <cstdint>
#include <functional>
#include <memory>
#include <random>
#include <string>

#include "base/result.hpp"
#include "base/time.hpp"
#include "net/rate_steps.hpp"
#include "net/udp.hpp"

namespace wavecrest::net {

struct LinkFaults {
    std::int64_t rate_bps = 0;        // payload; 0: not limited
    std::vector<RateStep> squeeze{};  // instead: a rate that changes, from when the link begins on
    Time delay{};                     // one way
    Time jitter{};                    // added to the delay: anything from 0 to this
    // Of datagrams, 0 to 1; those out of order come a little later than those behind them. Of connections they are
    // segments of 1448 bytes: a lost one is sent again, a round trip later, one out of order costs a moment, and what
    // is behind it waits.
    double loss = 0;
    double reorder = 0;
    Time outage{};        // so long nothing passes (net/outages.hpp) ...
    Time outage_every{};  // ... in each such time; 0: never
    std::uint32_t seed = 1;

    bool any() const {
        return rate_bps > 0 || !squeeze.empty() || delay.count() > 0 || jitter.count() > 0 || loss > 0 || reorder > 0 ||
               outage.count() > 0;
    }
};
// For people: "6 Mbit/s, 40 ms delay, 1 % lost".
std::string describe(const LinkFaults& faults);

// What becomes of one datagram: pure arithmetic, the same for the same seed and times.
class LinkSchedule {
  public:
    explicit LinkSchedule(const LinkFaults& faults) : faults_(faults), random_(faults.seed) {}

    struct Fate {
        bool lost = false;
        Time at{};  // when it arrives
    };
    // A datagram of `bytes` that leaves at `now` (never going back).
    Fate datagram(Time now, std::size_t bytes);
    // When bytes of a connection that leave at `now` have arrived.
    Time stream(Time now, std::size_t bytes);
    // Segments of connections that were lost, and sent again.
    std::uint64_t repeated() const { return repeated_; }
    // The end of the outage that is on at `now`, for datagrams or as a connection sees it; `now` where there is none.
    Time after_outage(Time now, bool connection = false) const;

  private:
    Time carried(Time now, std::size_t bytes);

    LinkFaults faults_;
    std::mt19937 random_;
    std::atomic<std::uint64_t> repeated_{0};
    Time free_at_{};  // when the link has sent all it took
};

struct LinkFigures {
    std::uint64_t passed = 0, bytes = 0;  // datagrams, or pieces of connections; payload
    std::uint64_t lost = 0;               // datagrams; of connections segments that were sent again
    std::size_t connections = 0;
};

class WorseLink {
  public:
    // Passes TCP connections to `port` of `host`, listening on `listen_port` (0: any).
    static Result<std::unique_ptr<WorseLink>> tcp(const std::string& listen_address, std::uint16_t listen_port,
                                                  const std::string& host, std::uint16_t port,
                                                  const LinkFaults& faults);
    // Passes datagrams that come to one address on to another.
    static Result<std::unique_ptr<WorseLink>> udp(const UdpAddress& from, const UdpAddress& to,
                                                  const LinkFaults& faults, const UdpSettings& settings = {});
    virtual ~WorseLink() = default;
    virtual std::uint16_t port() const = 0;
    virtual LinkFigures figures() const = 0;
};

}  // namespace wavecrest::net
