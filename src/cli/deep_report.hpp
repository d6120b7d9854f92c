// What deep inspection found: as text, and as figures with their CSV.
#pragma once

#include <string>
#include <vector>

#include "base/result.hpp"
#include "measure/deep.hpp"
#include "measure/transport.hpp"

namespace wavecrest::cli {

void print_deep(const measure::DeepReport& deep);
// The packets of a transport stream.
void print_transport(const measure::TransportReport& report);
// Rate, keyframe distances and loudness over time, STEM-rate.png and so on; `files` gets their names.
Status write_deep_figures(const std::string& folder, const std::string& stem, const std::string& name,
                          const measure::DeepReport& deep, std::vector<std::string>& files);

}  // namespace wavecrest::cli
