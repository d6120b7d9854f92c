// Headless Chromium as an independent player: runs a page of ours and gives back what the page reports.
#pragma once

#include <string>

namespace wavecrest::test {

// Is Chromium on this machine?
bool has_browser();

// Serves `page` (HTML) on loopback, opens it in Chromium, and waits for the page to POST its result to /result.
// Empty when nothing came within the limit.
std::string run_page(const std::string& page, int limit_seconds);

}  // namespace wavecrest::test
