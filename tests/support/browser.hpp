// Headless browsers as independent players: they run a page of ours, and give back what the page reports.
#pragma once

#include <string>

#include "base/bytes.hpp"

namespace wavecrest::test {

// Chromium, or Firefox without the system's codecs.
enum class Engine { chromium, gecko };

// Is it on this machine?
bool has_browser(Engine engine = Engine::chromium);

// Serves `page` (HTML) on loopback, opens it in a browser, and waits for the page to POST its result to /result.
// Empty when nothing came within the limit.
std::string run_page(const std::string& page, int limit_seconds, Engine engine = Engine::chromium);

// Bytes as a page's script takes them with atob().
std::string base64(ByteSpan bytes);

}  // namespace wavecrest::test
