#include "disc/dvd_format.hpp"

namespace wavecrest::disc::dvd {

Time decode_bcd_time(std::uint32_t bcd) {
    const auto pair = [&](int shift) {
        return static_cast<std::int64_t>((bcd >> (shift + 4) & 15) * 10 + (bcd >> shift & 15));
    };
    const std::int64_t seconds = pair(24) * 3600 + pair(16) * 60 + pair(8);
    const auto frames = static_cast<std::int64_t>((bcd >> 4 & 3) * 10 + (bcd & 15));
    if ((bcd >> 6 & 3) == 1) return base::frames_to_time(seconds * 25 + frames, {25, 1});
    return base::frames_to_time(seconds * 30 + frames, {30000, 1001});
}

std::uint32_t encode_bcd_time(Time time, bool pal) {
    const std::int64_t rate = pal ? 25 : 30;
    const std::int64_t frames = pal ? base::rescale(time.count(), 25, base::kFlicksPerSecond)
                                    : base::rescale(time.count(), 30000, base::kFlicksPerSecond * 1001);
    const auto bcd = [](std::int64_t n) { return static_cast<std::uint32_t>(n / 10 % 10 << 4 | n % 10); };
    const std::int64_t seconds = frames / rate;
    return bcd(seconds / 3600) << 24 | bcd(seconds / 60 % 60) << 16 | bcd(seconds % 60) << 8 | bcd(frames % rate) |
           (pal ? 0x40u : 0xC0u);
}

}  // namespace wavecrest::disc::dvd
