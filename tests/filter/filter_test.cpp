#include <catch2/catch.hpp>

#include <chrono>

#include "filter/film.hpp"
#include "filter/scale.hpp"
#include "filter/sound_timeline.hpp"

using namespace wavecrest;

namespace {

const Ratio kFilm{24000, 1001};
const Ratio kFields{60000, 1001};

Picture at(Time pts, int fields) {
    Picture picture;
    picture.pts = pts;
    picture.fields = fields;
    picture.duration = base::frames_to_time(fields, kFields);
    return picture;
}

Sound sound_at(Time pts, std::size_t frames, float value = 0.5f) {
    Sound sound;
    sound.pts = pts;
    sound.sample_rate = 48000;
    sound.channels = 2;
    sound.samples.assign(frames * 2, value);
    return sound;
}

}  // namespace

TEST_CASE("film pictures get even times, none lost, no drift over two hours", "[film]") {
    filter::FilmTiming film(kFilm);
    std::int64_t fields = 0;
    const std::int64_t count = 24 * 7200;
    for (std::int64_t i = 0; i < count; ++i) {
        const int shown = i % 2 == 0 ? 3 : 2;
        Picture picture = at(base::frames_to_time(fields, kFields), shown);
        film.apply(picture);
        REQUIRE(picture.pts == base::frames_to_time(i, kFilm));
        REQUIRE(picture.duration == base::frames_to_time(1, kFilm));
        CHECK(picture.fields == 2);
        fields += shown;
    }
}

TEST_CASE("a gap starts a new even grid at the picture's own time", "[film]") {
    filter::FilmTiming film(kFilm);
    Time last{};
    for (int i = 0; i < 10; ++i) {
        Picture picture = at(base::frames_to_time(i * 5 / 2 + (i * 5 % 2), kFields), 2);
        film.apply(picture);
        last = picture.pts;
    }
    const Time later = last + base::from_seconds(2);
    Picture first = at(later, 3);
    film.apply(first);
    CHECK(first.pts == later);
    Picture second = at(later + base::frames_to_time(3, kFields), 2);
    film.apply(second);
    CHECK(second.pts == later + base::frames_to_time(1, kFilm));
}

TEST_CASE("sound that follows on passes unchanged", "[sound]") {
    filter::SoundTimeline timeline;
    Time pts = base::from_seconds(5);
    for (int i = 0; i < 100; ++i) {
        Sound sound = sound_at(pts, 503);
        CHECK(timeline.follow_on(sound) == 0);
        CHECK(sound.frames() == 503);
        CHECK(sound.pts == pts);
        pts += base::from_ticks(503, 48000);
    }
}

TEST_CASE("missing sound asks for silence of the same length, overlaps are trimmed", "[sound]") {
    filter::SoundTimeline timeline;
    Sound first = sound_at({}, 480);
    CHECK(timeline.follow_on(first) == 0);
    Sound late = sound_at(base::from_ticks(480 + 4800, 48000), 480);
    CHECK(timeline.follow_on(late) == 4800);
    CHECK(late.pts == base::from_ticks(480 + 4800, 48000));
    CHECK(late.frames() == 480);
    const std::int64_t end = 480 + 4800 + 480;
    Sound early = sound_at(base::from_ticks(end - 200, 48000), 480);
    CHECK(timeline.follow_on(early) == 0);
    CHECK(early.frames() == 280);
    CHECK(early.pts == base::from_ticks(end, 48000));
    // Wholly in the past: nothing is left, and nothing breaks.
    Sound past = sound_at({}, 100);
    CHECK(timeline.follow_on(past) == 0);
    CHECK(past.frames() == 0);
}

TEST_CASE("rounded stamps are no gaps, broken ones no hours of silence", "[sound]") {
    filter::SoundTimeline timeline;
    for (int i = 0; i < 1000; ++i) {
        // Stamped in 90 kHz ticks.
        const Time exact = base::from_ticks(i * 161, 48000);
        Sound sound = sound_at(base::from_ticks(base::to_ticks(exact, 90000), 90000), 161);
        CHECK(timeline.follow_on(sound) == 0);
        CHECK(sound.frames() == 161);
    }
    Sound broken = sound_at(base::from_seconds(50'000), 100);
    CHECK(timeline.follow_on(broken) == 0);
    CHECK(broken.frames() == 100);
}

TEST_CASE("scaling keeps flat areas, times and colour, and sets the pixel aspect", "[scale]") {
    auto scaler = filter::Scaler::create(720, 480, 854, 480, {1, 1});
    REQUIRE(scaler);
    Picture flat = Picture::allocate(720, 480);
    for (int plane = 0; plane < 3; ++plane) {
        std::fill_n(flat.planes[plane], flat.strides[plane] * (plane == 0 ? 480 : 240),
                    static_cast<std::uint8_t>(50 + 40 * plane));
    }
    flat.pts = base::from_seconds(3);
    flat.duration = base::from_seconds(0.04);
    flat.colour = {6, 6, 6, false};
    flat.pixel_aspect = {32, 27};
    const auto scaled = (*scaler)->apply(flat);
    REQUIRE(scaled);
    CHECK(scaled->width == 854);
    CHECK(scaled->pts == flat.pts);
    CHECK(scaled->duration == flat.duration);
    CHECK(scaled->colour == flat.colour);
    CHECK(scaled->pixel_aspect == Ratio{1, 1});
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? 480 : 240, columns = plane == 0 ? 854 : 427;
        for (int y = 0; y < rows; y += 17) {
            for (int x = 0; x < columns; ++x)
                REQUIRE(scaled->planes[plane][y * scaled->strides[plane] + x] == 50 + 40 * plane);
        }
    }
    CHECK_FALSE((*scaler)->apply(Picture::allocate(352, 288)));
}
