#include "bitstream/frame_packing.hpp"

#include "base/bits.hpp"
#include "bitstream/nal.hpp"

namespace wavecrest::bitstream {
namespace {

using Arrangement = FramePacking::Arrangement;
using View = FramePacking::View;

bool has_grid(const FramePacking& packing) {
    return !packing.quincunx && packing.arrangement != Arrangement::alternating;
}

}  // namespace

std::optional<FramePackingMessage> parse_frame_packing(Codec codec, ByteSpan payload) {
    base::BitReader bits(payload);
    FramePackingMessage message;
    bits.ue();  // frame_packing_arrangement_id: one at a time is all that players look at
    const bool cancels = bits.flag();
    if (cancels) return bits.ok() ? std::optional(message) : std::nullopt;
    FramePacking packing;
    const std::uint32_t arrangement = bits.bits(7);
    if (arrangement > static_cast<std::uint32_t>(Arrangement::tiles)) return std::nullopt;
    packing.arrangement = static_cast<Arrangement>(arrangement);
    packing.quincunx = bits.flag();
    const std::uint32_t interpretation = bits.bits(6);
    packing.first = interpretation == 1 ? View::left : interpretation == 2 ? View::right : View::unknown;
    packing.flipped = bits.flag();
    packing.first_flipped = bits.flag();
    packing.fields = bits.flag();
    packing.is_first = bits.flag();
    bits.skip(2);  // which view can be decoded without the other
    if (has_grid(packing)) {
        for (std::uint8_t& position : packing.grid) position = static_cast<std::uint8_t>(bits.bits(4));
    }
    bits.skip(8);  // reserved
    message.stays = codec == Codec::h265 ? bits.flag() : bits.ue() != 0;
    message.packing = packing;
    return bits.ok() ? std::optional(message) : std::nullopt;
}

ByteVector frame_packing_unit(const FramePackingMessage& message) {
    base::BitWriter bits;
    bits.bits(1, 1);  // ue: id 0
    bits.bits(message.packing ? 0 : 1, 1);
    if (message.packing) {
        const FramePacking& packing = *message.packing;
        bits.bits(static_cast<std::uint32_t>(packing.arrangement), 7);
        bits.bits(packing.quincunx ? 1 : 0, 1);
        bits.bits(static_cast<std::uint32_t>(packing.first), 6);
        for (const bool flag : {packing.flipped, packing.first_flipped, packing.fields, packing.is_first})
            bits.bits(flag ? 1 : 0, 1);
        bits.bits(0, 2);
        if (has_grid(packing)) {
            for (const std::uint8_t position : packing.grid) bits.bits(position, 4);
        }
        bits.bits(0, 8);
        message.stays ? bits.bits(0b010, 3) : bits.bits(0b1, 1);  // ue: a period of 1 or 0
    }
    bits.bits(0, 1);  // no extension
    if (bits.bit_count() % 8 != 0) bits.bits(1, 1);
    const ByteVector payload = bits.release();
    ByteVector rbsp = {kFramePackingMessage, static_cast<std::uint8_t>(payload.size())};
    rbsp.insert(rbsp.end(), payload.begin(), payload.end());
    rbsp.push_back(0x80);
    ByteVector unit = {0x06};
    nal::append_escaped(unit, rbsp);
    return unit;
}

void take_frame_packing(const std::optional<FramePackingMessage>& message, Track& track) {
    if (message && message->packing && message->packing->arrangement != Arrangement::single)
        track.frame_packing = message->packing;
}

}  // namespace wavecrest::bitstream
