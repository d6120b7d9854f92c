// Subtitles of text, or closed captions, as a WebVTT file.
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "base/byte_sink.hpp"
#include "bitstream/captions.hpp"
#include "media/flow.hpp"

namespace wavecrest::convert {

class TextSink : public PacketSink {
  public:
    // Of a text track, or of a video track's closed captions; without any of those finish() fails (kind input).
    TextSink(std::unique_ptr<base::ByteSink> file, const Track& track);
    Status write(const Packet& packet) override;
    Status finish() override;

  private:
    std::unique_ptr<base::ByteSink> file_;
    std::optional<bitstream::CaptionReader> captions_;
    std::vector<Packet> cues_;
};

}  // namespace wavecrest::convert
