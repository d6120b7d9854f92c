// Filters and measures do with 10 bits what they do with 8.
#include <catch2/catch.hpp>

#include "filter/cadence.hpp"
#include "filter/deinterlace.hpp"
#include "filter/depth.hpp"
#include "filter/overlay.hpp"
#include "filter/scale.hpp"
#include "measure/picture_quality.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

constexpr int kWidth = 320, kHeight = 240;

sample::TestCard small_card() {
    sample::CardSettings settings;
    settings.width = kWidth;
    settings.height = kHeight;
    return sample::TestCard(settings);
}

// The largest difference, in levels of 8 bits.
double difference(const Picture& eight, const Picture& ten) {
    REQUIRE(eight.bit_depth == 8);
    REQUIRE(ten.bit_depth == 10);
    REQUIRE(eight.width == ten.width);
    double most = 0;
    for (int plane = 0; plane < 3; ++plane) {
        for (int y = 0; y < eight.plane_height(plane); ++y) {
            for (int x = 0; x < eight.plane_width(plane); ++x)
                most = std::max(
                    most, std::abs(eight.row<std::uint8_t>(plane, y)[x] - ten.row<std::uint16_t>(plane, y)[x] / 4.0));
        }
    }
    return most;
}

}  // namespace

TEST_CASE("deinterlacing and the search for fields work in both depths alike", "[depth]") {
    const sample::TestCard card = small_card();
    std::vector<Picture> eight, ten;
    filter::Deinterlacer of_eight(filter::Deinterlacer::Rate::field), of_ten(filter::Deinterlacer::Rate::field);
    std::optional<Picture> previous;
    for (int i = 0; i < 4; ++i) {
        Picture frame = filter::weave_fields(card.draw(2 * i), 0, card.draw(2 * i + 1));
        frame.progressive = false;
        frame.duration = base::frames_to_time(1, {25, 1});
        const Picture deep = filter::to_depth(frame, 10);
        CHECK(deep.progressive == false);
        CHECK(filter::combing(frame, 0, frame) == filter::combing(deep, 0, deep));
        if (previous) {
            const Picture before = filter::to_depth(*previous, 10);
            CHECK(filter::field_difference(*previous, frame, 1) == filter::field_difference(before, deep, 1));
            CHECK(filter::fields_belong(*previous, frame) == filter::fields_belong(before, deep));
        }
        of_eight.push(frame, eight);
        of_ten.push(deep, ten);
        previous = frame;
    }
    of_eight.flush(eight);
    of_ten.flush(ten);
    REQUIRE(eight.size() == 8);
    REQUIRE(ten.size() == 8);
    // (The direction of an edge may be chosen otherwise where two are nearly alike.)
    for (std::size_t i = 0; i < 8; ++i) {
        const auto quality = measure::compare(filter::to_depth(eight[i], 10), ten[i]);
        REQUIRE(quality);
        CHECK(measure::psnr(quality->mean_squared_error()) > 50);
    }
}

TEST_CASE("scaling works in both depths alike", "[depth][scale]") {
    const Picture card = small_card().draw(11);
    for (const auto& [width, height] : {std::pair{640, 480}, {160, 120}, {214, 160}}) {
        auto eight = filter::Scaler::create(kWidth, kHeight, width, height, {1, 1});
        auto ten = filter::Scaler::create(kWidth, kHeight, width, height, {1, 1}, 10);
        REQUIRE(eight);
        REQUIRE(ten);
        const auto small = (*eight)->apply(card), deep = (*ten)->apply(filter::to_depth(card, 10));
        REQUIRE(small);
        REQUIRE(deep);
        CHECK(difference(*small, *deep) <= 1);
    }
    auto ten = filter::Scaler::create(kWidth, kHeight, 160, 120, {1, 1}, 10);
    CHECK_FALSE((*ten)->apply(card));
}

TEST_CASE("overlays lie in both depths alike", "[depth]") {
    const Picture card = small_card().draw(3);
    Picture eight = filter::to_depth(filter::to_depth(card, 10), 8), ten = filter::to_depth(card, 10);
    Overlay overlay;
    overlay.canvas_width = kWidth;
    overlay.canvas_height = kHeight;
    Overlay::Region region{31, 20, 64, 32, {}, {{}, {235, 100, 200, 255}, {50, 128, 128, 90}}};
    for (int i = 0; i < 64 * 32; ++i) region.pixels.push_back(static_cast<std::uint8_t>(i / 5 % 3));
    overlay.regions.push_back(region);
    filter::lay_over(eight, overlay);
    filter::lay_over(ten, overlay);
    CHECK(difference(eight, ten) <= 1);
    CHECK(difference(card, ten) > 50);
}

TEST_CASE("picture quality is the same in both depths", "[depth]") {
    const sample::TestCard card = small_card();
    const Picture a = card.draw(3), b = card.draw(4);
    const auto eight = measure::compare(a, b), ten = measure::compare(filter::to_depth(a, 10), filter::to_depth(b, 10));
    REQUIRE(eight);
    REQUIRE(ten);
    CHECK(ten->mean_squared_error() == Approx(eight->mean_squared_error()));
    CHECK(ten->ssim == Approx(eight->ssim).margin(0.001));
    CHECK_FALSE(measure::compare(a, filter::to_depth(b, 10)));
}
