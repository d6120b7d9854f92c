#include "bitstream/levels.hpp"

#include <algorithm>
#include <cstdlib>

#include "bitstream/h264.hpp"
#include "bitstream/h265.hpp"

namespace wavecrest::bitstream {
namespace {

// Times are rounded: a rate that is right to a ten-thousandth is right.
constexpr double kRounded = 1.0001;

bool buffer_holds(const BufferNeed& need, double rate_bps, double buffer_bits) {
    return !need || need(rate_bps) <= buffer_bits * kRounded;
}

std::string of_h264(const Track& track, const BufferNeed& need) {
    const auto sps = h264::parse_config(track.codec_config.view());
    const std::int64_t frame = std::int64_t{(track.width + 15) / 16} * ((track.height + 15) / 16);
    const double samples = static_cast<double>(frame) * track.frame_rate.value();
    const int references = sps ? sps->reference_frames : track.reference_frames;
    // Without a header the profile with the highest rates of those for players.
    const double factor = 1000 * (sps ? h264::rate_factor(sps->profile_idc) : 1.25);
    for (const h264::Level& level : h264::levels()) {
        if (frame > level.frame || samples > static_cast<double>(level.rate) * kRounded ||
            frame * references > level.pictures ||
            !buffer_holds(need, static_cast<double>(level.kbps) * factor, static_cast<double>(level.buffer) * factor))
            continue;
        h264::Sps named;
        named.profile_idc = sps ? sps->profile_idc : 0;
        named.level_idc = level.idc;
        return named.level_name();
    }
    return "above 6.2";
}

std::string of_h265(const Track& track, const BufferNeed& need) {
    const bool high = track.level.ends_with("High");
    const std::int64_t picture = std::int64_t{track.width} * track.height;
    const double samples = static_cast<double>(picture) * track.frame_rate.value();
    for (const HevcLevel& level : hevc_levels()) {
        if (high && level.high_rate == 0) continue;
        // A.4.2: smaller pictures may have more of them waiting.
        const int most = picture * 4 <= level.picture       ? 16
                         : picture * 2 <= level.picture     ? 12
                         : picture * 4 <= level.picture * 3 ? 8
                                                            : 6;
        if (picture > level.picture || samples > static_cast<double>(level.samples) * kRounded ||
            track.reference_frames > most)
            continue;
        constexpr double kUnit = 1100;
        if (!buffer_holds(need, kUnit * static_cast<double>(high ? level.high_rate : level.rate),
                          kUnit * static_cast<double>(high ? level.high_buffer : level.buffer)))
            continue;
        h265::Sps named;
        named.level_idc = level.idc;
        named.high_tier = high;
        return named.level_name();
    }
    return "above 6.2";
}

}  // namespace

std::span<const HevcLevel> hevc_levels() {
    static constexpr HevcLevel kLevels[] = {
        {30, 36864, 552960, 128, 0, 350, 0},
        {60, 122880, 3686400, 1500, 0, 1500, 0},
        {63, 245760, 7372800, 3000, 0, 3000, 0},
        {90, 552960, 16588800, 6000, 0, 6000, 0},
        {93, 983040, 33177600, 10000, 0, 10000, 0},
        {120, 2228224, 66846720, 12000, 30000, 12000, 30000},
        {123, 2228224, 133693440, 20000, 50000, 20000, 50000},
        {150, 8912896, 267386880, 25000, 100000, 25000, 100000},
        {153, 8912896, 534773760, 40000, 160000, 40000, 160000},
        {156, 8912896, 1069547520, 60000, 240000, 60000, 240000},
        {180, 35651584, 1069547520, 60000, 240000, 60000, 240000},
        {183, 35651584, 2139095040, 120000, 480000, 120000, 480000},
        {186, 35651584, 4278190080, 240000, 800000, 240000, 800000},
    };
    return kLevels;
}

int level_number(Codec codec, const std::string& level) {
    constexpr int kAbove = 1000;
    if (level.starts_with("above")) return kAbove;
    if (codec == Codec::h264) return h264::level_idc_from_name(level);
    // "5.1", of H.265 also "5.1 High". What other codecs have (MPEG-2's "Main") is no number.
    if (level.empty() || level[0] < '0' || level[0] > '9') return 0;
    const std::size_t dot = level.find('.');
    const int tenths = dot != std::string::npos && dot + 1 < level.size() ? level[dot + 1] - '0' : 0;
    return std::atoi(level.c_str()) * 10 + std::clamp(tenths, 0, 9);
}

std::string needed_level(const Track& track, const BufferNeed& need) {
    if (track.width <= 0 || track.height <= 0 || track.frame_rate.num <= 0) return "";
    if (track.codec == Codec::h264) return of_h264(track, need);
    if (track.codec == Codec::h265) return of_h265(track, need);
    return "";
}

}  // namespace wavecrest::bitstream
