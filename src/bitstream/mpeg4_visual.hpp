// MPEG-4 part 2 (ISO/IEC 14496-2): the headers of a video object layer and of its planes (VOPs), and packed chunks, as
// AVI files have them.
#pragma once

#include <cstdint>
#include <deque>
#include <optional>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"

namespace wavecrest::bitstream::mpeg4 {

inline constexpr std::uint8_t kSequenceStart = 0xB0, kUserData = 0xB2, kVopStart = 0xB6;  // 6.2.1, table 6-3
inline constexpr bool is_layer_start(std::uint8_t code) {
    return code >= 0x20 && code <= 0x2F;
}

// 6.2.3, as far as decoding and showing need it.
struct Layer {
    bool advanced = false;  // video_object_type_indication says Advanced Simple
    std::optional<Ratio> pixel_aspect;
    bool low_delay = false;  // no VOP is shown later than one behind it
    int time_bits = 1;       // of vop_time_increment
    std::optional<Ratio> fixed_rate;
    int width = 0, height = 0;
    bool interlaced = false;
};
// The first video object layer in these bytes; none where there is none or it isn't of rectangular shape.
std::optional<Layer> find_layer(ByteSpan bytes);

enum class VopType { i, p, b, s };
struct Vop {
    VopType type = VopType::i;
    bool coded = true;  // not coded: the one before is shown again (6.2.5, vop_coded)
};
// The header behind the first VOP start code; none where there is none. `time_bits` is the layer's.
std::optional<Vop> first_vop(ByteSpan bytes, int time_bits);

// The bytes cut before each VOP but the first; headers stand with the VOP behind them.
std::vector<ByteSpan> split_vops(ByteSpan bytes);

// In user data, a 'p' behind the encoder's number tells a decoder that chunks are packed. Changes it to 'n'.
void clear_packed_mark(ByteVector& bytes);

// AVI has one chunk for each frame period. Encoders that "pack" put a B-VOP into the chunk of the VOP it refers to, so
// that a decoder without delay shows one frame a chunk, and fill the period that is left with a VOP that isn't coded.
// This undoes it: one VOP for each chunk, in decoding order, the fillers gone.
class Unpacker {
  public:
    explicit Unpacker(ByteSpan codec_config) { note_layer(codec_config); }
    // The next VOP after taking a chunk; empty where the chunk was (the frame before is shown on).
    ByteVector next(ByteVector chunk);
    // VOPs left after the last chunk; empty when there is none.
    ByteVector rest();
    void reset() { waiting_.clear(); }
    // Whether any chunk was packed.
    bool packed() const { return packed_; }

  private:
    void note_layer(ByteSpan bytes);
    ByteVector pop();

    std::deque<ByteVector> waiting_;
    int time_bits_ = 1;
    bool packed_ = false;
};

}  // namespace wavecrest::bitstream::mpeg4
