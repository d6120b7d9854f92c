// What an installation file is checked for on this machine, before anything runs.
#pragma once

#include <vector>

#include "site/capacity.hpp"
#include "site/site.hpp"

namespace wavecrest::site {

// What `check` found about a site on this machine.
struct Finding {
    enum class Severity { error, warning } severity = Severity::error;
    Error about;
};
// Files missing or unreadable, shares not mounted or too slow, ports taken (but by these very streams, running) or
// closed by the firewall, addresses that aren't this machine's or may change, streams no device can play, links and
// server too slow for what is asked, by what was measured of this machine (null: nothing was; live transcodes are then
// told as not judged). Reads the streams' indexes and the beginning of each; starts nothing.
std::vector<Finding> check(const Site& site, const measure::Capacity* capacity);
// What is to be said of live transcodes that the machine is too slow for, alone or together; nothing where it carries
// them. `where` is that of the site file.
std::vector<Finding> judge_demand(const TranscodeDemand& demand, const measure::Capacity& capacity,
                                  const std::string& where);

}  // namespace wavecrest::site
