#include "bitstream/decoder_buffer.hpp"

#include <cmath>

#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/levels.hpp"
#include "bitstream/nal.hpp"

namespace wavecrest::bitstream {
namespace {

std::optional<DecoderBuffer> of_h264(ByteSpan config) {
    const auto sps = h264::parse_config(config);
    if (!sps) return std::nullopt;
    if (sps->buffer_bits > 0 && sps->bitrate_bps > 0) return DecoderBuffer{sps->bitrate_bps, sps->buffer_bits, true};
    const double factor = 1000 * h264::rate_factor(sps->profile_idc);
    for (const h264::Level& level : h264::levels()) {
        if (level.idc != sps->level_idc) continue;
        return DecoderBuffer{std::llround(static_cast<double>(level.kbps) * factor),
                             std::llround(static_cast<double>(level.buffer) * factor), false};
    }
    return std::nullopt;
}

std::optional<DecoderBuffer> of_h265(ByteSpan config) {
    const auto sets = h265::parameter_sets(config);
    if (!sets) return std::nullopt;
    for (const ByteSpan unit : sets->units) {
        if (nal::type(Codec::h265, unit) != h265::kSps) continue;
        const auto sps = h265::parse_sps(unit);
        if (!sps || sps->profile_idc > 2) return std::nullopt;  // others have other factors
        for (const HevcLevel& level : hevc_levels()) {
            if (level.idc != sps->level_idc) continue;
            const bool high = sps->high_tier && level.high_rate > 0;
            return DecoderBuffer{(high ? level.high_rate : level.rate) * 1100,
                                 (high ? level.high_buffer : level.buffer) * 1100, false};
        }
    }
    return std::nullopt;
}

}  // namespace

std::optional<DecoderBuffer> decoder_buffer(const Track& track, const mpeg2::Sequence* sequence) {
    switch (track.codec) {
        case Codec::h264:
            return of_h264(track.codec_config.view());
        case Codec::h265:
            return of_h265(track.codec_config.view());
        case Codec::mpeg1:
        case Codec::mpeg2:
            if (sequence != nullptr && sequence->bitrate_bps > 0 && sequence->vbv_bits > 0)
                return DecoderBuffer{sequence->bitrate_bps, sequence->vbv_bits, true};
            return std::nullopt;
        default:
            return std::nullopt;
    }
}

}  // namespace wavecrest::bitstream
