// The interfaces packets flow through: source -> (decoder -> filter -> encoder) -> sink.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "media/types.hpp"

namespace wavecrest {
namespace media {

// Where packets come from. Packets of one track arrive in decoding order; tracks are interleaved as they lie.
class PacketSource {
  public:
    virtual ~PacketSource() = default;
    virtual const std::vector<Track>& tracks() const = 0;
    virtual const std::vector<Chapter>& chapters() const = 0;
    virtual Time duration() const = 0;
    // The next packet; nothing at the end.
    virtual Result<std::optional<Packet>> read() = 0;
    // Goes on at the last place at or before `time` from which the video track can be decoded.
    virtual Status seek(Time time) = 0;
    // What could not be read so far.
    virtual const std::vector<Problem>& problems() const = 0;
};

// Where packets end up. `finish` is called once, after the last packet; without it nothing durable remains.
class PacketSink {
  public:
    virtual ~PacketSink() = default;
    virtual Status write(const Packet& packet) = 0;
    virtual Status finish() = 0;
};

class VideoDecoder {
  public:
    virtual ~VideoDecoder() = default;
    // Appends the pictures that are due for display, in display order.
    virtual Status decode(const Packet& packet, std::vector<Picture>& out) = 0;
    virtual Status flush(std::vector<Picture>& out) = 0;
    // Pictures that came out other than they were coded, because something of them or before them is missing, by their
    // times; not every decoder can tell. Stays small however bad the stream is.
    virtual std::vector<Problem> problems() const { return {}; }
};

class AudioDecoder {
  public:
    virtual ~AudioDecoder() = default;
    virtual Status decode(const Packet& packet, std::vector<AudioFrames>& out) = 0;
};

class SubtitleDecoder {
  public:
    virtual ~SubtitleDecoder() = default;
    // Appends what is shown from when on. Damaged packets show nothing.
    virtual void decode(const Packet& packet, std::vector<Overlay>& out) = 0;
};

// Encoders give packets whose pts is on the same timeline as what they were fed, encoder delay included: a decoder
// that is fed the packets gives each picture or sample back at its own time. AAC's first packets thus have negative
// pts.
class VideoEncoder {
  public:
    virtual ~VideoEncoder() = default;
    // What the container needs to know; complete before the first packet.
    virtual const Track& track() const = 0;
    virtual Status encode(const Picture& picture, std::vector<Packet>& out) = 0;
    virtual Status flush(std::vector<Packet>& out) = 0;
};

class AudioEncoder {
  public:
    virtual ~AudioEncoder() = default;
    virtual const Track& track() const = 0;
    virtual Status encode(const AudioFrames& audio, std::vector<Packet>& out) = 0;
    virtual Status flush(std::vector<Packet>& out) = 0;
};

}  // namespace media

using media::PacketSink;
using media::PacketSource;

}  // namespace wavecrest
