// What a device could not play of what a profile makes.
#pragma once

#include <string>
#include <vector>

#include "device/device.hpp"
#include "profile/profile.hpp"

namespace wavecrest::convert {

struct DeviceFinding {
    device::Check check;
    std::string key;  // that decides it: "video.codec", "audio.channels", "container"
    int line = 0;     // where it stands in the profile's text; 0: it doesn't, the default decides
};

// Of the largest video and the most channels that the profile makes, at 25 frames a second. What depends on the source
// (a track that is kept, a rate without a peak) is told as a warning. Fails as the encoder does.
Result<std::vector<DeviceFinding>> check_for(const profile::Profile& profile, std::string_view text,
                                             const device::Device& device);

}  // namespace wavecrest::convert
