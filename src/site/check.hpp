// What an installation file is checked for on this machine, before anything runs.
#pragma once

#include <vector>

#include "site/site.hpp"

namespace wavecrest::site {

// What `check` found about a site on this machine.
struct Finding {
    enum class Severity { error, warning } severity = Severity::error;
    Error about;
};
// Files missing or unreadable, shares not mounted or too slow, ports taken (but by these very streams, running) or
// closed by the firewall, addresses that aren't this machine's or may change, streams no device can play, links and
// server too slow for what is asked. Reads the streams' indexes and the beginning of each; starts nothing.
std::vector<Finding> check(const Site& site);

}  // namespace wavecrest::site
