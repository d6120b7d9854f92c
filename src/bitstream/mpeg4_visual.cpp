#include "bitstream/mpeg4_visual.hpp"

#include <algorithm>

#include "base/bits.hpp"
#include "bitstream/mpeg2.hpp"

namespace wavecrest::bitstream::mpeg4 {
namespace {

// Start codes are those of MPEG-2 video; each is found with the place of its first byte.
template <typename Each>
void for_start_codes(ByteSpan bytes, Each each) {
    for (std::size_t at = mpeg2::find_start_code(bytes, 0); at + 4 <= bytes.size();
         at = mpeg2::find_start_code(bytes, at + 3)) {
        if (!each(at, bytes[at + 3])) return;
    }
}

constexpr std::size_t kMostWaiting = 8;

}  // namespace

std::optional<Layer> find_layer(ByteSpan bytes) {
    std::optional<Layer> found;
    for_start_codes(bytes, [&](std::size_t at, std::uint8_t code) {
        if (!is_layer_start(code)) return code != kVopStart;
        Layer layer;
        base::BitReader bits(bytes.subspan(at + 4));
        bits.skip(1);
        layer.advanced = bits.bits(8) == 17;
        if (bits.flag()) bits.skip(4 + 3);
        const std::uint32_t aspect = bits.bits(4);  // table 6-12
        constexpr Ratio kAspects[] = {{1, 1}, {1, 1}, {12, 11}, {10, 11}, {16, 11}, {40, 33}};
        if (aspect == 15) {
            const std::uint32_t width = bits.bits(8), height = bits.bits(8);
            if (width != 0 && height != 0) layer.pixel_aspect = base::reduced({width, height});
        } else if (aspect < std::size(kAspects)) {
            layer.pixel_aspect = kAspects[aspect];
        }
        if (bits.flag()) {
            bits.skip(2);
            layer.low_delay = bits.flag();
            if (bits.flag()) bits.skip(79);
        }
        if (bits.bits(2) != 0) return false;  // only rectangular pictures
        bits.skip(1);
        const std::uint32_t resolution = bits.bits(16);
        bits.skip(1);
        while (layer.time_bits < 16 && (1u << layer.time_bits) < resolution) ++layer.time_bits;
        if (bits.flag()) {
            const std::uint32_t increment = bits.bits(layer.time_bits);
            if (increment != 0) layer.fixed_rate = base::reduced({resolution, increment});
        }
        bits.skip(1);
        layer.width = static_cast<int>(bits.bits(13));
        bits.skip(1);
        layer.height = static_cast<int>(bits.bits(13));
        bits.skip(1);
        layer.interlaced = bits.flag();
        if (bits.ok()) found = layer;
        return false;
    });
    return found;
}

std::optional<Vop> first_vop(ByteSpan bytes, int time_bits) {
    std::optional<Vop> found;
    for_start_codes(bytes, [&](std::size_t at, std::uint8_t code) {
        if (code != kVopStart) return true;
        base::BitReader bits(bytes.subspan(at + 4));
        Vop vop{static_cast<VopType>(bits.bits(2)), true};
        while (bits.ok() && bits.flag()) {
        }
        bits.skip(1 + static_cast<std::size_t>(time_bits) + 1);
        const bool coded = bits.flag();
        if (bits.ok()) vop.coded = coded;
        if (at + 4 < bytes.size()) found = vop;
        return false;
    });
    return found;
}

std::vector<ByteSpan> split_vops(ByteSpan bytes) {
    std::vector<std::size_t> cuts{0};
    std::size_t after = 0;  // the first start code behind a VOP; 0 while there is none
    bool in_vop = false;
    for_start_codes(bytes, [&](std::size_t at, std::uint8_t code) {
        if (in_vop && after == 0) after = at;
        if (code == kVopStart) {
            if (after > 0) cuts.push_back(after);
            in_vop = true;
            after = 0;
        }
        return true;
    });
    std::vector<ByteSpan> parts;
    for (std::size_t i = 0; i < cuts.size(); ++i) {
        const std::size_t end = i + 1 < cuts.size() ? cuts[i + 1] : bytes.size();
        parts.push_back(bytes.subspan(cuts[i], end - cuts[i]));
    }
    return parts;
}

void clear_packed_mark(ByteVector& bytes) {
    std::vector<std::size_t> marks;
    for_start_codes(bytes, [&](std::size_t at, std::uint8_t code) {
        if (code != kUserData) return code != kVopStart;
        // A name, digits (and a letter between them), then the mark at the end.
        std::size_t end = at + 4;
        while (end < bytes.size() && bytes[end] >= 0x20 && bytes[end] < 0x7F) ++end;
        if (end >= at + 10 && bytes[end - 1] == 'p' && bytes[end - 2] >= '0' && bytes[end - 2] <= '9')
            marks.push_back(end - 1);
        return true;
    });
    for (const std::size_t at : marks) bytes[at] = 'n';
}

void Unpacker::note_layer(ByteSpan bytes) {
    if (const auto layer = find_layer(bytes)) time_bits_ = layer->time_bits;
}

ByteVector Unpacker::pop() {
    ByteVector vop = std::move(waiting_.front());
    waiting_.pop_front();
    return vop;
}

ByteVector Unpacker::next(ByteVector chunk) {
    note_layer(chunk);
    clear_packed_mark(chunk);
    const auto parts = split_vops(chunk);
    packed_ = packed_ || parts.size() > 1;
    if (!packed_) return chunk;
    for (const ByteSpan part : parts) {
        const auto vop = first_vop(part, time_bits_);
        const bool filler = part.empty() || (vop && !vop->coded);
        // What is damaged never fills the memory.
        if (!filler && waiting_.size() < kMostWaiting) waiting_.emplace_back(part.begin(), part.end());
    }
    return waiting_.empty() ? ByteVector() : pop();
}

ByteVector Unpacker::rest() {
    return waiting_.empty() ? ByteVector() : pop();
}

}  // namespace wavecrest::bitstream::mpeg4
