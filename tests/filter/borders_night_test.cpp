// Black borders and the reduced dynamic range.
#include <catch2/catch.hpp>

#include <cmath>

#include "filter/borders.hpp"
#include "filter/depth.hpp"
#include "filter/limiter.hpp"
#include "filter/night.hpp"
#include "filter/overlay.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

Picture letterboxed(int left, int right, int top, int bottom) {
    sample::CardSettings settings;
    settings.width = 320;
    settings.height = 240;
    Picture picture = sample::TestCard(settings).draw(7);
    for (int y = 0; y < 240; ++y) {
        for (int x = 0; x < 320; ++x) {
            if (x < left || x >= 320 - right || y < top || y >= 240 - bottom)
                picture.planes[0][y * picture.strides[0] + x] = 16;
        }
    }
    return picture;
}

AudioFrames tone(double decibels, double seconds, int channels = 2) {
    AudioFrames audio;
    audio.sample_rate = 48000;
    audio.channels = channels;
    const double peak = std::pow(10, decibels / 20) * std::sqrt(2);
    for (int n = 0; n < static_cast<int>(48000 * seconds); ++n) {
        for (int c = 0; c < channels; ++c)
            audio.samples.push_back(static_cast<float>(peak * std::sin(2 * M_PI * 997 * n / 48000)));
    }
    return audio;
}
// Of the last half of it.
double level(const AudioFrames& audio) {
    double sum = 0;
    for (std::size_t i = audio.samples.size() / 2; i < audio.samples.size(); ++i)
        sum += static_cast<double>(audio.samples[i]) * static_cast<double>(audio.samples[i]);
    return 10 * std::log10(sum / static_cast<double>(audio.samples.size() / 2));
}

}  // namespace

TEST_CASE("black borders are found to the row, in both depths, and cut away", "[borders]") {
    const Picture picture = letterboxed(0, 0, 30, 31);
    const auto found = filter::black_borders(picture);
    REQUIRE(found);
    CHECK(*found == filter::Borders{0, 0, 30, 31});
    CHECK(filter::black_borders(filter::to_depth(picture, 10)) == found);
    CHECK(filter::black_borders(letterboxed(40, 42, 0, 0)) == filter::Borders{40, 42, 0, 0});
    CHECK_FALSE(filter::black_borders(letterboxed(160, 160, 0, 0)));  // all black
    CHECK(filter::common({10, 20, 0, 8}, {12, 18, 4, 8}) == filter::Borders{10, 18, 0, 8});
    // Chroma samples and fields stay whole; a row or two is no border.
    CHECK(filter::croppable({7, 2, 31, 30}, false) == filter::Borders{6, 0, 30, 30});
    CHECK(filter::croppable({0, 0, 31, 30}, true) == filter::Borders{0, 0, 28, 28});
    const Picture inside = filter::cropped(picture, {10, 20, 30, 30});
    CHECK(inside.width == 290);
    CHECK(inside.height == 180);
    for (int plane = 0; plane < 3; ++plane) {
        const int part = plane == 0 ? 1 : 2;
        for (int y = 0; y < inside.plane_height(plane); y += 7) {
            for (int x = 0; x < inside.plane_width(plane); x += 5)
                CHECK(inside.row<std::uint8_t>(plane, y)[x] ==
                      picture.row<std::uint8_t>(plane, y + 30 / part)[x + 10 / part]);
        }
    }
}

TEST_CASE("subtitles keep their place and size where borders are cut away", "[borders][overlay]") {
    // A canvas of twice the picture's size: one in the picture, one on the lower border.
    Overlay overlay;
    overlay.canvas_width = 640;
    overlay.canvas_height = 480;
    overlay.regions.push_back({200, 300, 100, 40, {}, {}});
    overlay.regions.push_back({200, 430, 100, 40, {}, {}});
    filter::move_inside(overlay, {10, 0, 30, 30}, 320, 240);
    CHECK(overlay.canvas_width == 620);
    CHECK(overlay.canvas_height == 360);
    CHECK(overlay.regions[0].x == 180);
    // The second moves up by 50 until it is seen, and the first with it.
    CHECK(overlay.regions[0].y == 190);
    CHECK(overlay.regions[0].height == 40);
    CHECK(overlay.regions[1].y == 320);
    // Without a canvas of its own it is the picture's, and without borders nothing happens.
    Overlay plain;
    plain.regions.push_back({5, 5, 10, 10, {}, {}});
    filter::move_inside(plain, {}, 320, 240);
    CHECK(plain.canvas_width == 0);
    filter::move_inside(plain, {0, 0, 20, 20}, 320, 240);
    CHECK(plain.canvas_height == 200);
    CHECK(plain.regions[0].y == 0);
}

TEST_CASE("the reduced dynamic range makes 3 dB of difference 1 dB", "[night]") {
    const auto through = [](double decibels) {
        AudioFrames audio = tone(decibels, 6);
        filter::NightRange night(48000);
        night.apply(audio);
        return level(audio);
    };
    CHECK(through(-27) == Approx(-27).margin(0.5));
    CHECK(through(-12) == Approx(-22).margin(0.5));
    CHECK(through(-39) == Approx(-31).margin(0.5));
    // At most 12 dB louder; and noise isn't lifted out of silence.
    CHECK(through(-50) == Approx(-38).margin(0.7));
    CHECK(through(-75) < -74);
    // An explosion behind a whisper is caught at once.
    AudioFrames audio = tone(-40, 3), loud = tone(-6, 1);
    audio.samples.insert(audio.samples.end(), loud.samples.begin(), loud.samples.end());
    filter::NightRange night(48000);
    night.apply(audio);
    double after = 0;  // between 50 and 150 ms behind its beginning
    for (std::size_t n = 2 * 146400; n < 2 * 151200; ++n)
        after += static_cast<double>(audio.samples[n]) * static_cast<double>(audio.samples[n]) / 9600;
    CHECK(10 * std::log10(after) < -15);
}

TEST_CASE("the limiter keeps to a ceiling", "[limiter]") {
    filter::Limiter limiter(48000, 2, 0.5f);
    std::vector<AudioFrames> out;
    limiter.push(tone(-1, 1), out);
    limiter.flush(out);
    float most = 0;
    for (const AudioFrames& audio : out) {
        for (const float sample : audio.samples) most = std::max(most, std::abs(sample));
    }
    CHECK(most <= 0.5001f);
    CHECK(most > 0.45f);
}
