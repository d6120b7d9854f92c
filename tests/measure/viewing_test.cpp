#include <catch2/catch.hpp>

#include "measure/viewing.hpp"

using namespace wavecrest;
using measure::ViewerSight;
using measure::Viewing;
using measure::ViewingWatch;

namespace {

measure::PlayerSettings plain(const std::string&, bool) {
    measure::PlayerSettings settings;
    settings.start_buffer = base::from_seconds(1);
    settings.resume_buffer = base::from_seconds(1);
    settings.buffer = base::from_seconds(10);
    return settings;
}

// A viewer of a film of 60 s, looked at five times a second.
struct Room {
    ViewingWatch watch{plain};
    Time now{};

    void look(double until, bool wants, double from = 0, bool active = true) {
        ViewerSight sight{"192.168.1.30", "Screen/1.0", "Lanterns"};
        sight.from = base::from_seconds(from);
        sight.until = base::from_seconds(until);
        sight.wants = wants;
        sight.is_active = active;
        sight.duration = base::from_seconds(60);
        watch.look(now, {sight});
        now += base::from_seconds(0.2);
    }
    // What arrives goes from one time of the film to another, over so many seconds.
    void fetch(double from, double to, double over, double asked_from = 0) {
        const int looks = static_cast<int>(over * 5);
        for (int i = 1; i <= looks; ++i) look(from + (to - from) * i / looks, true, asked_from);
    }
    void nobody(double for_s) {
        for (int i = 0; i < for_s * 5; ++i) {
            watch.look(now, {});
            now += base::from_seconds(0.2);
        }
    }
    Viewing only() const {
        const auto all = watch.viewings();
        REQUIRE(all.size() == 1);
        return all.front();
    }
};

}  // namespace

TEST_CASE("a viewer whose film comes fast enough has no stall, and plays to the end", "[viewing]") {
    Room room;
    room.fetch(0, 12, 2);
    // Its buffer is full: it reads on at the pace of playing.
    for (int i = 0; i < 48 * 5; ++i) room.look(12 + i / 5.0, i % 3 == 0);
    CHECK(room.only().held_back);
    CHECK(room.only().stalls.empty());
    room.nobody(60);
    const Viewing seen = room.only();
    CHECK(seen.ended);
    CHECK(seen.end() == Viewing::End::complete);
    CHECK(seen.startup);
    CHECK(base::to_seconds(*seen.startup) == Approx(0.2).margin(0.2));
    CHECK(seen.stalls.empty());
    CHECK(room.watch.take_gone().size() == 1);
    CHECK(room.watch.take_gone().empty());
}

TEST_CASE("what comes at half the pace of playing stalls for as long as it lacks", "[viewing]") {
    Room room;
    room.fetch(0, 20, 40);
    const Viewing seen = room.only();
    CHECK(seen.stalls.size() > 5);
    // 40 s on the clock, 20 s of film; the first second waits for the start.
    CHECK(base::to_seconds(seen.stalled()) == Approx(40 - 20 - 2).margin(1.5));
    CHECK(base::to_seconds(seen.position) == Approx(20).margin(1));
    CHECK(seen.end() == Viewing::End::playing);
}

TEST_CASE("who asks for nothing isn't short of anything", "[viewing]") {
    Room room;
    room.fetch(0, 10, 2);
    // Paused: its connection stands by for a minute.
    for (int i = 0; i < 60 * 5; ++i) room.look(10, false);
    room.fetch(10, 60, 10);
    const Viewing seen = room.only();
    CHECK(seen.stalls.empty());
    CHECK(seen.held_back);
}

TEST_CASE("a seek is told from going on, and a look at the file's end is no seek", "[viewing]") {
    Room room;
    room.look(0.1, true);
    room.look(59.9, true, 59.5);  // the index, say
    room.fetch(0, 10, 2);
    CHECK(room.only().seeks == 0);
    room.fetch(40, 50, 2, 40);
    CHECK(room.only().seeks == 1);
    CHECK(base::to_seconds(room.only().position) > 39);
    CHECK(room.only().stalls.empty());
    room.fetch(5, 15, 2, 5);
    CHECK(room.only().seeks == 2);
    CHECK(base::to_seconds(room.only().position) < 12);
}

TEST_CASE("who leaves after the header, or midway, or during a stall is told apart", "[viewing]") {
    Room once;
    once.look(0.2, true);
    once.nobody(40);
    CHECK(once.only().end() == Viewing::End::left_at_once);

    Room midway;
    midway.fetch(0, 20, 15);
    midway.nobody(60);
    CHECK(midway.only().end() == Viewing::End::left);
    CHECK(midway.only().stalls.empty());

    // The last seconds it wanted more and got nothing.
    Room dry;
    dry.fetch(0, 10, 5);
    for (int i = 0; i < 20 * 5; ++i) dry.look(10, true);
    const Viewing seen = dry.only();
    REQUIRE(seen.stalls.size() == 1);
    CHECK(base::to_seconds(seen.stalls[0].length) == Approx(14).margin(2));
}

