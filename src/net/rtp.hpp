// RTP (RFC 3550) as it carries transport streams (RFC 2250, clause 2): a header of twelve bytes in front of whole
// packets of 188.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

#include "base/bytes.hpp"

namespace wavecrest::net {

// Payload type of MPEG-2 transport streams (RFC 3551, table 5); its timestamps count 90 kHz.
inline constexpr int kRtpTransportStream = 33;

struct RtpHeader {
    int payload_type = kRtpTransportStream;
    bool marker = false;
    std::uint16_t sequence = 0;
    std::uint32_t timestamp = 0;
    std::uint32_t source = 0;  // synchronization source identifier
};
inline constexpr std::size_t kRtpHeaderBytes = 12;
void write_rtp(std::span<std::uint8_t, kRtpHeaderBytes> out, const RtpHeader& header);

struct RtpPacket {
    RtpHeader header;
    ByteSpan payload;  // contributing sources, extension and padding left out
};
// Nothing where the version is another or the lengths don't fit (5.1, 5.3.1).
std::optional<RtpPacket> parse_rtp(ByteSpan datagram);

// Counts what a sequence of 16-bit numbers says was lost, doubled or out of order (RFC 3550, A.1 and A.3).
class SequenceMeter {
  public:
    // False for a packet that was there already.
    bool push(std::uint16_t sequence);
    std::uint64_t received() const { return received_; }
    std::uint64_t lost() const;  // so far: expected less received
    std::uint64_t doubled() const { return doubled_; }
    std::uint64_t reordered() const { return reordered_; }

  private:
    void begin(std::uint16_t sequence);

    bool begun_ = false;
    std::int64_t first_ = 0, highest_ = 0;  // of this run of numbers, with wraps counted
    std::int64_t in_run_ = 0;               // received of it
    std::uint64_t lost_before_ = 0;         // in earlier runs
    std::uint64_t received_ = 0, doubled_ = 0, reordered_ = 0;
    std::uint64_t window_ = 0;  // which of the 64 up to the highest have come; the lowest bit is the highest
};

}  // namespace wavecrest::net
