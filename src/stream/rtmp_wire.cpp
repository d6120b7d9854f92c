#include "stream/rtmp_wire.hpp"

#include <fmt/format.h>

#include <chrono>

#include "container/flv_tags.hpp"
#include "container/writer.hpp"
#include "net/amf0.hpp"
#include "net/rtmp_chunks.hpp"
#include "net/rtmp_server.hpp"

namespace wavecrest::stream {
namespace {

namespace flv = container::flv;
namespace rtmp = net::rtmp;

// Of audio, video and data (any but 2, which the protocol has for itself).
constexpr int kAudioChunks = 4, kVideoChunks = 6, kDataChunks = 5;
constexpr Time kShift = std::chrono::seconds(1);

}  // namespace

std::string why_not_rtmp(const Track& track) {
    if (track.kind == TrackKind::subtitle) return "RTMP has no subtitles";
    return container::why_not("flv", track);
}

Bytes rtmp_preface(const std::vector<Track>& tracks) {
    ByteVector out;
    rtmp::append_message(out, kDataChunks, {rtmp::kData, 0, kRtmpStream, {}}, flv::metadata(tracks),
                         net::kRtmpBroadcastChunk);
    for (const Track& track : tracks) {
        const ByteVector config = flv::configuration(track);
        if (config.empty()) continue;
        const bool picture = track.kind == TrackKind::video;
        rtmp::append_message(out, picture ? kVideoChunks : kAudioChunks,
                             {picture ? rtmp::kVideo : rtmp::kAudio, 0, kRtmpStream, {}}, config,
                             net::kRtmpBroadcastChunk);
    }
    return Bytes(std::move(out));
}

Bytes rtmp_ending() {
    ByteVector out;
    base::ByteWriter end;
    end.u16(1);  // Stream EOF (7.1.7)
    end.u32(kRtmpStream);
    rtmp::append_message(out, 2, {rtmp::kUserControl, 0, 0, {}}, end.bytes(), net::kRtmpBroadcastChunk);
    const ByteVector status = net::amf0::write(
        {"onStatus", 0.0, net::amf0::Value(),
         net::amf0::Members{
             {"level", "status"}, {"code", "NetStream.Play.Stop"}, {"description", "the stream has ended"}}});
    rtmp::append_message(out, 3, {rtmp::kCommand, 0, kRtmpStream, {}}, status, net::kRtmpBroadcastChunk);
    return Bytes(std::move(out));
}

Bytes rtmp_ping(Time now) {
    ByteVector out;
    base::ByteWriter ping;
    ping.u16(6);
    ping.u32(static_cast<std::uint32_t>(base::to_ticks(now, 1000)));
    rtmp::append_message(out, 2, {rtmp::kUserControl, 0, 0, {}}, ping.bytes(), net::kRtmpBroadcastChunk);
    return Bytes(std::move(out));
}

void append_rtmp(ByteVector& out, const Track& track, const Packet& packet) {
    const std::int64_t ms = std::max<std::int64_t>(base::to_ticks(packet.dts + kShift, 1000), 0);
    const ByteVector body = flv::body(track, packet, base::to_ticks(packet.pts + kShift, 1000) - ms);
    const bool picture = track.kind == TrackKind::video;
    rtmp::append_message(out, picture ? kVideoChunks : kAudioChunks,
                         {picture ? rtmp::kVideo : rtmp::kAudio, static_cast<std::uint32_t>(ms), kRtmpStream, {}}, body,
                         net::kRtmpBroadcastChunk);
}

}  // namespace wavecrest::stream
