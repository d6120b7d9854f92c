#include "base/printable.hpp"

#include <catch2/catch.hpp>

using wavecrest::base::printable;

TEST_CASE("text from outside can't steer a terminal or begin a line of a log", "[printable]") {
    CHECK(printable("Lanterns over Cedar Lake (2019)") == "Lanterns over Cedar Lake (2019)");
    CHECK(printable("\xC3\x9C"
                    "ber den See \xE6\xB9\x96 \xF0\x9F\x8E\xAC") ==
          "\xC3\x9C"
          "ber den See \xE6\xB9\x96 \xF0\x9F\x8E\xAC");
    CHECK(printable("\x1b]0;title\x07") == "\\x1b]0;title\\x07");
    CHECK(printable("a\nb\r\tc\x7f") == "a\\x0ab\\x0d\\x09c\\x7f");
    CHECK(printable(std::string("\0x", 2)) == "\\x00x");
    // C1 as a character and as a byte; separators and marks of direction; what is no UTF-8.
    CHECK(printable("\xC2\x9B"
                    "31m") == "\\u{9b}31m");
    CHECK(printable("\x9B"
                    "31m") == "\\x9b31m");
    CHECK(printable("\xE2\x80\xA8\xE2\x80\xAE"
                    "4pm") == "\\u{2028}\\u{202e}4pm");
    CHECK(printable("\xC0\x8A\xED\xA0\x80\xF4\x90\x80\x80") == "\\xc0\\x8a\\xed\\xa0\\x80\\xf4\\x90\\x80\\x80");
    CHECK(printable("\xE2\x82") == "\\xe2\\x82");
}
