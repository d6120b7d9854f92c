#include <catch2/catch.hpp>

#include <cmath>

#include "filter/scale.hpp"
#include "standin/sample_disc.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

TEST_CASE("the card's frame number is read back at other sizes, too", "[card]") {
    sample::CardSettings settings;
    settings.title_number = 9;
    const sample::TestCard card(settings);
    for (const auto& [width, height] :
         {std::pair{854, 480}, std::pair{640, 360}, std::pair{320, 180}, std::pair{1280, 720}}) {
        auto scaler = filter::Scaler::create(720, 480, width, height, {1, 1});
        REQUIRE(scaler);
        for (const std::int64_t frame : {0, 1, 24, 1000, 65535}) {
            const auto scaled = (*scaler)->apply(card.draw(frame));
            REQUIRE(scaled);
            CHECK(scaled->pixel_aspect == Ratio{1, 1});
            const auto code = sample::read_card_code(*scaled);
            REQUIRE(code);
            CHECK(code->frame == frame);
            CHECK(code->title_number == 9);
            CHECK((sample::flash_level(*scaled) > 128) == (frame % 24 == 0));
        }
    }
}

TEST_CASE("pictures that are no card are not read as one", "[card]") {
    Picture grey = Picture::allocate(720, 480);
    std::fill_n(grey.planes[0], grey.strides[0] * 480, 128);
    CHECK_FALSE(sample::read_card_code(grey));
    // One block turned over fails the check bits.
    const sample::TestCard card({});
    Picture wrong = card.draw(77);
    for (int y = 420; y < 436; ++y) {
        for (int x = 0; x < 16; ++x) {
            auto& sample = wrong.planes[0][y * wrong.strides[0] + 144 + 17 * 432 / 26 + x];
            sample = sample > 128 ? 16 : 235;
        }
    }
    const auto code = sample::read_card_code(wrong);
    CHECK((!code || code->frame != 77));
}

TEST_CASE("the circle is round as displayed and the picture within range at its marks", "[card]") {
    const sample::TestCard card({});
    const Picture picture = card.draw(30);
    // Leftmost and topmost white points of the circle, around its centre.
    const auto white = [&](int x, int y) { return picture.planes[0][y * picture.strides[0] + x] > 220; };
    int left = 360, top = 192;
    for (int x = 360; x > 200; --x) {
        if (white(x, 240)) left = x;
    }
    for (int y = 192; y > 60; --y) {
        if (white(362, y)) top = y;
    }
    const double dy = 192 - top, dx_at_48 = (360 - left) * 32.0 / 27;
    // At 48 lines below the centre the half width of a round circle of radius dy.
    CHECK(dx_at_48 == Approx(std::sqrt(dy * dy - 48.0 * 48)).margin(4));
    CHECK(white(0, 0));
    CHECK(white(719, 479));
}

TEST_CASE("beeps begin with the flashes, to the sample", "[card]") {
    const sample::TestCard card({});
    const auto samples = card.audio(0, 48048 * 3);
    REQUIRE(samples.size() == 2 * 48048 * 3);
    for (const std::int64_t start : {0, 48048, 96096}) {
        CHECK(std::abs(samples[static_cast<std::size_t>(2 * start)]) > 12000);
        if (start > 0) CHECK(std::abs(samples[static_cast<std::size_t>(2 * start - 2)]) < 400);
        CHECK(std::abs(samples[static_cast<std::size_t>(2 * (start + 2400))]) < 400);
    }
    // In pieces or as a whole: the same.
    const auto piece = card.audio(47000, 2000);
    CHECK(std::equal(piece.begin(), piece.end(), samples.begin() + 2 * 47000));
}

TEST_CASE("the same seed gives the same disc, another seed another", "[card]") {
    const TempDir dir;
    standin::SampleDiscSettings settings;
    settings.main_length = base::from_seconds(2);
    settings.extra_length = base::from_seconds(1);
    const Cancel cancel;
    REQUIRE(standin::make_sample_disc(dir / "a", settings, {}, cancel));
    REQUIRE(standin::make_sample_disc(dir / "b", settings, {}, cancel));
    settings.seed = 2;
    REQUIRE(standin::make_sample_disc(dir / "c", settings, {}, cancel));
    for (const char* name : {"VIDEO_TS.IFO", "VTS_01_0.IFO", "VTS_01_1.VOB", "VTS_02_1.VOB"}) {
        CHECK(read_all(dir / "a/VIDEO_TS" / name) == read_all(dir / "b/VIDEO_TS" / name));
    }
    CHECK(read_all(dir / "a/VIDEO_TS/VTS_01_1.VOB") != read_all(dir / "c/VIDEO_TS/VTS_01_1.VOB"));
    const auto again = standin::make_sample_disc(dir / "a", settings, {}, cancel);
    REQUIRE_FALSE(again);
    CHECK(again.error().kind == ErrorKind::machine);
}

TEST_CASE("a disc that is cancelled leaves nothing", "[card]") {
    const TempDir dir;
    Cancel cancel;
    standin::SampleDiscSettings settings;
    const auto stopped = standin::make_sample_disc(
        dir / "a", settings,
        [&](const base::ProgressState& state) {
            if (state.done > base::from_seconds(1)) cancel.request();
        },
        cancel);
    REQUIRE_FALSE(stopped);
    CHECK(stopped.error().kind == ErrorKind::interrupted);
    CHECK(dir.files().empty());
    CHECK(std::filesystem::is_empty(dir.path()));
}
