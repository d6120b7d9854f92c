#include "net/rtp.hpp"

#include <algorithm>

namespace wavecrest::net {

void write_rtp(std::span<std::uint8_t, kRtpHeaderBytes> out, const RtpHeader& header) {
    out[0] = 0x80;  // version 2
    out[1] = static_cast<std::uint8_t>((header.marker ? 0x80 : 0) | (header.payload_type & 0x7F));
    out[2] = static_cast<std::uint8_t>(header.sequence >> 8);
    out[3] = static_cast<std::uint8_t>(header.sequence);
    for (int i = 0; i < 4; ++i) {
        out[static_cast<std::size_t>(4 + i)] = static_cast<std::uint8_t>(header.timestamp >> (24 - 8 * i));
        out[static_cast<std::size_t>(8 + i)] = static_cast<std::uint8_t>(header.source >> (24 - 8 * i));
    }
}

std::optional<RtpPacket> parse_rtp(ByteSpan datagram) {
    if (datagram.size() < 12 || datagram[0] >> 6 != 2) return std::nullopt;
    base::ByteReader reader(datagram);
    const std::uint8_t first = reader.u8(), second = reader.u8();
    RtpPacket packet;
    packet.header.marker = (second & 0x80) != 0;
    packet.header.payload_type = second & 0x7F;
    packet.header.sequence = reader.u16();
    packet.header.timestamp = reader.u32();
    packet.header.source = reader.u32();
    reader.skip((first & 15u) * 4u);
    if ((first & 0x10) != 0) {
        reader.skip(2);
        reader.skip(std::size_t{reader.u16()} * 4);
    }
    if (!reader.ok()) return std::nullopt;
    std::size_t end = datagram.size();
    if ((first & 0x20) != 0) {
        const std::size_t padding = datagram.back();
        if (padding == 0 || padding > end - reader.position()) return std::nullopt;
        end -= padding;
    }
    packet.payload = datagram.subspan(reader.position(), end - reader.position());
    return packet;
}

void SequenceMeter::begin(std::uint16_t sequence) {
    lost_before_ = lost();
    begun_ = true;
    first_ = highest_ = sequence;
    in_run_ = 1;
    window_ = 1;
    ++received_;
}

bool SequenceMeter::push(std::uint16_t sequence) {
    // A sender that began anew is further off than anything that gets lost or overtaken (RFC 3550, A.1).
    constexpr int kNewRun = 3000;
    const auto step = static_cast<std::int16_t>(sequence - static_cast<std::uint16_t>(highest_));
    if (!begun_ || step > kNewRun || step < -kNewRun) {
        begin(sequence);
        return true;
    }
    if (step > 0) {
        highest_ += step;
        window_ = step >= 64 ? 1 : window_ << step | 1;
    } else {
        const int behind = -step;
        if (behind < 64 && (window_ >> behind & 1) != 0) {
            ++doubled_;
            return false;
        }
        if (behind < 64) window_ |= std::uint64_t{1} << behind;
        first_ = std::min(first_, highest_ - behind);
        ++reordered_;
    }
    ++in_run_;
    ++received_;
    return true;
}

std::uint64_t SequenceMeter::lost() const {
    if (!begun_) return 0;
    return lost_before_ + static_cast<std::uint64_t>(std::max<std::int64_t>(0, highest_ - first_ + 1 - in_run_));
}

}  // namespace wavecrest::net
