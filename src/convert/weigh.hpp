// What profiles would make of a title, before hours go into one of them: each on the same samples of this very title,
// compared with the source at the size it is shown in, so that scaling down counts as the loss it is.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "base/progress.hpp"
#include "convert/convert.hpp"
#include "device/device.hpp"
#include "measure/picture_quality.hpp"

namespace wavecrest::convert {

// What samples say of the whole: most likely, and between which bounds (19 times in 20 for sizes; the quickest and
// slowest sample for times).
struct Range {
    double low = 0, likely = 0, high = 0;
};

// One picture of both, at the size it is shown in, with square pixels and standard dynamic range.
struct Still {
    Time at{};
    Picture original, coded;
};

struct Weighed {
    std::string profile;
    Range bytes;
    Range seconds;                    // of work, alone on this machine; all 0 where it wasn't timed
    measure::PictureQuality quality;  // of what the samples show
    bool kept = false;                // the video goes along as it is: nothing is lost
    Still worst;                      // of the worst second; empty where the video is kept
    struct Fit {
        std::string device;
        device::Verdict verdict = device::Verdict::pass;
        std::string why;  // the first thing against it
    };
    std::vector<Fit> devices;
};

struct Weighing {
    Time duration{}, sampled{};
    int samples = 0;
    int width = 0, height = 0;  // pictures were compared at
    std::vector<Weighed> profiles;
};

// All outputs of a plan from one decoding: one on six samples, several on five. Each is then timed alone, on half of
// the samples at most, unless `timed` is false. Fails (kind usage) for outputs without video; else as run().
Result<Weighing> weigh(const source::Input& input, const Plan& plan, const std::vector<device::Device>& devices,
                       bool timed, const Progress& progress, const Cancel& cancel);

// The visual quality with which a profile comes to a size of the whole file, or to a likeness (mean SSIM).
struct Goal {
    std::uint64_t bytes = 0;  // either
    double ssim = 0;          // or
};
struct Setting {
    double visual_quality = 0;
    bool reached = true;  // false: even the lowest or highest quality misses it
    Weighing weighing;    // with it, of one profile
};
// Tries four qualities at once, then the one between them that should do. `request` has the profile.
Result<Setting> find_setting(const source::Input& input, Request request, const Goal& goal,
                             const std::vector<device::Device>& devices, const Progress& progress,
                             const Cancel& cancel);

}  // namespace wavecrest::convert
