// The file servers a site's streams come from: waited for at the start, and proved by `site check`.
#pragma once

#include <functional>

#include "base/cancel.hpp"
#include "base/result.hpp"
#include "base/time.hpp"
#include "site/check.hpp"
#include "site/site.hpp"

namespace wavecrest::site {

// Until every share that streams come from can be read: after a power failure this machine may be up before its server.
// `on_wait` is told of each that isn't there, once. Fails at once where waiting doesn't help (a wrong password), and
// when `most` is over.
Status wait_for_shares(const Site& site, Time most, const std::function<void(const SiteShare&, const Error&)>& on_wait,
                       const Cancel& cancel);

// Each proved (share/prove.hpp), its speed for `length`: what fails is an error, what is doubtful a warning.
void check_shares(const Site& site, Time length, std::vector<Finding>& findings);

}  // namespace wavecrest::site
