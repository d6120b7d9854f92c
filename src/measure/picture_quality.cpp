#include "measure/picture_quality.hpp"

#include <algorithm>
#include <cmath>
#include <type_traits>

namespace wavecrest::measure {
namespace {

template <typename Sample>
struct Plane {
    const Picture& picture;
    int number;
    int width, height;

    Plane(const Picture& p, int n) : picture(p), number(n), width(p.plane_width(n)), height(p.plane_height(n)) {}
    const Sample* row(int y) const { return picture.row<Sample>(number, y); }
};

// The mean, of samples as they are.
template <typename Sample>
double squared_error(const Plane<Sample>& a, const Plane<Sample>& b) {
    // Enough for 66 051 samples of 8 bits; for one more than 4096 of 10 bits it would not be.
    using Sum = std::conditional_t<sizeof(Sample) == 1, std::uint32_t, std::uint64_t>;
    std::uint64_t sum = 0;
    for (int y = 0; y < a.height; ++y) {
        const Sample *const p = a.row(y), *const q = b.row(y);
        Sum row = 0;
        for (int x = 0; x < a.width; ++x) {
            const int difference = p[x] - q[x];
            row += static_cast<Sum>(difference * difference);
        }
        sum += row;
    }
    return static_cast<double>(sum) / (static_cast<double>(a.width) * a.height);
}

// Sums over a block of 4x4 samples, or a window of four of them.
struct Sums {
    std::int32_t p = 0, q = 0, squares = 0, product = 0;
};

template <typename Sample>
void sum_blocks(const Plane<Sample>& a, const Plane<Sample>& b, int block_row, std::vector<Sums>& out) {
    for (std::size_t block = 0; block < out.size(); ++block) {
        Sums sums;
        for (int y = 0; y < 4; ++y) {
            const Sample* const u = a.row(4 * block_row + y) + 4 * static_cast<std::ptrdiff_t>(block);
            const Sample* const v = b.row(4 * block_row + y) + 4 * static_cast<std::ptrdiff_t>(block);
            for (int x = 0; x < 4; ++x) {
                sums.p += u[x];
                sums.q += v[x];
                sums.squares += u[x] * u[x] + v[x] * v[x];
                sums.product += u[x] * v[x];
            }
        }
        out[block] = sums;
    }
}

// `range`: of the samples, 255 or 1023.
double similarity(const Sums& sums, double range) {
    const double c1 = 0.01 * range * 0.01 * range, c2 = 0.03 * range * 0.03 * range;
    constexpr double kSamples = 64;
    const double mean_p = sums.p / kSamples, mean_q = sums.q / kSamples;
    // As the paper's, with N - 1.
    const double variances = (sums.squares - kSamples * (mean_p * mean_p + mean_q * mean_q)) / (kSamples - 1);
    const double covariance = (sums.product - kSamples * mean_p * mean_q) / (kSamples - 1);
    return (2 * mean_p * mean_q + c1) * (2 * covariance + c2) /
           ((mean_p * mean_p + mean_q * mean_q + c1) * (variances + c2));
}

template <typename Sample>
double mean_similarity(const Plane<Sample>& a, const Plane<Sample>& b) {
    const double range = (1 << a.picture.bit_depth) - 1;
    const int columns = a.width / 4, rows = a.height / 4;
    if (columns < 2 || rows < 2) return 1;
    std::vector<Sums> above(static_cast<std::size_t>(columns)), below(above.size());
    sum_blocks(a, b, 0, above);
    double total = 0;
    for (int row = 1; row < rows; ++row) {
        sum_blocks(a, b, row, below);
        for (std::size_t x = 0; x + 1 < above.size(); ++x) {
            Sums window;
            for (const Sums* part : {&above[x], &above[x + 1], &below[x], &below[x + 1]}) {
                window.p += part->p;
                window.q += part->q;
                window.squares += part->squares;
                window.product += part->product;
            }
            total += similarity(window, range);
        }
        std::swap(above, below);
    }
    return total / (static_cast<double>(columns - 1) * (rows - 1));
}

}  // namespace

double psnr(double mean_squared_error) {
    if (mean_squared_error <= 0) return kIdentical;
    return std::min(kIdentical, 10 * std::log10(255 * 255 / mean_squared_error));
}

double Similarity::mean_squared_error() const {
    // Four samples of luma for one of each chroma plane.
    return (4 * squared_error[0] + squared_error[1] + squared_error[2]) / 6;
}

std::optional<Similarity> compare(const Picture& original, const Picture& coded) {
    if (original.width != coded.width || original.height != coded.height || original.width <= 0 ||
        original.height <= 0 || original.bit_depth != coded.bit_depth)
        return {};
    Similarity similarity;
    media::with_sample_type(original.bit_depth, [&](auto sample) {
        using Samples = Plane<decltype(sample)>;
        const double unit = (1 << (2 * (original.bit_depth - 8)));  // of a level of 8 bits, squared
        for (int plane = 0; plane < 3; ++plane)
            similarity.squared_error[plane] = squared_error(Samples(original, plane), Samples(coded, plane)) / unit;
        similarity.ssim = mean_similarity(Samples(original, 0), Samples(coded, 0));
    });
    return similarity;
}

void QualityMeasure::add(Time at, const Similarity& picture) {
    ++pictures_;
    squared_error_ += picture.mean_squared_error();
    ssim_ += picture.ssim;
    const auto number = static_cast<std::int64_t>(std::floor(base::to_seconds(at)));
    const auto place = std::lower_bound(seconds_.begin(), seconds_.end(), number,
                                        [](const Second& second, std::int64_t n) { return second.number < n; });
    Second& second =
        place != seconds_.end() && place->number == number ? *place : *seconds_.insert(place, Second{number, 0, 0});
    ++second.pictures;
    second.ssim += picture.ssim;
}

PictureQuality QualityMeasure::result() const {
    PictureQuality quality;
    quality.pictures = pictures_;
    if (pictures_ == 0) return quality;
    quality.psnr_db = psnr(squared_error_ / static_cast<double>(pictures_));
    quality.ssim = ssim_ / static_cast<double>(pictures_);
    // Seconds that the interval only begins or ends in tell little.
    std::int64_t most = 0;
    for (const Second& second : seconds_) most = std::max(most, second.pictures);
    bool any = false;
    for (const Second& second : seconds_) {
        const double ssim = second.ssim / static_cast<double>(second.pictures);
        if (2 * second.pictures < most || (any && ssim >= quality.worst_ssim)) continue;
        any = true;
        quality.worst_ssim = ssim;
        quality.worst_at = base::from_seconds(static_cast<double>(second.number));
    }
    return quality;
}

namespace {
// SSIM from which on the loss is: hardly seen, seen close up, seen from the sofa.
constexpr double kFine = 0.98, kSofter = 0.95, kLost = 0.90;
}  // namespace

const char* in_words(const PictureQuality& quality) {
    if (quality.ssim >= kFine) return "visually lossless";
    if (quality.ssim >= kSofter) return "slightly soft, visible close to the screen";
    if (quality.ssim >= kLost) return "detail lost, visible from the sofa";
    return "clearly worse than the source";
}

bool is_worse(const PictureQuality& quality) {
    return quality.ssim < kSofter;
}

}  // namespace wavecrest::measure
