#include "container/flv_tags.hpp"

#include <algorithm>
#include <bit>

namespace wavecrest::container::flv {
namespace {

void put_text(base::ByteWriter& out, std::string_view text) {
    out.u16(text.size());
    out.text(text);
}
void put_number(base::ByteWriter& out, std::string_view name, double value) {
    put_text(out, name);
    out.u8(0);
    out.u64(std::bit_cast<std::uint64_t>(value));
}

}  // namespace

ByteVector metadata(const std::vector<Track>& tracks, std::size_t* duration_at) {
    base::ByteWriter values;
    std::uint32_t count = 0;
    const auto number = [&](std::string_view name, double value) {
        put_number(values, name, value);
        ++count;
    };
    if (duration_at != nullptr) {
        number("duration", 0);
        *duration_at = values.size() - 8;
    }
    for (const Track& track : tracks) {
        if (track.kind == TrackKind::video) {
            number("width", track.width);
            number("height", track.height);
            if (track.frame_rate.num > 0) number("framerate", track.frame_rate.value());
            number("videocodecid", 7);
        } else if (track.kind == TrackKind::audio) {
            number("audiocodecid", track.codec == Codec::aac ? 10 : 2);
        }
    }
    base::ByteWriter out;
    out.u8(2);
    put_text(out, "onMetaData");
    out.u8(8);
    out.u32(count);
    if (duration_at != nullptr) *duration_at += out.size();
    out.raw(values.bytes());
    out.u24(9);
    return out.release();
}

ByteVector configuration(const Track& track) {
    base::ByteWriter out;
    if (track.kind == TrackKind::video) {
        out.u8(0x17);
        out.u32(0);
    } else if (track.codec == Codec::aac) {
        out.u8(0xAF);
        out.u8(0);
    } else {
        return {};
    }
    out.raw(track.codec_config.view());
    return out.release();
}

ByteVector body(const Track& track, const Packet& packet, std::int64_t composition_ms) {
    base::ByteWriter out;
    if (track.kind == TrackKind::video) {
        out.u8(packet.key ? 0x17 : 0x27);
        out.u8(1);
        out.u24(static_cast<std::uint64_t>(std::clamp<std::int64_t>(composition_ms, -0x800000, 0x7FFFFF)) & 0xFFFFFF);
    } else if (track.codec == Codec::aac) {
        out.u8(0xAF);
        out.u8(1);
    } else {
        const int rate = track.sample_rate >= 44100 ? 3 : track.sample_rate >= 22050 ? 2 : 1;
        out.u8(0x20u | static_cast<unsigned>(rate) << 2 | 2u | (track.channels > 1 ? 1u : 0u));
    }
    out.raw(packet.data.view());
    return out.release();
}

}  // namespace wavecrest::container::flv
