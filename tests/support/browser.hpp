// Headless Chromium as an independent player: runs a page of ours and gives back what the page reports.
#pragma once

#include <string>

#include "base/bytes.hpp"

namespace wavecrest::test {

// Is Chromium on this machine?
bool has_browser();

// Serves `page` (HTML) on loopback, opens it in Chromium, and waits for the page to POST its result to /result.
// Empty when nothing came within the limit.
std::string run_page(const std::string& page, int limit_seconds);

// Bytes as a page's script takes them with atob().
std::string base64(ByteSpan bytes);

}  // namespace wavecrest::test
