// To know a disc or file again.
#pragma once

#include <string>

#include "base/result.hpp"

namespace wavecrest::source {

// What a source is, whatever it is called and wherever it lies: SHA-256 of names, sizes and tables of a disc, or of the
// size, the beginning and the end of a file, in hexadecimal digits. Empty for what can't be opened again.
Result<std::string> digest_of(const std::string& source);
// SHA-256 of a text, in hexadecimal digits.
std::string text_digest(const std::string& text);

}  // namespace wavecrest::source
