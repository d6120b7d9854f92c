// When conversions work, on a made-up clock.
#include "job/nice.hpp"

#include <catch2/catch.hpp>

#include "stream/watched.hpp"

using namespace wavecrest;
using job::Nice;
using job::Pacer;

namespace {

// A machine on which work takes what is asked of it, and waiting is a step of the clock.
struct Machine {
    double seconds = 0, worked = 0;
    int minute = 12 * 60;
    bool suffers = false, watched = false;
    int asked = 0;

    job::World world() {
        job::World world;
        world.now = [this] { return base::from_seconds(seconds); };
        world.minute = [this] { return minute; };
        world.worked = [this] { return worked; };
        world.processors = 2;
        world.suffers = [this] {
            ++asked;
            return suffers && watched;
        };
        world.watched = [this] { return watched; };
        return world;
    }
    // One picture that takes both processors for 0.1 s, after what the pacer wants to wait.
    double picture(Pacer& pacer) {
        const double wait = base::to_seconds(pacer.wait());
        seconds += wait;
        if (wait == 0) {
            seconds += 0.1;
            worked += 0.2;
        }
        return wait;
    }
};

}  // namespace

TEST_CASE("hours and shares are read as people write them", "[job]") {
    const auto both = job::parse_nice("22:00-07:00, 50 %");
    REQUIRE(both);
    CHECK(both->hours->from == 22 * 60);
    CHECK(both->hours->to == 7 * 60);
    CHECK(both->share == 0.5);
    CHECK(job::parse_nice("25%")->share == 0.25);
    CHECK(job::parse_nice(" 0:30 - 24:00 ")->hours->to == 0);
    for (const char* text : {"", "night", "22:00", "22-7", "22:00-22:00", "25:00-07:00", "22:61-07:00", "0 %", "101 %",
                             "50", "50 %,", "50 %, 40 %", "1:00-2:00,3:00-4:00", "-5 %", "22:00-", "%"}) {
        CAPTURE(text);
        const auto nice = job::parse_nice(text);
        REQUIRE_FALSE(nice);
        CHECK(nice.error().kind == ErrorKind::usage);
        CHECK_FALSE(nice.error().remedy.empty());
    }
}

TEST_CASE("work waits for its hours, over midnight, too", "[job]") {
    Machine machine;
    Pacer night(*job::parse_nice("22:00-07:00"), machine.world()), day(*job::parse_nice("9:00-17:30"), machine.world());
    const auto works = [&](Pacer& pacer, int hour, int minute) {
        machine.minute = hour * 60 + minute;
        return pacer.wait().count() == 0;
    };
    CHECK_FALSE(works(night, 12, 0));
    CHECK(night.reason() == "paused until 22:00 (--nice)");
    CHECK_FALSE(works(night, 21, 59));
    CHECK(works(night, 22, 0));
    CHECK(night.reason().empty());
    CHECK(works(night, 0, 0));
    CHECK(works(night, 6, 59));
    CHECK_FALSE(works(night, 7, 0));
    CHECK_FALSE(works(day, 8, 59));
    CHECK(works(day, 9, 0));
    CHECK_FALSE(works(day, 17, 30));
}

TEST_CASE("a share of the processor is kept", "[job]") {
    const double share = GENERATE(0.1, 0.25, 0.5, 1.0);
    Machine machine;
    Nice nice;
    nice.share = share;
    Pacer pacer(nice, machine.world());
    for (int i = 0; i < 3000; ++i) machine.picture(pacer);
    CAPTURE(share, machine.seconds);
    CHECK(machine.worked / 2 / machine.seconds == Approx(share).margin(0.03));
}

TEST_CASE("work gives way to a stream that suffers, and tries again", "[job]") {
    Machine machine;
    machine.watched = true;
    Pacer pacer({}, machine.world());
    const auto run = [&](double seconds) {
        const double until = machine.seconds + seconds, worked = machine.worked;
        while (machine.seconds < until) machine.picture(pacer);
        return machine.worked - worked;
    };
    // All is well: nothing waits, and it is asked only now and then.
    CHECK(run(60) == Approx(120).margin(1));
    CHECK(machine.asked <= 14);
    machine.suffers = true;
    run(6);
    CHECK_FALSE(pacer.reason().empty());
    // While it suffers whenever this works, it works less and less.
    const double first = run(300), later = run(3000);
    CHECK(first / 600 < 0.35);
    CHECK(later / 6000 < 0.06);
    // Nobody watches any more: at once, but for the few seconds between questions.
    machine.watched = false;
    CHECK(run(60) > 100);
    CHECK(pacer.reason().empty());
}

TEST_CASE("what servers tell of their viewers is summed up", "[job]") {
    const auto told = stream::watched_in(R"({"late_99_s": 0.02, "viewers": [{"skipped": 2}, {}],
        "streams": [{"stalls": 3, "rate_bps": 0, "datagrams": 0}]})");
    CHECK(told.anybody);
    CHECK(told.troubles == 5);
    CHECK(told.late_s == 0.02);
    CHECK(stream::watched_in(R"({"viewers": [], "streams": [{"rate_bps": 8000000, "datagrams": 17}]})").anybody);
    CHECK_FALSE(stream::watched_in(R"({"viewers": [], "streams": [{"rate_bps": 0, "datagrams": 17}]})").anybody);
    for (const char* text :
         {"", "[]", "{\"viewers\": 3}", "{\"viewers\": [3, null]}", "{\"streams\": [{\"stalls\": \"x\"}]}", "{"}) {
        CAPTURE(text);
        CHECK(stream::watched_in(text).troubles == 0);
        CHECK_FALSE(stream::watched_in(text).anybody);
    }
}