TEST_CASE("viewers are told apart by address, name and stream, and are bounded", "[viewing]") {
    ViewingWatch watch(plain);
    std::vector<ViewerSight> sights;
    for (int i = 0; i < 3000; ++i) {
        ViewerSight sight{"192.168.1." + std::to_string(i), "a", "Lanterns"};
        sight.until = base::from_seconds(5);
        sight.duration = base::from_seconds(60);
        sights.push_back(sight);
    }
    watch.look({}, sights);
    CHECK(watch.viewings().size() == ViewingWatch::kMostAtOnce);
    watch.look(base::from_seconds(3600), {});
    CHECK(watch.viewings().size() == ViewingWatch::kMostKept);
    for (ViewerSight& sight : sights) sight.address = "192.168.1.1";
    sights.resize(3);
    sights[1].agent = "b";
    sights[2].stream = "Other";
    ViewingWatch other(plain);
    other.look({}, sights);
    CHECK(other.viewings().size() == 3);
}

namespace {

// A viewer of a live stream that was joined 40 s after its start, two seconds behind a keyframe.
struct LiveRoom : Room {
    std::uint64_t skips = 0;
    double from = 40;
    void look_live(double until, double lag, bool wants = true) {
        ViewerSight sight{"192.168.1.40", "Screen/1.0", "Lake camera"};
        sight.live = 7;
        sight.from = base::from_seconds(from);
        sight.until = base::from_seconds(until);
        sight.lag = base::from_seconds(lag);
        sight.skips = skips;
        sight.wants = wants;
        watch.look(now, {sight});
        now += base::from_seconds(0.2);
    }
};

}  // namespace

TEST_CASE("a viewer of a live stream that takes all of it has no stall, and is gone when it goes", "[viewing]") {
    LiveRoom room;
    for (int i = 0; i <= 300; ++i) room.look_live(42 + i * 0.2, 0);
    CHECK(room.only().live);
    CHECK(room.only().stalls.empty());
    CHECK(base::to_seconds(room.only().position) == Approx(60).margin(0.5));
    // Paused for everybody: nobody is short of anything.
    for (int i = 0; i < 100; ++i) room.look_live(102, 0, false);
    CHECK(room.only().stalls.empty());
    for (int i = 0; i <= 50; ++i) room.look_live(102 + i * 0.2, 0);
    CHECK(room.only().stalls.empty());
    room.nobody(0.4);
    CHECK(room.only().ended);
    CHECK(room.only().end() == Viewing::End::left);
    CHECK(room.only().most_lag.count() == 0);
}

TEST_CASE("a live viewer that is too slow stalls, and is moved on without a seek", "[viewing]") {
    LiveRoom room;
    // It gets eight tenths of the stream: the two seconds it had last for ten.
    for (int i = 0; i <= 150; ++i) room.look_live(42 + i * 0.16, i * 0.04);
    const Viewing slow = room.only();
    REQUIRE_FALSE(slow.stalls.empty());
    CHECK(base::to_seconds(slow.stalls.front().clock) == Approx(10).margin(1));
    CHECK(base::to_seconds(slow.most_lag) == Approx(6).margin(0.1));
    // What is missing of 30 s, but for what it had and what lies ready.
    CHECK(base::to_seconds(slow.stalled()) == Approx(30 - 26).margin(1.1));
    room.skips = 1;
    room.from = 72;
    for (int i = 0; i <= 50; ++i) room.look_live(73 + i * 0.2, 0);
    const Viewing moved = room.only();
    CHECK(moved.skips == 1);
    CHECK(moved.seeks == 0);
    CHECK(base::to_seconds(moved.position) == Approx(32 + 10).margin(1.1));
    CHECK(moved.stalled() <= slow.stalled() + base::from_seconds(0.3));
    // Paused by itself, then going on with what is sent by now: neither a stall nor a skip.
    for (int i = 0; i < 50; ++i) room.look_live(83, 0, false);
    room.from = 93;
    room.look_live(94.5, 0);
    for (int i = 0; i <= 50; ++i) room.look_live(94.5 + i * 0.2, 0);
    CHECK(room.only().skips == 1);
    CHECK(room.only().seeks == 0);
    CHECK(room.only().stalled() <= moved.stalled() + base::from_seconds(0.3));
    // A source that gives nothing is a stall, though nothing waits.
    for (int i = 0; i < 30; ++i) room.look_live(104.5, 0);
    CHECK(base::to_seconds(room.only().stalled() - moved.stalled()) == Approx(4.5).margin(0.6));
}
