#include "base/time.hpp"

#include <cmath>
#include <numeric>

namespace wavecrest::base {

Ratio reduced(Ratio ratio) {
    if (ratio.den == 0) return {0, 1};
    const std::int64_t divisor = std::gcd(ratio.num, ratio.den);
    return divisor == 0 ? ratio : Ratio{ratio.num / divisor, ratio.den / divisor};
}

std::int64_t rescale(std::int64_t value, std::int64_t num, std::int64_t den) {
    __extension__ using Wide = __int128;
    const Wide product = static_cast<Wide>(value) * num;
    const Wide half = den / 2;
    return static_cast<std::int64_t>(product >= 0 ? (product + half) / den : (product - half) / den);
}

Time from_seconds(double seconds) {
    return Time(std::llround(seconds * static_cast<double>(kFlicksPerSecond)));
}

}  // namespace wavecrest::base
