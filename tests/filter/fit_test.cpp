#include <catch2/catch.hpp>

#include "filter/fit.hpp"
#include "media/types.hpp"

using namespace wavecrest;

namespace {

Picture filled(int width, int height, Ratio pixel_aspect, int level, int bit_depth = 8) {
    Picture picture = Picture::allocate(width, height, bit_depth);
    picture.pixel_aspect = pixel_aspect;
    media::with_sample_type(bit_depth, [&](auto sample) {
        using Sample = decltype(sample);
        for (int plane = 0; plane < 3; ++plane) {
            for (int y = 0; y < picture.plane_height(plane); ++y) {
                Sample* row = picture.row<Sample>(plane, y);
                std::fill(row, row + picture.plane_width(plane), static_cast<Sample>(plane == 0 ? level : level / 2));
            }
        }
    });
    return picture;
}

}  // namespace

TEST_CASE("pictures whose size or shape changes are shown in their own shape, in the middle of black", "[fit]") {
    // 4:3 at 25 Hz with its pixels of 16:15, to square ones.
    filter::Fitter fitter({720, 576}, {768, 576}, {1, 1});
    const auto first = fitter.apply(filled(720, 576, {16, 15}, 200));
    REQUIRE(first);
    CHECK(first->width == 768);
    CHECK(first->height == 576);
    CHECK(first->pixel_aspect.num == first->pixel_aspect.den);
    CHECK(first->row<std::uint8_t>(0, 0)[0] == 200);
    CHECK(first->row<std::uint8_t>(0, 575)[767] == 200);
    // The programme after it is 16:9: 432 lines, 72 black ones above and below.
    const auto wide = fitter.apply(filled(720, 576, {64, 45}, 200));
    REQUIRE(wide);
    CHECK(wide->height == 576);
    for (const auto& [y, level] : {std::pair(0, 16), std::pair(71, 16), std::pair(72, 200), std::pair(503, 200),
                                   std::pair(504, 16), std::pair(575, 16)}) {
        INFO(y);
        CHECK(wide->row<std::uint8_t>(0, y)[0] == level);
        CHECK(wide->row<std::uint8_t>(0, y)[767] == level);
    }
    CHECK(wide->row<std::uint8_t>(1, 35)[0] == 128);
    CHECK(wide->row<std::uint8_t>(1, 36)[0] == 100);
    CHECK(wide->row<std::uint8_t>(2, 252)[383] == 128);
    // Half as large in the same shape: no bars.
    const auto small = fitter.apply(filled(352, 288, {12, 11}, 200));
    REQUIRE(small);
    CHECK(small->width == 768);
    CHECK(small->row<std::uint8_t>(0, 0)[0] == 200);
    CHECK(small->row<std::uint8_t>(0, 575)[767] == 200);
    // And back.
    const auto back = fitter.apply(filled(720, 576, {16, 15}, 90));
    REQUIRE(back);
    CHECK(back->row<std::uint8_t>(0, 0)[0] == 90);
}

TEST_CASE("what fits passes untouched, and bars are black in 10 bits and full range, too", "[fit]") {
    filter::Fitter fitter({320, 180}, {320, 180}, {1, 1});
    Picture same = filled(320, 180, {1, 1}, 700, 10);
    const auto* samples = same.storage.get();
    const auto passed = fitter.apply(std::move(same));
    REQUIRE(passed);
    CHECK(passed->storage.get() == samples);
    Picture narrow = filled(160, 120, {1, 1}, 700, 10);
    const auto fitted = fitter.apply(narrow);
    REQUIRE(fitted);
    CHECK(fitted->width == 320);
    const auto* row = fitted->row<std::uint16_t>(0, 90);
    CHECK(row[39] == 64);
    CHECK(row[40] == 700);
    CHECK(row[279] == 700);
    CHECK(row[280] == 64);
    CHECK(fitted->row<std::uint16_t>(1, 45)[0] == 512);
    narrow.colour.full_range = true;
    CHECK(fitter.apply(narrow)->row<std::uint16_t>(0, 90)[0] == 0);
    // What begins in another size than was planned fills what was planned for it, if it has that shape.
    filter::Fitter other({1920, 1080}, {640, 360}, {1, 1});
    const auto half = other.apply(filled(1280, 720, {1, 1}, 200));
    REQUIRE(half);
    CHECK(half->row<std::uint8_t>(0, 0)[0] == 200);
    const auto tall = other.apply(filled(720, 576, {16, 15}, 200));
    REQUIRE(tall);
    CHECK(tall->row<std::uint8_t>(0, 180)[79] == 16);
    CHECK(tall->row<std::uint8_t>(0, 180)[80] == 200);
    // Pixels without a shape are square; one line is as little as there can be.
    CHECK(other.apply(filled(2, 2, {0, 0}, 200)));
    CHECK(other.apply(filled(4096, 2, {1, 1}, 200)));
}
