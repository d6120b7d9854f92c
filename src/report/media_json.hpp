// Media nouns and devices as JSON, in the form other programs rely on.
#pragma once

#include <nlohmann/json.hpp>

#include "device/device.hpp"
#include "media/types.hpp"

namespace wavecrest::report {

using Json = nlohmann::ordered_json;

Json to_json(const Track& track);
Json to_json(const std::vector<Problem>& problems);
Json to_json(const std::vector<Chapter>& chapters);
Json to_json(const device::Device& device);

}  // namespace wavecrest::report
