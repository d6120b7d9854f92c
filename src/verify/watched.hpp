// The verdict on a device whose player was watched from the server (measure/viewing.hpp): nothing was asked of it.
#pragma once

#include "measure/viewing.hpp"
#include "verify/verify.hpp"

namespace wavecrest::verify {

// `device` and `link` as far as they are known. What was seen for too short a time is no pass; what can't be seen from
// the server is said in the checks.
Verification judge_watched(const measure::Viewing& viewing, const std::string& device, const device::Link& link,
                           const std::string& address);

}  // namespace wavecrest::verify
