#include "base/time.hpp"

#include <catch2/catch.hpp>

#include "base/clock.hpp"
#include "base/units.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;

TEST_CASE("flicks hold the periods in use exactly", "[time]") {
    // A second's worth of periods is a second, to the flick.
    CHECK(base::frames_to_time(24000, {24000, 1001}).count() == 1001 * base::kFlicksPerSecond);
    CHECK(base::frames_to_time(30000, {30000, 1001}).count() == 1001 * base::kFlicksPerSecond);
    CHECK(base::frames_to_time(1, {24000, 1001}).count() * 24000 == 1001 * base::kFlicksPerSecond);
    CHECK(base::frames_to_time(1, {60000, 1001}).count() * 60000 == 1001 * base::kFlicksPerSecond);
    CHECK(base::frames_to_time(1, {25, 1}).count() * 25 == base::kFlicksPerSecond);
    for (const std::int64_t rate : {90000, 48000, 44100, 1000, 24000}) {
        CHECK(base::from_ticks(1, rate).count() * rate == base::kFlicksPerSecond);
        for (const std::int64_t ticks : {0L, 1L, 1001L, 123456789L, -77L}) {
            CHECK(base::to_ticks(base::from_ticks(ticks, rate), rate) == ticks);
        }
    }
}

TEST_CASE("a 27 MHz clock survives the way there and back", "[time]") {
    for (std::int64_t ticks = 0; ticks < 27'000'000; ticks += 9'973) {
        REQUIRE(base::to_ticks(base::from_ticks(ticks, 27'000'000), 27'000'000) == ticks);
    }
}

TEST_CASE("rescaling rounds to nearest and does not overflow", "[time]") {
    CHECK(base::rescale(1, 1, 2) == 1);
    CHECK(base::rescale(-1, 1, 2) == -1);
    CHECK(base::rescale(1, 1, 3) == 0);
    CHECK(base::rescale(-2, 1, 3) == -1);
    CHECK(base::rescale(4'000'000'000'000'000'000, 3, 4) == 3'000'000'000'000'000'000);
    // A year at 90 kHz, in flicks.
    const std::int64_t year = 90'000LL * 86'400 * 365;
    CHECK(base::to_ticks(base::from_ticks(year, 90'000), 90'000) == year);
}

TEST_CASE("ratios are brought to lowest terms", "[time]") {
    CHECK(base::reduced({1280, 720}) == Ratio{16, 9});
    CHECK(base::reduced({5, 0}) == Ratio{0, 1});
    CHECK(base::reduced({0, 7}) == Ratio{0, 1});
}

TEST_CASE("a skipping clock moves over waits and keeps real time otherwise", "[clock]") {
    base::SkippingClock clock;
    const auto before = std::chrono::steady_clock::now();
    clock.wait_until(base::from_seconds(3600));
    CHECK(std::chrono::steady_clock::now() - before < 1s);
    CHECK(clock.now() >= base::from_seconds(3600));
    const Time now = clock.now();
    clock.wait_until(base::from_seconds(1));  // past already
    CHECK(clock.now() - now < base::from_seconds(0.5));
}

TEST_CASE("quantities are written as people read them", "[units]") {
    CHECK(base::format_bitrate(4'200'000) == "4.20 Mbit/s");
    CHECK(base::format_bitrate(94'100'000) == "94.1 Mbit/s");
    CHECK(base::format_bitrate(850'000) == "850 kbit/s");
    CHECK(base::format_bitrate(999'999) == "1.00 Mbit/s");
    CHECK(base::format_bitrate(12) == "12 bit/s");
    CHECK(base::format_bytes(1'040'000'000) == "1.04 GB");
    CHECK(base::format_bytes(820) == "820 bytes");
    CHECK(base::format_clock(base::from_seconds(5525)) == "1:32:05");
    CHECK(base::format_clock(base::from_seconds(15.4)) == "0:15");
    CHECK(base::format_span(base::from_seconds(0.35)) == "350 ms");
    CHECK(base::format_span(base::from_seconds(2.42)) == "2.4 s");
    CHECK(base::format_span(base::from_seconds(200)) == "3 min 20 s");
    CHECK(base::format_span(base::from_seconds(7500)) == "2 h 05 min");
    CHECK(base::format_rate({24000, 1001}) == "23.976");
    CHECK(base::format_rate({25, 1}) == "25");
    CHECK(base::format_count(1, "stream") == "1 stream");
    CHECK(base::format_count(0, "stream") == "0 streams");
}

TEST_CASE("quantities are read as people write them, and nothing else is", "[units]") {
    for (const char* same : {"8 Mbit/s", "8 Mbps", "8Mb/s", "8 mbit/s", "8000 kbps", "0.008 Gbps"}) {
        INFO(same);
        CHECK(base::parse_bitrate(same) == 8'000'000);
    }
    for (const char* same : {"90", "90 s", "90 sec", "1.5 min", "1.5 Minutes", "0.025 h", "90000 ms"}) {
        INFO(same);
        CHECK(base::parse_span(same) == base::from_seconds(90));
    }
    for (const char* same : {"4k", "4K", "UHD", "2160", "2160p", "3840x2160", "3840X2160"}) {
        INFO(same);
        const auto size = base::parse_size(same);
        REQUIRE(size);
        CHECK(size->width == 3840);
        CHECK(size->height == 2160);
    }
    CHECK(base::parse_bytes("16 mb") == 16'000'000u);
    CHECK(base::parse_bitrate("8 Mbit/s") == 8'000'000);
    CHECK(base::parse_bitrate("1.5Mbit/s") == 1'500'000);
    CHECK(base::parse_bitrate("96 kbit/s") == 96'000);
    CHECK(base::parse_span("250 ms") == base::from_seconds(0.25));
    CHECK(base::parse_span("2 min") == base::from_seconds(120));
    CHECK(base::parse_bytes("16 MB") == 16'000'000u);
    for (const char* wrong : {"", "8", "Mbit/s", "8 MB/s", "-8 Mbit/s", "nan Mbit/s", "1e300 Mbit/s", "8 Mbit/s "}) {
        INFO(wrong);
        CHECK_FALSE(base::parse_bitrate(wrong));
    }
    for (const char* wrong : {"", "s", "5 x", "-5", "1e9"}) CHECK_FALSE(base::parse_span(wrong));
    const auto hd = base::parse_size("1080p");
    REQUIRE(hd);
    CHECK(hd->width == 1920);
    CHECK(hd->height == 1080);
    const auto sd = base::parse_size("480p");
    REQUIRE(sd);
    CHECK(sd->width == 854);
    const auto exact = base::parse_size("640x360");
    REQUIRE(exact);
    CHECK(exact->width == 640);
    CHECK(exact->height == 360);
    for (const char* wrong : {"", "x", "0x0", "640x", "64", "640x-1", "99999x1", "480q"}) {
        INFO(wrong);
        CHECK_FALSE(base::parse_size(wrong));
    }
}
