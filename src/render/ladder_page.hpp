// The page that plays a ladder and shows the bit rate it takes over time (data/templates/ladder.mustache).
#pragma once

#include <string>

#include "base/result.hpp"

namespace wavecrest::render {

// `playlist` and `manifest`: their addresses, relative to the page's own. Kind input: the template is damaged.
Result<std::string> ladder_page(const std::string& title, const std::string& playlist, const std::string& manifest);

}  // namespace wavecrest::render
