#include "measure/picture_quality.hpp"

#include <algorithm>
#include <cmath>

namespace wavecrest::measure {
namespace {

struct Plane {
    const std::uint8_t* at;
    std::ptrdiff_t stride;
    int width, height;
};

Plane plane_of(const Picture& picture, int number) {
    const int half = number == 0 ? 0 : 1;
    return {picture.planes[number], picture.strides[number], (picture.width + half) >> half,
            (picture.height + half) >> half};
}

double squared_error(const Plane& a, const Plane& b) {
    std::uint64_t sum = 0;
    for (int y = 0; y < a.height; ++y) {
        const std::uint8_t* const p = a.at + y * a.stride;
        const std::uint8_t* const q = b.at + y * b.stride;
        std::uint32_t row = 0;  // enough for 66 051 samples
        for (int x = 0; x < a.width; ++x) {
            const int difference = p[x] - q[x];
            row += static_cast<std::uint32_t>(difference * difference);
        }
        sum += row;
    }
    return static_cast<double>(sum) / (static_cast<double>(a.width) * a.height);
}

// Sums over a block of 4x4 samples, or a window of four of them.
struct Sums {
    std::int32_t p = 0, q = 0, squares = 0, product = 0;
};

void sum_blocks(const Plane& a, const Plane& b, int block_row, std::vector<Sums>& out) {
    const std::uint8_t* const p = a.at + 4 * block_row * a.stride;
    const std::uint8_t* const q = b.at + 4 * block_row * b.stride;
    for (std::size_t block = 0; block < out.size(); ++block) {
        Sums sums;
        for (int y = 0; y < 4; ++y) {
            const std::uint8_t* const u = p + y * a.stride + 4 * static_cast<std::ptrdiff_t>(block);
            const std::uint8_t* const v = q + y * b.stride + 4 * static_cast<std::ptrdiff_t>(block);
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

double similarity(const Sums& sums) {
    constexpr double kC1 = 0.01 * 255 * 0.01 * 255, kC2 = 0.03 * 255 * 0.03 * 255;
    constexpr double kSamples = 64;
    const double mean_p = sums.p / kSamples, mean_q = sums.q / kSamples;
    // As the paper's, with N - 1.
    const double variances = (sums.squares - kSamples * (mean_p * mean_p + mean_q * mean_q)) / (kSamples - 1);
    const double covariance = (sums.product - kSamples * mean_p * mean_q) / (kSamples - 1);
    return (2 * mean_p * mean_q + kC1) * (2 * covariance + kC2) /
           ((mean_p * mean_p + mean_q * mean_q + kC1) * (variances + kC2));
}

double mean_similarity(const Plane& a, const Plane& b) {
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
            total += similarity(window);
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
    if (original.width != coded.width || original.height != coded.height || original.width <= 0 || original.height <= 0)
        return {};
    Similarity similarity;
    for (int plane = 0; plane < 3; ++plane)
        similarity.squared_error[plane] = squared_error(plane_of(original, plane), plane_of(coded, plane));
    similarity.ssim = mean_similarity(plane_of(original, 0), plane_of(coded, 0));
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
