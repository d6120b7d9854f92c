// Seeks by the model of a player, on a clock of the test's own and a link of even speed.
#include "verify/seeks.hpp"

#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using base::from_seconds;
using base::to_seconds;

namespace {

class SetClock : public Clock {
  public:
    Time now() const override { return now_; }
    void wait_until(Time time) override { now_ = std::max(now_, time); }

  private:
    Time now_{};
};

// Ten segments of four seconds, each of which takes so long to come, in four parts.
struct Film {
    explicit Film(double seconds) {
        for (int i = 1; i <= 10; ++i) film.ends.push_back(from_seconds(4 * i));
        film.fetch = [this, seconds](std::size_t number, const auto& keep_on) -> Result<bool> {
            fetched.push_back(number);
            for (int part = 1; part <= 4; ++part) {
                clock.wait_until(clock.now() + from_seconds(seconds / 4));
                if (!keep_on(part / 4.0)) return false;
            }
            return true;
        };
    }
    std::vector<double> seek(const device::Playing& playing) {
        const Cancel cancel;
        const auto seeks = verify::seek_in_segments(film, playing, clock, cancel);
        REQUIRE(seeks);
        REQUIRE(seeks->size() == 3);
        std::vector<double> took;
        for (const verify::SeekOrder& one : *seeks) took.push_back(to_seconds(one.first_picture));
        landed.clear();
        for (const verify::SeekOrder& one : *seeks) landed.push_back(to_seconds(one.landed));
        return took;
    }

    SetClock clock;
    verify::SegmentedFilm film;
    std::vector<std::size_t> fetched;
    std::vector<double> landed;
};

device::Playing player() {
    device::Playing playing;
    playing.start_buffer = from_seconds(0.5);
    playing.hls_buffer = from_seconds(12);
    return playing;
}

}  // namespace

TEST_CASE("a seek in segments takes the one that holds the place, and what of its successor is wanted", "[verify]") {
    // 20 s, 10 s and 30 s: the segments 5, 2 (in its middle) and 7 (likewise).
    Film film(1.0);
    CHECK(film.seek(player()) == std::vector<double>{1, 1, 1});
    CHECK(film.landed == std::vector<double>{20, 10, 30});
    // More than what is left of it.
    device::Playing careful = player();
    careful.start_buffer = from_seconds(2.5);
    Film again(1.0);
    CHECK(again.seek(careful) == std::vector<double>{1, 2, 2});
}

TEST_CASE("a player of parts of segments, and one of keyframes, land sooner", "[verify]") {
    device::Playing parts = player();
    parts.whole_segments = false;
    Film film(1.0);
    // Half a second of four in the first part; 2.5 s in three parts.
    CHECK(film.seek(parts) == std::vector<double>{0.25, 0.75, 0.75});
    parts.seeks_exactly = false;
    Film again(1.0);
    CHECK(again.seek(parts) == std::vector<double>{0.25, 0.25, 0.25});
    CHECK(again.landed == std::vector<double>{20, 8, 28});
}

TEST_CASE("a seek waits for the segment on its way where the player finishes it, and not where its buffer is full",
          "[verify]") {
    device::Playing playing = player();
    playing.finishes_segment = true;
    // Each takes three seconds: of the one that follows, one is left after two. Before the first seek it has played for
    // three: it has just come, and the next isn't asked for any more.
    Film slow(3.0);
    CHECK(slow.seek(playing) == std::vector<double>{3, 4, 4});
    // On a fast link the buffer is full at once: nothing is on its way.
    Film fast(0.1);
    for (const double took : fast.seek(playing)) CHECK(took == Approx(0.1));
    // One segment, and two that fill the buffer of 12 s; less before the second seek, which lands in a segment's
    // middle.
    CHECK(fast.fetched.size() <= 16);
}

TEST_CASE("a film of no segments, and one that can't be fetched", "[verify]") {
    const Cancel cancel;
    SetClock clock;
    const auto none = verify::seek_in_segments({}, player(), clock, cancel);
    REQUIRE(none);
    CHECK(none->empty());
    Film film(1.0);
    film.film.fetch = [](std::size_t, const auto&) -> Result<bool> {
        return fail(ErrorKind::wanting, "gone", "segment", "start it again");
    };
    CHECK_FALSE(verify::seek_in_segments(film.film, player(), clock, cancel));
    Cancel stopped;
    stopped.request();
    Film other(1.0);
    CHECK_FALSE(verify::seek_in_segments(other.film, player(), clock, stopped));
}

TEST_CASE("what of a file was read, and when a player reads on rather than asking anew", "[verify]") {
    verify::ReadRuns runs(1000);
    CHECK(runs.at(500, 0).to == 1000);       // it has come
    CHECK(runs.at(1500, 600).from == 0);     // near enough to be read through
    CHECK(runs.at(1500, 500).from == 1500);  // not so near
    runs.at(1500, 0).to = 2000;
    CHECK(runs.at(1200, 600).from == 1200);  // what it read before ends near by, but is not what it reads now
    CHECK(runs.at(1900, 0).from == 1500);    // back to where it was
    CHECK(runs.at(2400, 600).from == 1500);  // and on from there
}
