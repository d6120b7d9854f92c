// The rule by which a player of a ladder chooses, step by step as its header states it.
#include "measure/adaptation.hpp"

#include <catch2/catch.hpp>
#include <chrono>

using namespace wavecrest;
using namespace std::chrono_literals;
using measure::Adaptation;

namespace {

// Rungs of 0.5, 1, 2 and 4 Mbit/s; secure from 10 s on, low under 4 s.
Adaptation four_rungs() {
    return Adaptation({500'000, 1'000'000, 2'000'000, 4'000'000}, {10s, 4s});
}

// A segment of two seconds over a link of this rate.
void segment(Adaptation& adaptation, double link_bps) {
    adaptation.measured(250'000, base::from_seconds(2'000'000 / link_bps));
}

}  // namespace

TEST_CASE("a player begins with the lowest rung, then trusts what it measured the more it has in its buffer",
          "[adaptation]") {
    Adaptation adaptation = four_rungs();
    CHECK(adaptation.next({}, false).rung == 0);
    CHECK(adaptation.next({}, false).why == "nothing measured yet");
    segment(adaptation, 10e6);
    CHECK(adaptation.rate() == Approx(10e6));
    // Until its buffer is secure it trusts two fifths of what it measured.
    CHECK(adaptation.next(2s, false).rung == 3);
    Adaptation slower = four_rungs();
    segment(slower, 4e6);
    CHECK(slower.next(2s, false).rung == 1);
    CHECK(slower.next(9s, true).rung == 1);
    // From then on one step at a time, with enough in the buffer.
    segment(slower, 20e6);
    CHECK(slower.next(10s, true).rung == 2);
    CHECK(slower.next(9s, true).rung == 2);
    CHECK(slower.next(12s, true).rung == 3);
    const auto choice = slower.next(12s, true);
    CHECK(choice.rung == 3);
    CHECK(choice.why == "6.67 Mbit/s measured, 12.0 s in the buffer");
}

TEST_CASE("a rung fits when its peak is at most four fifths of what was measured", "[adaptation]") {
    for (const auto& [link, rung] :
         std::vector<std::pair<double, std::size_t>>{{2.6e6, 2}, {2.4e6, 1}, {5.1e6, 3}, {4.9e6, 2}, {0.3e6, 0}}) {
        Adaptation adaptation = four_rungs();
        segment(adaptation, link);
        for (int i = 0; i < 5; ++i) adaptation.next(20s, true);
        CAPTURE(link);
        CHECK(adaptation.rung() == rung);
    }
}

TEST_CASE("with less in the buffer it goes down at once, with much the buffer carries it", "[adaptation]") {
    Adaptation adaptation = four_rungs();
    segment(adaptation, 10e6);
    for (int i = 0; i < 5; ++i) adaptation.next(20s, true);
    REQUIRE(adaptation.rung() == 3);
    segment(adaptation, 1.5e6);  // the newest counts where it is lower
    CHECK(adaptation.rate() == Approx(1.5e6));
    CHECK(adaptation.next(15s, true).rung == 3);
    CHECK(adaptation.next(9s, true).rung == 1);
    CHECK(adaptation.next(3s, true).rung == 0);  // low: at most two fifths
    // Three good segments until the slow one is forgotten, and then up again, but not while the buffer is short.
    for (int i = 0; i < 3; ++i) segment(adaptation, 10e6);
    CHECK(adaptation.next(5s, true).rung == 0);
    CHECK(adaptation.next(10s, true).rung == 1);
}

TEST_CASE("a segment that comes too late is given up where a lower one comes sooner", "[adaptation]") {
    Adaptation adaptation = four_rungs();
    segment(adaptation, 10e6);
    for (int i = 0; i < 5; ++i) adaptation.next(20s, true);
    REQUIRE(adaptation.rung() == 3);
    CHECK_FALSE(adaptation.give_up(1000, 1'000'000, 300ms, 2s));      // it has only just begun
    CHECK_FALSE(adaptation.give_up(500'000, 1'000'000, 1s, 5s));      // it comes in time
    CHECK_FALSE(adaptation.give_up(990'000, 1'000'000, 60s, 100ms));  // a lower one would take longer
    const auto instead = adaptation.give_up(100'000, 1'000'000, 1s, 5s);
    REQUIRE(instead);
    CHECK(instead->rung == 0);  // 0.8 Mbit/s
    CHECK(instead->why.find("10 % of the segment had come") != std::string::npos);
    CHECK_FALSE(adaptation.give_up(10, 1'000'000, 10s, 1s));  // there is none below
}

TEST_CASE("levels follow the device's buffer, and how far behind a live edge it plays", "[adaptation]") {
    device::Playing playing;
    playing.hls_buffer = 30s;
    CHECK(measure::adaptation_of(playing).secure == Time(10s));
    CHECK(measure::adaptation_of(playing).low == Time(4s));
    playing.hls_buffer = 6s;
    CHECK(measure::adaptation_of(playing).secure == Time(4s));
    playing.hls_buffer = 90s;
    CHECK(measure::adaptation_of(playing).secure == Time(12s));
    CHECK(measure::adaptation_of(playing, 6s).secure == Time(3s));
}

TEST_CASE("each figure of the rule is the device class's own", "[adaptation]") {
    const std::vector<std::int64_t> peaks = {500'000, 1'000'000, 2'000'000, 4'000'000};
    measure::AdaptationSettings settings{10s, 4s};
    settings.first = 2;
    settings.rule.first_listed = true;
    CHECK(Adaptation(peaks, settings).next({}, false).rung == 2);
    settings.first = 9;  // (Of a list that promised more.)
    CHECK(Adaptation(peaks, settings).next({}, false).rung == 3);
    settings.first = 0;

    settings.rule.rungs_up = 2;
    settings.rule.link_share = 1;
    settings.rule.cautious_share = 0.1;
    settings.rule.measured_segments = 1;
    settings.rule.holds_rung = false;
    settings.rule.abandons_segments = false;
    Adaptation bold(peaks, settings);
    segment(bold, 4e6);
    CHECK(bold.next(2s, false).rung == 0);
    CHECK(bold.next(12s, true).rung == 2);
    CHECK(bold.next(12s, true).rung == 3);  // exactly what the link carries
    CHECK_FALSE(bold.give_up(100'000, 1'000'000, 1s, 5s));
    segment(bold, 1e6);
    CHECK(bold.next(20s, true).rung == 1);  // at once, though there is enough in the buffer
    segment(bold, 2e6);
    CHECK(bold.rate() == Approx(2e6));  // of the last alone
}

TEST_CASE("a class may state its levels itself", "[adaptation]") {
    device::Playing playing;
    playing.hls_buffer = 30s;
    playing.adapting.secure_buffer = 6s;
    CHECK(measure::adaptation_of(playing).secure == Time(6s));
    CHECK(measure::adaptation_of(playing).low == Time(2400ms));
    playing.adapting.low_buffer = 5s;
    CHECK(measure::adaptation_of(playing).low == Time(5s));
    CHECK(measure::adaptation_of(playing, 6s).low == Time(3s));  // never above the secure level
}
