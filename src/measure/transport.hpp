// How well a transport stream is made, and how it arrives: ETSI TR 101 290 (what is watched on wires), and the buffers
// of the system target decoder (Rec. ITU-T H.222.0 | ISO/IEC 13818-1, 2.4.2).
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/byte_source.hpp"
#include "base/bytes.hpp"
#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "base/time.hpp"

namespace wavecrest::measure {

struct TransportStreamMeasure {
    int pid = 0;
    int type = 0;  // stream_type of its program table
    std::uint64_t packets = 0;
    std::uint64_t units = 0;      // PES packets whose times are known
    std::uint64_t late = 0;       // of those: not there when they are to be decoded
    Time latest{};                // by how much at most
    Time earliest{};              // the longest that data waits for its decoding time
    std::int64_t held_bytes = 0;  // the most that waits at a time
    double transport_buffer = 0;  // the most of its 512 bytes
    std::uint64_t overflows = 0;  // packets that found no room there
};

struct TransportReport {
    std::uint64_t packets = 0, null_packets = 0;
    std::uint64_t marked_bad = 0;       // transport_error_indicator
    std::uint64_t discontinuities = 0;  // continuity counters that jump: packets are missing or out of order
    std::optional<Time> first_discontinuity;
    std::uint64_t repeated = 0;     // packets sent twice (which is allowed once)
    std::uint64_t clocks = 0;       // program clock references
    Time clock_interval{};          // the longest between two
    Time table_interval{};          // likewise, of the program association and map tables
    std::uint64_t clock_jumps = 0;  // that no discontinuity indicator announces
    // Between clock references: how far one is off the line through its neighbours, when packets come evenly.
    Time clock_jitter{};
    Time duration{};            // from the first clock reference to the last
    std::int64_t mean_bps = 0;  // of all packets
    std::vector<TransportStreamMeasure> streams;
};

// Takes packets of 188 bytes in their order. Times are those of the stream's own clock, from its first reference on;
// packets between two references are taken to come evenly (2.4.2.2).
class TransportMeter {
  public:
    TransportMeter();
    ~TransportMeter();
    TransportMeter(TransportMeter&&) noexcept;
    // A packet that doesn't begin with the sync byte is left out.
    void push(ByteSpan packet);
    TransportReport report() const;
    Time reached() const;  // of the stream's clock

  private:
    struct State;
    std::unique_ptr<State> state_;
};

// All of a file (packets of 188, 192 or 204 bytes), from wherever packets begin in it. Errors: as the source gives
// them, interrupted; kind input when there are no packets.
Result<TransportReport> measure_transport(base::ByteSource& source, const Progress& progress, const Cancel& cancel);

// Short sentences on what will matter to a receiver; none when all is in order.
std::vector<std::string> in_words(const TransportReport& report);

}  // namespace wavecrest::measure
