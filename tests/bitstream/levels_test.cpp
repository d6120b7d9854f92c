#include "bitstream/levels.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;

namespace {

Track video(Codec codec, int width, int height, Ratio rate, int references) {
    Track track;
    track.codec = codec;
    track.width = width;
    track.height = height;
    track.frame_rate = rate;
    track.reference_frames = references;
    return track;
}

// Bits come evenly for so many seconds.
bitstream::BufferNeed even(double bps, double seconds) {
    return [=](double rate) { return std::max(0.0, (bps - rate) * seconds); };
}

}  // namespace

TEST_CASE("the level of H.264 follows size, rate, references and bits", "[levels]") {
    // Table A-1: 8160 macroblocks, 8192 allowed from level 4; 195840 a second of 245760.
    const Track film = video(Codec::h264, 1920, 1080, {24, 1}, 4);
    CHECK(bitstream::needed_level(film) == "4");
    CHECK(bitstream::needed_level(video(Codec::h264, 1920, 1080, {60, 1}, 4)) == "4.2");
    // Five references are 40800 macroblocks, of 32768 at level 4 and 110400 at level 5.
    CHECK(bitstream::needed_level(video(Codec::h264, 1920, 1080, {24, 1}, 5)) == "5");
    CHECK(bitstream::needed_level(video(Codec::h264, 720, 576, {25, 1}, 5)) == "3");
    CHECK(bitstream::needed_level(video(Codec::h264, 720, 576, {25, 1}, 6)) == "3.1");
    // Level 4 of High: 25 Mbit/s, and 31.25 Mbit buffered.
    CHECK(bitstream::needed_level(film, even(24e6, 10)) == "4");
    CHECK(bitstream::needed_level(film, even(30e6, 6)) == "4");
    CHECK(bitstream::needed_level(film, even(30e6, 7)) == "4.1");
    CHECK(bitstream::needed_level(film, even(5e9, 10)) == "above 6.2");
    CHECK(bitstream::needed_level(video(Codec::h264, 0, 0, {24, 1}, 1)).empty());
    CHECK(bitstream::needed_level(video(Codec::vp9, 1920, 1080, {24, 1}, 1)).empty());
}

TEST_CASE("the level of H.265 follows size, rate, pictures waiting, bits and tier", "[levels]") {
    Track film = video(Codec::h265, 1920, 1080, {24, 1}, 4);
    CHECK(bitstream::needed_level(film) == "4");
    CHECK(bitstream::needed_level(video(Codec::h265, 1920, 1080, {60, 1}, 4)) == "4.1");
    CHECK(bitstream::needed_level(video(Codec::h265, 3840, 2160, {24, 1}, 6)) == "5");
    CHECK(bitstream::needed_level(video(Codec::h265, 3840, 2160, {50, 1}, 6)) == "5.1");
    // A.4.2: a picture that is more than three quarters of the largest has 6; less than a quarter, 16.
    CHECK(bitstream::needed_level(video(Codec::h265, 1920, 1080, {24, 1}, 7)) == "5");
    CHECK(bitstream::needed_level(video(Codec::h265, 1280, 720, {24, 1}, 7)) == "4");
    CHECK(bitstream::needed_level(video(Codec::h265, 1280, 720, {24, 1}, 13)) == "5");
    // 13.2 Mbit/s at level 4, 22 at 4.1, 27.5 at 5; at level 4 of the High tier 33.
    CHECK(bitstream::needed_level(film, even(25e6, 100)) == "5");
    film.level = "4 High";
    CHECK(bitstream::needed_level(film, even(25e6, 100)) == "4 High");
    CHECK(bitstream::needed_level(video(Codec::h265, 9000, 5000, {24, 1}, 1)) == "above 6.2");
}

TEST_CASE("levels are numbers that grow with them", "[levels]") {
    CHECK(bitstream::level_number(Codec::h264, "4.1") == 41);
    CHECK(bitstream::level_number(Codec::h265, "5.1 High") == 51);
    CHECK(bitstream::level_number(Codec::h265, "5") == 50);
    CHECK(bitstream::level_number(Codec::mpeg2, "Main") == 0);
    CHECK(bitstream::level_number(Codec::h264, "above 6.2") > bitstream::level_number(Codec::h264, "6.2"));
}
