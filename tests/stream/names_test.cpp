// Addresses and names from what people call their films.
#include <catch2/catch.hpp>

#include "convert/name.hpp"
#include "stream/service.hpp"

using namespace wavecrest;

TEST_CASE("addresses keep every letter, in a form that can be typed where there is one", "[names]") {
    CHECK(stream::default_path("Lanterns over Cedar Lake", "a.mp4") == "/lanterns-over-cedar-lake.mp4");
    CHECK(stream::default_path("\xC3\x9C"
                               "ber Stra\xC3\x9F"
                               "e",
                               "a.mp4") == "/uber-strasse.mp4");
    CHECK(stream::default_path("\xC5\x81\xC3\xB3"
                               "d\xC5\xBA \xC4\x90\xC3\xA6\xC5\x93",
                               "a.ts") == "/lodz-daeoe.ts");
    CHECK(stream::default_path("\xC3\x84"
                               "1",
                               "a.mp4") != stream::default_path("\xC3\x9C"
                                                                "1",
                                                                "a.mp4"));
    // Other scripts stay, escaped where it is an address.
    CHECK(stream::default_path("\xE6\xB9\x96", "a.mp4") == "/\xE6\xB9\x96.mp4");
    CHECK(stream::address_for("10.0.0.1", 8080, "/\xE6\xB9\x96.mp4") == "http://10.0.0.1:8080/%E6%B9%96.mp4");
    CHECK(stream::default_path("!?", "a.mp4") == "/stream.mp4");
}

TEST_CASE("a name that was given stays, a label becomes words", "[names]") {
    CHECK(convert::given_name("A_b (2019)").name == "A_b");
    CHECK(convert::given_name("A_b (2019)").year == 2019);
    CHECK(convert::given_name("AC/DC: live").name == "AC-DC- live");
    CHECK(convert::film_name("CEDAR_LAKE").name == "Cedar Lake");
    CHECK(convert::film_name("Cedar_Lake_(2019)").year == 2019);
}
