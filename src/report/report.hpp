// The handover page of a house: one self-contained HTML file from the results so far.
#pragma once

#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "measure/capacity.hpp"
#include "site/site.hpp"

namespace wavecrest::report {

struct Written {
    base::Path page;
    std::vector<std::string> missing;  // what the page lacks, because no result was found
};

// Reads the JSON results and figures that inspect, convert and verify left in `results` (their --out) and writes
// `into`/index.html, replacing an earlier one. Fails when a result file is damaged or the page can't be written; absent
// results only leave their section out. `capacity` is what was measured of this machine; null: nothing.
Result<Written> write(const site::Site& site, const measure::Capacity* capacity, const base::Path& results,
                      const base::Path& into);

}  // namespace wavecrest::report
