// Headers of Opus (RFC 7845), Vorbis (Vorbis I, clause 4.2) and FLAC (RFC 9639).
#pragma once

#include <memory>
#include <optional>
#include <vector>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

inline constexpr int kOpusRate = 48000;  // Hz, of all times

struct OpusHead {
    int channels = 0;
    int pre_skip = 0;  // samples at 48 kHz to be dropped at the beginning
    int input_rate = 0;
    int gain = 0;  // Q7.8 dB
    int family = 0;
    ByteVector mapping;  // stream count, coupled count, channel mapping; empty for family 0
};
// "OpusHead" and what follows, as Ogg and Matroska carry it; and the body of MP4's dOps box, big-endian.
std::optional<OpusHead> parse_opus_head(ByteSpan bytes);
ByteVector make_opus_head(const OpusHead& head);
std::optional<OpusHead> parse_opus_box(ByteSpan bytes);
ByteVector make_opus_box(const OpusHead& head);
// Samples at 48 kHz in a packet (RFC 6716, 3.1); 0 when it is malformed.
int opus_packet_samples(ByteSpan packet);

// The three header packets in one piece, each but the last with its length in front (Xiph lacing), as Matroska has
// them.
ByteVector join_vorbis_headers(ByteSpan identification, ByteSpan comment, ByteSpan setup);
std::optional<std::vector<ByteSpan>> split_vorbis_headers(ByteSpan joined);
struct VorbisHead {
    int channels = 0;
    int sample_rate = 0;
    std::int64_t nominal_bps = 0;
};
std::optional<VorbisHead> parse_vorbis_head(ByteSpan identification);
// Tells how long packets are, which takes the block sizes of the modes in the setup header.
class VorbisTimer {
  public:
    // Nothing when the headers are malformed.
    static std::unique_ptr<VorbisTimer> create(ByteSpan joined_headers);
    ~VorbisTimer();
    // Samples that this packet gives after the one before; 0 for the first.
    int samples(ByteSpan packet);
    void restart();

  private:
    struct State;
    explicit VorbisTimer(std::unique_ptr<State> state);
    std::unique_ptr<State> state_;
};

inline constexpr std::size_t kFlacStreamInfo = 34;
struct FlacInfo {
    int min_block = 0, max_block = 0;  // samples
    int sample_rate = 0;
    int channels = 0;
    int bits = 0;
    std::uint64_t samples = 0;  // 0 when unknown
};
// The STREAMINFO block's body.
std::optional<FlacInfo> parse_flac_info(ByteSpan body);

struct FlacFrame {
    int samples = 0;
    int sample_rate = 0;       // 0: the stream's
    std::uint64_t number = 0;  // of the frame, or of its first sample where block sizes vary
    bool variable = false;
    std::size_t header_bytes = 0;
};
// A frame header whose check sum is right (9.1).
std::optional<FlacFrame> parse_flac_frame(ByteSpan bytes);
inline constexpr std::size_t kFlacFrameHeaderMost = 16;
// Over `bytes` behind what gave `before`.
std::uint16_t flac_crc16(ByteSpan bytes, std::uint16_t before = 0);

}  // namespace wavecrest::bitstream
