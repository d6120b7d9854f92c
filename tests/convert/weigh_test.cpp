// Profiles weighed on samples: against what a whole conversion really comes to.
#include "convert/weigh.hpp"

#include <catch2/catch.hpp>

#include "filter/rgb.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

profile::Profile parsed(const std::string& text) {
    auto made = profile::parse(text, "p.toml");
    REQUIRE(made);
    return *made;
}
profile::Profile sharp() {
    return parsed("name = \"sharp\"\n[video]\neffort = 1\nvisual_quality = 90\n");
}
profile::Profile small() {
    return parsed("name = \"small\"\n[video]\neffort = 2\nvisual_quality = 90\nmax_size = \"160x90\"\n");
}

convert::Request request_for(std::vector<profile::Profile> profiles, const base::Path& into) {
    convert::Request request;
    request.profiles = std::move(profiles);
    request.into = into;
    request.pick = "2";  // of three seconds
    return request;
}

}  // namespace

TEST_CASE("weighing a short title tells what converting it comes to", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    const Cancel cancel;
    const auto tv = device::find("tv-hd"), baseline = device::find("box-sd");
    REQUIRE(tv);
    REQUIRE(baseline);
    auto plan = convert::make_plan(**input, request_for({sharp(), small()}, dir / "nothing"));
    REQUIRE(plan);
    double told = 0;
    const auto weighed = convert::weigh(
        **input, *plan, {*tv, *baseline}, true,
        [&](const ProgressState& state) { told = base::to_seconds(state.done) / base::to_seconds(state.total); },
        cancel);
    REQUIRE(weighed);
    CHECK(told == Approx(1));
    CHECK_FALSE(std::filesystem::exists(dir / "nothing"));
    REQUIRE(weighed->profiles.size() == 2);
    CHECK(weighed->samples == 1);
    CHECK(weighed->width == 854);
    CHECK(weighed->height == 480);
    const convert::Weighed &large = weighed->profiles[0], &little = weighed->profiles[1];
    // At the size it is shown in, scaling down is a loss, though each is encoded with the same quality.
    CHECK(large.quality.ssim > 0.99);
    CHECK(little.quality.ssim < 0.9);
    CHECK(large.quality.pictures == 72);
    CHECK(large.quality.worst_ssim <= large.quality.ssim);
    CHECK(large.seconds.high > 0);
    for (const convert::Weighed& one : weighed->profiles) {
        CHECK(one.worst.original.width == 854);
        CHECK(one.worst.coded.height == 480);
        CHECK(base::to_seconds(one.worst.at) >= base::to_seconds(one.quality.worst_at) - 0.001);
        CHECK(base::to_seconds(one.worst.at) < base::to_seconds(one.quality.worst_at) + 1);
        REQUIRE(one.devices.size() == 2);
        CHECK(one.devices[0].verdict != device::Verdict::fail);
    }
    // An SD box takes no H.264 High of any size it was not made for; it says why.
    for (const auto& fit : large.devices) CHECK((fit.verdict == device::Verdict::pass) == fit.why.empty());

    // Really made, the files are of that size.
    const auto made =
        convert::run(**input, *convert::make_plan(**input, request_for({sharp(), small()}, dir / "out")), {}, cancel);
    REQUIRE(made);
    for (std::size_t i = 0; i < 2; ++i)
        CHECK(weighed->profiles[i].bytes.likely == Approx(static_cast<double>(made->files[i].bytes)).epsilon(0.06));
}

TEST_CASE("the setting for a size or a likeness is found", "[convert]") {
    const TempDir dir;
    const auto input = source::open_input(sample_disc());
    REQUIRE(input);
    const Cancel cancel;
    SECTION("size") {
        convert::Goal goal;
        goal.bytes = 70'000;
        const auto found =
            convert::find_setting(**input, request_for({small()}, dir / "nothing"), goal, {}, {}, cancel);
        REQUIRE(found);
        CHECK(found->reached);
        CHECK(found->weighing.profiles.front().bytes.likely == Approx(70'000).epsilon(0.08));
        goal.bytes = 8'000;  // out of reach
        const auto missed =
            convert::find_setting(**input, request_for({small()}, dir / "nothing"), goal, {}, {}, cancel);
        REQUIRE(missed);
        CHECK_FALSE(missed->reached);
        profile::Profile profile = small();
        profile.video.quality = found->visual_quality;
        const auto made =
            convert::run(**input, *convert::make_plan(**input, request_for({profile}, dir / "out")), {}, cancel);
        REQUIRE(made);
        CHECK(static_cast<double>(made->size_bytes) == Approx(70'000).epsilon(0.1));
    }
    SECTION("likeness") {
        convert::Goal goal;
        goal.ssim = 0.97;
        const auto found =
            convert::find_setting(**input, request_for({sharp()}, dir / "nothing"), goal, {}, {}, cancel);
        REQUIRE(found);
        CHECK(found->reached);
        CHECK(found->weighing.profiles.front().quality.ssim == Approx(0.97).margin(0.004));
    }
}

TEST_CASE("colours for the screen", "[filter]") {
    Picture picture = Picture::allocate(4, 2);
    const auto fill = [&](int y, int cb, int cr) {
        for (int row = 0; row < 2; ++row)
            std::fill_n(picture.row<std::uint8_t>(0, row), 4, static_cast<std::uint8_t>(y));
        std::fill_n(picture.row<std::uint8_t>(1, 0), 2, static_cast<std::uint8_t>(cb));
        std::fill_n(picture.row<std::uint8_t>(2, 0), 2, static_cast<std::uint8_t>(cr));
        const ByteVector rgb = filter::to_rgb(picture);
        REQUIRE(rgb.size() == 24);
        return std::array<int, 3>{rgb[0], rgb[1], rgb[2]};
    };
    // BT.601's bars of full level: white, yellow, red, blue (Rec. ITU-R BT.601, studio range).
    picture.colour = {6, 6, 6, false};
    CHECK(fill(235, 128, 128) == std::array{255, 255, 255});
    CHECK(fill(16, 128, 128) == std::array{0, 0, 0});
    CHECK(fill(210, 16, 146) == std::array{255, 255, 0});
    CHECK(fill(81, 90, 240)[0] == 254);
    CHECK(fill(41, 240, 110)[2] == 255);
    // BT.709's green.
    picture.colour = {1, 1, 1, false};
    const auto green = fill(173, 42, 26);
    CHECK(green[1] >= 254);
    CHECK(green[0] <= 1);
    CHECK(green[2] <= 1);
    picture.colour.full_range = true;
    CHECK(fill(77, 128, 128) == std::array{77, 77, 77});
}
