#include <catch2/catch.hpp>

#include <numeric>

#include "measure/playback.hpp"
#include "measure/rate.hpp"

using namespace wavecrest;
using measure::PlaybackModel;
using measure::RateCurve;

namespace {
Time s(double seconds) {
    return base::from_seconds(seconds);
}
}  // namespace

TEST_CASE("mean, peak and seconds of a curve worked out by hand", "[rate]") {
    // 1000 bytes in each of two seconds, 4000 in the third, 500 in the last half second.
    const RateCurve curve({{s(0), s(1), 1000}, {s(1), s(2), 1000}, {s(2), s(3), 4000}, {s(3), s(3.5), 500}});
    CHECK(curve.bytes() == 6500);
    CHECK(curve.duration() == s(3.5));
    CHECK(curve.mean_bps() == Approx(6500 * 8 / 3.5).margin(1));
    CHECK(curve.peak_bps() == 32000);
    CHECK(curve.peak_bps(s(2)) == (4000 + 1000) * 8 / 2);
    CHECK(curve.peak_bps(s(60)) == curve.mean_bps());
    const auto seconds = curve.per_second();
    REQUIRE(seconds.size() == 4);
    CHECK(seconds[0] == Approx(8000));
    CHECK(seconds[2] == Approx(32000));
    CHECK(seconds[3] == Approx(8000));
}

TEST_CASE("what a buffer must hold at a rate is the worst interval's excess", "[rate]") {
    // 8, 32 and 4 kbit in a second each, then 24.
    const RateCurve curve({{s(0), s(1), 1000}, {s(1), s(2), 4000}, {s(2), s(3), 500}, {s(3), s(4), 3000}});
    CHECK(curve.buffer_bits(0) == Approx(68000));
    CHECK(curve.buffer_bits(10000) == Approx(22000 - 6000 + 14000));
    CHECK(curve.buffer_bits(20000) == Approx(12000));
    CHECK(curve.buffer_bits(32000) == Approx(0).margin(1e-6));
    CHECK(RateCurve().buffer_bits(0) == 0);
}

TEST_CASE("bytes tell the time", "[rate]") {
    const RateCurve curve({{s(0), s(1), 1000}, {s(1), s(2), 3000}});
    CHECK(curve.time_of(0) == s(0));
    CHECK(base::to_seconds(curve.time_of(500)) == Approx(0.5));
    CHECK(base::to_seconds(curve.time_of(2500)) == Approx(1.5));
    CHECK(curve.time_of(4000) == s(2));
    CHECK(curve.time_of(9999) == s(2));
    CHECK(RateCurve().time_of(5) == Time{});
}

TEST_CASE("the highest second need not begin on a whole one", "[rate]") {
    const RateCurve curve({{s(0), s(1.5), 0}, {s(1.5), s(2.5), 5000}, {s(2.5), s(4), 0}});
    CHECK(curve.peak_bps() == 40000);
    const auto seconds = curve.per_second();
    CHECK(*std::max_element(seconds.begin(), seconds.end()) == Approx(20000));
}

TEST_CASE("tracks add up, and nothing is nothing", "[rate]") {
    const RateCurve both({{s(0), s(2), 2000}, {s(0), s(2), 1000}, {s(1), s(2), 500}});
    CHECK(both.bytes() == 3500);
    CHECK(both.peak_bps() == Approx(2000 * 8));
    const RateCurve none;
    CHECK(none.mean_bps() == 0);
    CHECK(none.peak_bps() == 0);
    CHECK(none.per_second().empty());
    const RateCurve instant({{s(1), s(1), 100}});
    CHECK(instant.bytes() == 100);
}

TEST_CASE("a player that is always fed starts once and never stalls", "[playback]") {
    PlaybackModel player({s(2), s(10), s(30)});
    player.arrived(s(0.1), s(1));
    CHECK_FALSE(player.started());
    player.arrived(s(0.4), s(2));
    REQUIRE(player.started());
    CHECK(*player.startup() == s(0.4));
    for (int i = 1; i <= 30; ++i) player.arrived(s(0.4 + i), s(2 + i));
    player.finish(s(40));
    CHECK(player.stalls().empty());
    CHECK(player.position() == s(30));
}

TEST_CASE("a stall begins when the buffer runs dry and ends when enough is there again", "[playback]") {
    PlaybackModel player({s(2), s(10), s(20)});
    player.arrived(s(1), s(4));  // starts at 1
    player.arrived(s(8), s(5));  // dry since 5; one second more is not enough
    CHECK_FALSE(player.playing());
    player.arrived(s(9), s(6.5));  // 2.5 s in hand: goes on
    CHECK(player.playing());
    player.arrived(s(10), s(20));
    player.finish(s(10));
    REQUIRE(player.stalls().size() == 1);
    CHECK(player.stalls()[0].at == s(4));
    CHECK(player.stalls()[0].clock == s(5));
    CHECK(player.stalls()[0].length == s(4));
    CHECK(player.position() == s(20));
    // Buffer levels: never negative, never above what had arrived.
    for (const auto& level : player.levels()) {
        CHECK(level.level >= Time{});
        CHECK(level.level <= s(20));
    }
}

