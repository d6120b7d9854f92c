// The frame packing arrangement message: how both eyes' views lie in a picture (H.264, D.1.26 and D.2.26; H.265, D.2.16
// and D.3.16, the same bits but for the end).
#pragma once

#include <optional>

#include "base/bytes.hpp"
#include "media/types.hpp"

namespace wavecrest::bitstream {

inline constexpr std::uint32_t kFramePackingMessage = 45;  // payloadType

struct FramePackingMessage {
    std::optional<FramePacking> packing;  // nothing: what was said before ends here
    bool stays = false;                   // for the pictures shown after its own, until the next message or sequence
};
// Nothing for one that is cut short, or of an arrangement that the standard doesn't have.
std::optional<FramePackingMessage> parse_frame_packing(Codec codec, ByteSpan payload);
// A whole H.264 unit of type 6 with this one message.
ByteVector frame_packing_unit(const FramePackingMessage& message);

// What the first picture's message says of the track.
void take_frame_packing(const std::optional<FramePackingMessage>& message, Track& track);

}  // namespace wavecrest::bitstream
