// How much a coded picture differs from what it was coded from: PSNR, which counts errors, and SSIM, which compares
// brightness, contrast and structure as eyes do (Wang, Bovik, Sheikh, Simoncelli: "Image Quality Assessment: From Error
// Visibility to Structural Similarity", IEEE Transactions on Image Processing 13(4), 2004).
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include "media/types.hpp"

namespace wavecrest::measure {

// Decibels of a mean squared error of 8-bit samples: 10 lg(255² / mse). What doesn't differ has kIdentical.
inline constexpr double kIdentical = 100;
double psnr(double mean_squared_error);

// Of one picture against the one it was coded from.
struct Similarity {
    double squared_error[3] = {};  // mean, of each plane, in levels of 8 bits
    double ssim = 1;               // of luma, -1 to 1; 1: the same

    // Of all samples of a picture together.
    double mean_squared_error() const;
};

// Both have the same size and depth (else nothing). SSIM is the paper's (13) with K1 = 0.01 and K2 = 0.03, over windows
// of 8x8 samples without weights, every four samples in both directions; pictures smaller than a window have none of
// it.
std::optional<Similarity> compare(const Picture& original, const Picture& coded);

struct PictureQuality {
    std::int64_t pictures = 0;
    double psnr_db = kIdentical;  // of the mean squared error of all pictures: those with the largest count most
    double ssim = 1;              // mean of all pictures
    // Of the second of the timeline that is worst by SSIM.
    double worst_ssim = 1;
    Time worst_at{};
};

// In a few words: what somebody would see. By a rule of thumb of ours; there is no standard for it.
const char* in_words(const PictureQuality& quality);
bool is_worse(const PictureQuality& quality);  // detail is lost

// Of pictures as they come, in the order of their times or any other.
class QualityMeasure {
  public:
    void add(Time at, const Similarity& picture);
    PictureQuality result() const;

  private:
    struct Second {
        std::int64_t number = 0;
        std::int64_t pictures = 0;
        double ssim = 0;
    };
    std::int64_t pictures_ = 0;
    double squared_error_ = 0, ssim_ = 0;
    std::vector<Second> seconds_;
};

}  // namespace wavecrest::measure