TEST_CASE("a player that takes a while to show its first picture has so much more in hand", "[playback]") {
    measure::PlayerSettings settings;
    settings.start_buffer = settings.resume_buffer = s(2);
    settings.buffer = s(10);
    settings.duration = s(20);
    settings.start_delay = s(0.5);
    PlaybackModel player(settings);
    player.arrived(s(1), s(2));
    CHECK(player.startup() == s(1.5));
    player.arrived(s(1.25), s(2.5));
    CHECK(player.position() == Time{});
    player.arrived(s(3), s(2.5));
    CHECK(player.position() == s(1.5));
    player.arrived(s(5), s(4.75));  // dry since 4
    REQUIRE(player.stalls().size() == 1);
    CHECK(player.stalls()[0].clock == s(4));
    CHECK(player.stalls()[0].length == s(1));
    // Going on, it has all it needs.
    player.arrived(s(6), s(20));
    CHECK(player.position() == s(3.5));
    player.finish(s(30));
    CHECK(player.stalls().size() == 1);
    CHECK(player.position() == s(20));
    // All that it will ever get, before it shows anything.
    PlaybackModel whole(settings);
    whole.arrived(s(1), s(20));
    whole.finish(s(1.1));
    CHECK(whole.position() == s(20));
    CHECK(whole.levels().back().clock == s(21.5));
}

TEST_CASE("the end of the title counts as enough", "[playback]") {
    PlaybackModel player({s(5), s(10), s(3)});
    player.arrived(s(0.5), s(3));
    CHECK(player.started());
    player.finish(s(0.6));
    CHECK(player.stalls().empty());
    CHECK(player.position() == s(3));
}

TEST_CASE("a stream that breaks off leaves an open stall, closed at the end", "[playback]") {
    PlaybackModel player({s(1), s(10), s(60)});
    player.arrived(s(0), s(2));
    player.arrived(s(7), s(2));
    player.finish(s(9));
    REQUIRE(player.stalls().size() == 1);
    CHECK(player.stalls()[0].length == s(7));
    PlaybackModel never({s(1), s(10), s(60)});
    never.arrived(s(1), s(0.5));
    never.finish(s(5));
    CHECK_FALSE(never.startup());
}

TEST_CASE("a stall that nobody sees is none, unless there are several", "[playback]") {
    const auto lengths = [](std::vector<int> stalls_ms) {
        std::vector<measure::Stall> stalls;
        for (const int ms : stalls_ms) stalls.push_back({{}, std::chrono::milliseconds(ms), {}});
        std::vector<int> seen;
        for (const measure::Stall& one : measure::seen_stalls(stalls))
            seen.push_back(static_cast<int>(base::to_seconds(one.length) * 1000 + 0.5));
        return seen;
    };
    CHECK(lengths({99}).empty());
    CHECK(lengths({100}) == std::vector{100});
    CHECK(lengths({60, 90, 99}).empty());
    CHECK(lengths({60, 90, 10, 100}) == std::vector{60, 90, 100});
    CHECK(lengths({0, 120, 50}) == std::vector{120});
}

TEST_CASE("what a player drops it has to fetch again, and it stands until then", "[playback]") {
    PlaybackModel player({s(1), s(10), s(60)});
    player.arrived(s(0), s(4));
    CHECK(player.drop(s(1.5)) == s(1.5));
    player.arrived(s(2), s(2));  // half a second more: not enough
    CHECK_FALSE(player.playing());
    player.arrived(s(3.5), s(5.5));
    CHECK(player.playing());
    REQUIRE(player.stalls().size() == 1);
    CHECK(player.stalls()[0].at == s(1.5));
    CHECK(player.stalls()[0].length == s(2));
    CHECK(player.startup() == s(0));
    // Before it has begun there is no stall: it begins later.
    PlaybackModel slow({s(1), s(10), s(60)});
    slow.arrived(s(1), s(0.5));
    CHECK(slow.drop(s(2)) == Time{});
    slow.arrived(s(4), s(2));
    CHECK(slow.startup() == s(4));
    CHECK(slow.stalls().empty());
}

TEST_CASE("a full buffer waits for room", "[playback]") {
    PlaybackModel player({s(1), s(10), s(60)});
    player.arrived(s(1), s(14));
    CHECK(player.room_at(s(1)) == s(5));
    player.arrived(s(5), {});
    CHECK(player.room_at(s(5)) == s(5));
    CHECK(player.position() == s(4));
}

