#include "measure/rendering.hpp"

#include <catch2/catch.hpp>

#include <cmath>

using namespace wavecrest;
using measure::Reading;

namespace {

// Readings four times a second of a player that begins after `startup` and stands still at `halt` for so long; its
// position in whole seconds where `whole`.
std::vector<Reading> readings(double startup, double halt, double length, double end, bool whole, bool tells) {
    std::vector<Reading> all;
    for (double clock = 0; clock < end; clock += 0.25) {
        double position = std::max(0.0, clock - startup);
        const bool halted = length > 0 && position > halt && position < halt + length;
        if (halted)
            position = halt;
        else if (length > 0 && position >= halt + length)
            position -= length;
        if (whole) position = std::floor(position);
        const bool waits = halted && tells;
        all.push_back({base::from_seconds(clock),
                       clock < startup || waits ? Reading::State::waiting : Reading::State::playing,
                       base::from_seconds(position)});
    }
    return all;
}

}  // namespace

TEST_CASE("a player that goes on evenly has no stalls, whatever its position's grain", "[rendering]") {
    for (const bool whole : {false, true}) {
        const auto r = measure::rendering_of(readings(1.3, 0, 0, 30, whole, true));
        CHECK(r.started);
        CHECK(base::to_seconds(r.startup) == Approx(1.3).margin(0.5));
        CHECK(r.stalls.empty());
        CHECK(r.speed == Approx(1).margin(0.03));
        CHECK_FALSE(r.ended);
    }
}

TEST_CASE("halts are found, told or not", "[rendering]") {
    for (const bool whole : {false, true}) {
        for (const bool tells : {false, true}) {
            const auto r = measure::rendering_of(readings(0.5, 10, 3, 40, whole, tells));
            CAPTURE(whole, tells);
            REQUIRE(r.stalls.size() == 1);
            CHECK(base::to_seconds(r.stalls[0].length) == Approx(3).margin(0.6));
            CHECK(base::to_seconds(r.stalls[0].at) == Approx(10).margin(1.01));
            CHECK(r.speed == Approx(1).margin(0.05));
        }
    }
}

TEST_CASE("what never moves hasn't started, and what stands still at the end is a stall", "[rendering]") {
    std::vector<Reading> still;
    for (int i = 0; i < 40; ++i) still.push_back({base::from_seconds(i * 0.25), Reading::State::playing, Time{}});
    CHECK_FALSE(measure::rendering_of(still).started);
    CHECK_FALSE(measure::rendering_of({}).started);
    auto stuck = readings(0.5, 10, 1000, 30, true, false);
    const auto r = measure::rendering_of(stuck);
    REQUIRE(r.stalls.size() == 1);
    CHECK(base::to_seconds(r.stalls[0].length) > 15);
    // One that ends by itself.
    auto ended = readings(0.5, 0, 0, 10, false, true);
    ended.push_back({base::from_seconds(10), Reading::State::stopped, Time{}});
    CHECK(measure::rendering_of(ended).ended);
    CHECK(measure::rendering_of(ended).stalls.empty());
}

TEST_CASE("a position that runs too slowly shows in the speed", "[rendering]") {
    std::vector<Reading> slow;
    for (int i = 0; i < 100; ++i)
        slow.push_back({base::from_seconds(i * 0.25), Reading::State::playing, base::from_seconds(i * 0.25 * 0.8)});
    CHECK(measure::rendering_of(slow).speed == Approx(0.8).margin(0.02));
}
