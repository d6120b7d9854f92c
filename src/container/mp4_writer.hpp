// Writes MP4 files (ISO/IEC 14496-12): plain ones with the index in front, so that players can start after the first
// bytes, or fragmented ones, which can be played while they grow.
#pragma once

#include <memory>
#include <vector>

#include "base/atomic_file.hpp"
#include "container/writer.hpp"

namespace wavecrest::container {

// Ticks a second of a track's times: its frame or sample periods are whole numbers of them.
std::uint32_t track_timescale(const Track& track);

// Packets are as bitstream/headers.hpp tells for each codec, in any interleaving, each track in decoding order; they
// are stored in the order given. Negative presentation times (encoder delay) are hidden by the edit list. Errors:
// machine (writing), input (a codec the format can't hold).
class Mp4Writer : public PacketSink {
  public:
    static Result<std::unique_ptr<Mp4Writer>> create(std::unique_ptr<base::ByteSink> file, std::vector<Track> tracks,
                                                     WriterSettings settings);
    ~Mp4Writer() override;

    Status write(const Packet& packet) override;
    // Writes the index in front and commits the file.
    Status finish() override;
    // Of a fragmented file: writes what has come as a fragment of its own; what follows begins another.
    Status end_fragment();
    // Bytes of the finished file, or so far.
    std::uint64_t size() const;

  private:
    struct State;
    explicit Mp4Writer(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::container
