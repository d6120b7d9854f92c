// A live stream's packets as RTMP messages, cut into chunks once for all players.
#pragma once

#include <string>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::stream {

// The message stream that shared bytes are for.
inline constexpr std::uint32_t kRtmpStream = 1;

// Why RTMP can't carry a track; empty when it can.
std::string why_not_rtmp(const Track& track);
// Metadata and configuration: what every player gets before its first keyframe.
Bytes rtmp_preface(const std::vector<Track>& tracks);
// What tells players that the stream is over.
Bytes rtmp_ending();
// Asks a player whether it is there (7.1.7, Ping Request): says that the connection lives while nothing is sent.
Bytes rtmp_ping(Time now);
// Appends the message for a packet. Times are moved up by a second, so that none is negative.
void append_rtmp(ByteVector& out, const Track& track, const Packet& packet);

}  // namespace wavecrest::stream
