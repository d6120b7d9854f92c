// QR codes (ISO/IEC 18004) for terminals.
#pragma once

#include <string>

namespace wavecrest::render {

// The code of a text, in lines of half blocks with a margin: dark on light whatever the terminal's colours are. Empty
// where the text is too long for one.
std::string qr_code(const std::string& text);

}  // namespace wavecrest::render
