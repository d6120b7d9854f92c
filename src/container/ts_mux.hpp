// Makes a transport stream of packets, and says when each of its packets of 188 bytes is due: a schedule on the clock
// that the stream itself carries, so that a decoder's buffers neither run dry nor over (13818-1, 2.4.2, T-STD).
//
// Data is sent as late and as evenly as its decoding times allow. Tables come at least every 0.1 s and clock references
// 25 ms (TR 101 290 asks for 0.5 s and 40 ms). Used for files, where only the order counts, and for wires.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "media/flow.hpp"

namespace wavecrest::container {

// Time 0 of the title on the clock that the stream carries, so that decoding times and clocks before it stay positive.
inline constexpr Time kTransportStart = std::chrono::seconds(2);

struct MuxSettings {
    std::string title;          // of the program; may be empty
    std::int64_t rate_bps = 0;  // of all packets, null packets filling it up; 0: as much as is needed at each moment
    Time lead = base::from_seconds(0.7);  // data of pictures comes at most so long before they are decoded
    // At a variable rate, for what is made in pieces by one mux after the other (segments of HLS): the clock that it
    // begins with, and that by which all is sent, when the next one begins. Continuity counters end where they begin:
    // else the next one's first packets may look like ones sent twice, which receivers drop (2.4.3.3); tracks with
    // nothing at the end are left out.
    std::optional<Time> from{};  // none: `lead` before the first decoding time
    std::optional<Time> until{};
};

struct MuxedPacket {
    ByteSpan bytes;            // 188; valid during the call
    Time due{};                // when its first byte is to be sent, on the timeline of the packets written
    bool group_start = false;  // tables and a keyframe follow: a receiver can begin here
    Time group_time{};         // where it is: the decoding time of that keyframe, the same if it is marked twice
};
using MuxOut = std::function<Status(const MuxedPacket& packet)>;

struct MuxFigures {
    std::uint64_t packets = 0, null_packets = 0;
    std::int64_t peak_bps = 0;  // highest rate that was used
    std::uint64_t late = 0;     // packets that came behind the decoding time they belong to: the rate is too low
    Time latest{};              // by how much at most
};

// Packets in the order of their decoding times (container/interleave.hpp); tracks that transport streams can hold
// (container/writer.hpp), described in full.
class TransportMux {
  public:
    TransportMux(std::vector<Track> tracks, MuxSettings settings, MuxOut out);
    ~TransportMux();

    // Before the first is written, with `from`: audio that the mux before has sent and its decoder holds still.
    void hold(const Packet& packet);
    // Passes on all that is due before what may still come. Fails (kind input) on frames that have no form in a
    // transport stream, and as `out` does.
    Status write(const Packet& packet);
    // Passes on the rest.
    Status finish();
    MuxFigures figures() const;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::container
