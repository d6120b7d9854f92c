// Writes MP4 files with the index in front, so that players can start after the first bytes.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "media/flow.hpp"

namespace wavecrest::container {

struct Mp4Settings {
    std::string title;              // written as 3GPP asset information when not empty
    int year = 0;                   // likewise when not 0
    std::vector<Chapter> chapters;  // become a chapter track when there is more than one
    Time duration{};                // presentation is cut here (encoder padding); 0: keep all
};

// Tracks: H.264 (codec_config is the avcC record, packets have four-byte lengths) and AAC (AudioSpecificConfig).
// Packets may come in any interleaving, each track in decoding order, pts >= dts; they are stored in the order given.
// Negative presentation times (encoder delay) are hidden by the edit list. Errors: machine (writing), input (a codec
// the format can't hold here).
class Mp4Writer : public PacketSink {
  public:
    static Result<std::unique_ptr<Mp4Writer>> create(base::AtomicFile file, std::vector<Track> tracks,
                                                     Mp4Settings settings);
    ~Mp4Writer() override;

    Status write(const Packet& packet) override;
    // Writes the index in front and commits the file.
    Status finish() override;
    // Bytes of the finished file, or so far.
    std::uint64_t size() const;

  private:
    struct State;
    explicit Mp4Writer(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

}  // namespace wavecrest::container
