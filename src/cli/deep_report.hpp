// What deep inspection found: as JSON, as text, and as figures with their CSV.
#pragma once

#include <nlohmann/json.hpp>
#include <string>
#include <vector>

#include "base/result.hpp"
#include "measure/deep.hpp"
#include "measure/transport.hpp"

namespace wavecrest::cli {

nlohmann::ordered_json deep_json(const measure::DeepReport& deep);
void print_deep(const measure::DeepReport& deep);
// The packets of a transport stream.
nlohmann::ordered_json transport_json(const measure::TransportReport& report);
void print_transport(const measure::TransportReport& report);
// Rate, keyframe distances and loudness over time, STEM-rate.png and so on; `files` gets their names.
Status write_deep_figures(const std::string& folder, const std::string& stem, const std::string& name,
                          const measure::DeepReport& deep, std::vector<std::string>& files);

}  // namespace wavecrest::cli
