// Subtitles of discs: units built by hand, and what the writers make read back.
#include <catch2/catch.hpp>

#include "codec/pgs.hpp"
#include "codec/subpicture.hpp"

using namespace wavecrest;

namespace {

Track subpicture_track() {
    Track track;
    track.kind = TrackKind::subtitle;
    track.codec = Codec::dvd_subpicture;
    track.width = 720;
    track.height = 480;
    ByteVector palette(codec::kSubpicturePaletteSize);
    for (std::size_t i = 0; i < 16; ++i) {
        palette[4 * i + 1] = static_cast<std::uint8_t>(16 + 10 * i);
        palette[4 * i + 2] = static_cast<std::uint8_t>(100 + i);
        palette[4 * i + 3] = static_cast<std::uint8_t>(200 + i);
    }
    track.codec_config = Bytes(std::move(palette));
    return track;
}
std::vector<Overlay> decode(media::SubtitleDecoder& decoder, ByteVector bytes, Time pts = {}) {
    Packet packet;
    packet.pts = pts;
    packet.data = Bytes(std::move(bytes));
    std::vector<Overlay> out;
    decoder.decode(packet, out);
    return out;
}

}  // namespace

TEST_CASE("Subpicture: a unit built by hand", "[subtitles]") {
    // 6x3 pixels at (100, 50). Top field (rows 0 and 2): 2 pixels of 1 and 4 of 2; a whole line of 3.
    // Bottom field (row 1): the rest of the line in 0.
    const ByteVector unit = {0,    46,   0,    12,                      // size, control
                             0x91, 0x20, 0x00, 0x03,                    // 1001 0001 0010; 0000 0000 0000 0011
                             0x00, 0x00, 0xFF, 0xFF,                    // bottom; filled up
                             0,    0,    0,    36,   0x00,              // at once, next at 36: forced start
                             0x03, 0x43, 0x21, 0x04, 0xF8, 0x10,        // colours 4 3 2 1, opacity 15 8 1 0
                             0x05, 0x06, 0x40, 0x69, 0x03, 0x20, 0x34,  // 100 to 105, 50 to 52
                             0x06, 0,    4,    0,    8,    0xFF,        //
                             0,    88,   0,    36,   0x02, 0xFF,        // after 88 * 1024 ticks: stop
                             0xFF, 0xFF, 0xFF, 0xFF};
    REQUIRE(unit.size() == 46);
    const auto decoder = codec::make_subpicture_decoder(subpicture_track());
    const auto shown = decode(*decoder, unit, base::from_seconds(10));
    REQUIRE(shown.size() == 2);
    CHECK(shown[0].pts == base::from_seconds(10));
    CHECK(shown[0].forced);
    CHECK(codec::subpicture_is_forced(unit));
    CHECK(shown[0].canvas_width == 720);
    REQUIRE(shown[0].regions.size() == 1);
    const Overlay::Region& region = shown[0].regions[0];
    CHECK(region.x == 100);
    CHECK(region.y == 50);
    CHECK(region.width == 6);
    CHECK(region.height == 3);
    CHECK(region.pixels == std::vector<std::uint8_t>{1, 1, 2, 2, 2, 2, 0, 0, 0, 0, 0, 0, 3, 3, 3, 3, 3, 3});
    REQUIRE(region.colours.size() == 4);
    CHECK(region.colours[0].opacity == 0);
    CHECK(region.colours[1].opacity == 17);
    CHECK(region.colours[3].opacity == 255);
    CHECK(region.colours[3].y == 16 + 40);
    CHECK(region.colours[3].cr == 104);
    CHECK(region.colours[3].cb == 204);
    CHECK(shown[1].regions.empty());
    CHECK(shown[1].pts == base::from_seconds(10) + base::from_ticks(88 * 1024, 90000));
}