TEST_CASE("a player wants more after each stall, up to a most", "[playback]") {
    measure::PlayerSettings settings{s(1), s(10), s(60)};
    settings.resume_buffer = s(0.5);
    settings.resume_growth = 2;
    settings.most_resume_buffer = s(1.5);
    PlaybackModel player(settings);
    double clock = 0, media = 0;
    // Runs dry again and again, and is given tenths of a second of media each tenth of a second until it goes on.
    std::vector<double> wanted;
    media = 1;
    player.arrived(s(clock), s(media));
    for (int stall = 0; stall < 4; ++stall) {
        REQUIRE(player.playing());
        clock += 5;
        player.arrived(s(clock), s(media));
        REQUIRE_FALSE(player.playing());
        const double before = media;
        while (!player.playing()) player.arrived(s(clock += 0.1), s(media += 0.1));
        wanted.push_back(media - before);
    }
    CHECK(wanted[0] == Approx(0.5).margin(0.101));
    CHECK(wanted[1] == Approx(1).margin(0.101));
    CHECK(wanted[2] == Approx(1.5).margin(0.101));
    CHECK(wanted[3] == Approx(1.5).margin(0.101));
    CHECK(player.stalls().size() == 4);
}

TEST_CASE("a player that is full reads on when it has played some of it", "[playback]") {
    measure::PlayerSettings settings{s(1), s(10), s(60)};
    settings.refill = s(6);
    PlaybackModel player(settings);
    player.arrived(s(1), s(10));
    CHECK(player.room_at(s(1)) == s(1));
    player.arrived(s(2), s(14));  // 13 s in hand
    CHECK(player.room_at(s(2)) == s(9));
}

namespace {

// So many bytes for each second of a title, which come in parts of seconds.
class ByTheSecond : public measure::Arrivals {
  public:
    explicit ByTheSecond(const std::vector<std::uint64_t>& bytes) {
        for (const std::uint64_t one : bytes) ends_.push_back((ends_.empty() ? 0 : ends_.back()) + one);
    }
    Time playable(std::uint64_t received) override {
        std::size_t whole = 0;
        while (whole < ends_.size() && ends_[whole] <= received) ++whole;
        return s(static_cast<double>(whole));
    }
    void restart() override {}
    std::uint64_t bytes() const override { return ends_.back(); }
    std::uint64_t part_end(std::uint64_t at) const override {
        return *std::upper_bound(ends_.begin(), ends_.end(), at);
    }

  private:
    std::vector<std::uint64_t> ends_;
};

}  // namespace

TEST_CASE("the slowest link that does is found", "[playback]") {
    // 8 Mbit in each second: what it begins with a second of, it needs 8 Mbit/s for.
    measure::PlayerSettings settings{s(1), s(20), s(20)};
    ByTheSecond even(std::vector<std::uint64_t>(20, 1'000'000));
    auto slowest = measure::slowest_link(settings, even, {}, 100'000'000);
    REQUIRE(slowest);
    CHECK(*slowest == Approx(8e6).epsilon(0.03));
    settings.start_buffer = s(10);
    slowest = measure::slowest_link(settings, even, {}, 100'000'000);
    REQUIRE(slowest);
    // Ten seconds of media before the start, at most 15 s: 5.33 Mbit/s; then the last second must be there after 19 s
    // of playing: 160 Mbit in 80/r + 19, so r >= 80/19 Mbit/s. The start decides.
    CHECK(*slowest == Approx(80e6 / 15).epsilon(0.03));
    // Five busy seconds of 24 Mbit behind ten quiet ones of 4, and a small buffer: they come as fast as they are
    // played.
    std::vector<std::uint64_t> burst(10, 500'000);
    burst.insert(burst.end(), 5, 3'000'000);
    ByTheSecond busy(burst);
    measure::PlayerSettings small{s(1), s(2), s(15)}, large{s(1), s(12), s(15)};
    const auto with_small = measure::slowest_link(small, busy, {}, 100'000'000);
    const auto with_large = measure::slowest_link(large, busy, {}, 100'000'000);
    REQUIRE(with_small);
    REQUIRE(with_large);
    CHECK(*with_small > 17'000'000);
    // All is there in time when the last second of it is: 156 Mbit of the 160 within 14 s and the start.
    CHECK(*with_large == Approx(156e6 / 14).epsilon(0.06));
    // What passes between parts counts; where nothing does, nothing is found.
    CHECK(*measure::slowest_link({s(1), s(20), s(20)}, even, s(0.5), 100'000'000) == Approx(16e6).epsilon(0.03));
    CHECK_FALSE(measure::slowest_link({s(1), s(20), s(20)}, even, s(2), 100'000'000));
}
