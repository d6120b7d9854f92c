// Text from outside (names of files and titles, tags, what clients send) made safe to show and to log: it can't move
// the cursor, set a window's title, begin a line of its own or turn the direction of writing.
#pragma once

#include <string>
#include <string_view>

namespace wavecrest::base {

// Control characters (C0, DEL, C1: ECMA-48), line and paragraph separators, marks that change the direction of writing
// (Unicode Standard Annex 9) and bytes that are no UTF-8 are written as \xHH or \u{H...}; a backslash stays as it is.
std::string printable(std::string_view text);

// How many bytes the character has that begins at `at`; 0: they are no UTF-8 (RFC 3629).
std::size_t utf8_size(std::string_view text, std::size_t at);

}  // namespace wavecrest::base
