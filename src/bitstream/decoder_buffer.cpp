#include "bitstream/decoder_buffer.hpp"

#include <cmath>

#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"
#include "bitstream/nal.hpp"

namespace wavecrest::bitstream {
namespace {

// H.265, tables A.8 and A.9: level_idc, and rate and buffer of the main and the high tier in 1100 bits (main profiles).
// Below level 4 there is no high tier.
struct HevcLevel {
    int idc;
    std::int64_t rate, high_rate, buffer, high_buffer;
};
constexpr HevcLevel kHevcLevels[] = {{30, 128, 0, 350, 0},
                                     {60, 1500, 0, 1500, 0},
                                     {63, 3000, 0, 3000, 0},
                                     {90, 6000, 0, 6000, 0},
                                     {93, 10000, 0, 10000, 0},
                                     {120, 12000, 30000, 12000, 30000},
                                     {123, 20000, 50000, 20000, 50000},
                                     {150, 25000, 100000, 25000, 100000},
                                     {153, 40000, 160000, 40000, 160000},
                                     {156, 60000, 240000, 60000, 240000},
                                     {180, 60000, 240000, 60000, 240000},
                                     {183, 120000, 480000, 120000, 480000},
                                     {186, 240000, 800000, 240000, 800000}};

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
        for (const HevcLevel& level : kHevcLevels) {
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