TEST_CASE("Subpicture: what is written is read back, and cut units do no harm", "[subtitles]") {
    codec::SubpictureImage image;
    image.x = 41;
    image.y = 399;
    image.width = 639;
    image.height = 61;
    std::uint32_t state = 3;
    for (int i = 0; i < image.width * image.height; ++i) {
        // Runs of all lengths.
        if (i % 7 == 0 && (state >> 20) % 5 == 0) state = state * 1664525u + 1013904223u;
        state += i % 300 == 299 ? 0x40000000u : 0;
        image.pixels.push_back(static_cast<std::uint8_t>(state >> 30));
    }
    image.colours = {0, 5, 9, 15};
    image.opacity = {0, 15, 8, 3};
    image.duration = base::from_seconds(2.5);
    const auto unit = codec::write_subpicture(image);
    REQUIRE(unit);
    const auto decoder = codec::make_subpicture_decoder(subpicture_track());
    const auto shown = decode(*decoder, *unit);
    REQUIRE(shown.size() == 2);
    CHECK_FALSE(shown[0].forced);
    REQUIRE(shown[0].regions.size() == 1);
    CHECK(shown[0].regions[0].x == 41);
    CHECK(shown[0].regions[0].y == 399);
    CHECK((shown[0].regions[0].pixels == image.pixels));
    CHECK(base::to_seconds(shown[1].pts) == Approx(2.5).margin(0.012));
    for (std::size_t size = 0; size < unit->size(); size += 7)
        decode(*decoder, ByteVector(unit->begin(), unit->begin() + static_cast<std::ptrdiff_t>(size)));
}

TEST_CASE("PGS: a display set built by hand", "[subtitles]") {
    const ByteVector set = {
        0x16, 0, 19,   0x07, 0x80, 0x04, 0x38, 0x10, 0,    1,   0x80, 0,  0,   1,  //
        0,    7, 0,    0x40, 0x01, 0x00, 0x03, 0xE8,                               // object 7, forced, (256, 1000)
        0x17, 0, 10,   1,    0,    1,    0,    3,    0xE8, 0,   4,    0,  2,       //
        0x14, 0, 12,   0,    0,    1,    235,  128,  129,  255, 2,    16, 130, 131, 128,
        0x15, 0, 18,   0,    7,    0,    0xC0, 0,    0,    11,  0,    4,  0,   2,  //
        1,    0, 0x83, 2,    0,    0,    0,  // wrong length follows in the next line: 7 bytes of code
        0x80, 0, 0};
    // Line 1: one pixel of 1, three of 2, end; line 2 is not coded: it stays clear.
    const auto decoder = codec::make_pgs_decoder({});
    ByteVector fixed = set;
    const auto shown = decode(*decoder, fixed, base::from_seconds(3));
    REQUIRE(shown.size() == 1);
    CHECK(shown[0].canvas_width == 1920);
    CHECK(shown[0].canvas_height == 1080);
    CHECK(shown[0].forced);
    CHECK(codec::pgs_is_forced(set));
    REQUIRE(shown[0].regions.size() == 1);
    const Overlay::Region& region = shown[0].regions[0];
    CHECK(region.x == 256);
    CHECK(region.y == 1000);
    CHECK(region.width == 4);
    CHECK(region.height == 2);
    CHECK(std::vector<std::uint8_t>(region.pixels.begin(), region.pixels.begin() + 4) ==
          std::vector<std::uint8_t>{1, 2, 2, 2});
    CHECK(region.colours[1].y == 235);
    CHECK(region.colours[1].cr == 128);
    CHECK(region.colours[1].cb == 129);
    CHECK(region.colours[2].opacity == 128);
    CHECK(region.colours[0].opacity == 0);
}

TEST_CASE("PGS: what is written is read back, large images in parts", "[subtitles]") {
    codec::PgsImage image;
    image.x = 300;
    image.y = 900;
    image.width = 900;
    image.height = 150;
    std::uint32_t state = 9;
    for (int i = 0; i < image.width * image.height; ++i) {
        if (i % 3 == 0) state = state * 1664525u + 1013904223u;
        image.pixels.push_back(i % 2000 > 1500 ? 0 : static_cast<std::uint8_t>((state >> 24) % 17));
    }
    for (int i = 0; i < 17; ++i) image.colours.push_back({static_cast<std::uint8_t>(16 + i), 128, 128, 255});
    const ByteVector show = codec::write_pgs_show(image);
    REQUIRE(show.size() > 70000);  // more than one object segment
    const auto decoder = codec::make_pgs_decoder({});
    const auto shown = decode(*decoder, show);
    REQUIRE(shown.size() == 1);
    CHECK_FALSE(shown[0].forced);
    REQUIRE(shown[0].regions.size() == 1);
    CHECK((shown[0].regions[0].pixels == image.pixels));
    const auto cleared = decode(*decoder, codec::write_pgs_clear(image));
    REQUIRE(cleared.size() == 1);
    CHECK(cleared[0].regions.empty());
    for (std::size_t size = 0; size < show.size(); size += 997)
        decode(*decoder, ByteVector(show.begin(), show.begin() + static_cast<std::ptrdiff_t>(size)));
}
