// Frames of coded audio: what their headers say, and the cutting of an elementary stream into frames.
// AC-3 and E-AC-3: ETSI TS 102 366, clause 4.3 and annex E.1.2; DTS: ETSI TS 102 114, clause 5.3; MPEG audio: ISO/IEC
// 11172-3, clause 2.4.2.3, and 13818-3; AAC in ADTS frames: 13818-7, clause 6.2.
#pragma once

#include <array>
#include <optional>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

// Full-range channels of AC-3's audio coding modes (TS 102 366, table 4.3); mode 0, two programs, counts as stereo.
inline constexpr std::array<Speakers, 8> kAc3Modes = {
    media::speaker::kStereo,
    media::speaker::kCentre,
    media::speaker::kStereo,
    media::speaker::kStereo | media::speaker::kCentre,
    media::speaker::kStereo | media::speaker::kCentreSurround,
    media::speaker::kStereo | media::speaker::kCentre | media::speaker::kCentreSurround,
    media::speaker::kStereo | media::speaker::kLeftSurround | media::speaker::kRightSurround,
    media::speaker::kStereo | media::speaker::kCentre | media::speaker::kLeftSurround | media::speaker::kRightSurround};

struct AudioHeader {
    Codec codec = Codec::unknown;  // ac3, eac3, dts, aac, mp2 (layers I and II) or mp3
    std::size_t bytes = 0;         // of the whole frame
    int samples = 0;               // per channel
    int sample_rate = 0;           // Hz
    int channels = 0;
    Speakers speakers = 0;
    std::int64_t bitrate_bps = 0;
    bool dependent = false;  // E-AC-3: belongs to the frame before; DTS: the extension behind a core frame
    Purpose purpose = Purpose::main;
};
inline constexpr std::size_t kAudioHeaderBytes = 16;  // enough for every header read here

// The header at the beginning of `bytes`; nothing when there is none of this codec (ac3 and eac3 take either).
std::optional<AudioHeader> parse_audio_header(Codec codec, ByteSpan bytes);

struct AudioFrame {
    ByteVector data;
    AudioHeader header;
    std::optional<Time> pts;  // of the piece in which it starts, if it is the first to start there
};

// Cuts a stream that arrives in pieces into frames. A frame counts when another follows right behind it, or the stream
// is flushed there.
class AudioFrameSplitter {
  public:
    explicit AudioFrameSplitter(Codec codec) : codec_(codec) {}
    void push(ByteSpan piece, std::optional<Time> pts, std::vector<AudioFrame>& out);
    void flush(std::vector<AudioFrame>& out);
    void reset();

  private:
    struct Stamp {
        std::size_t from;
        std::optional<Time> pts;
    };
    void scan(bool at_end, std::vector<AudioFrame>& out);
    void drop_front(std::size_t count);

    Codec codec_;
    ByteVector buffer_;
    std::vector<Stamp> stamps_;
    bool synchronised_ = false;
    std::optional<AudioFrame> held_;  // waits for dependent frames
};

}  // namespace wavecrest::bitstream
