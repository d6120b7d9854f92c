// What hasn't been seen is no pass: live streams that ended or stand still, films whose tracks run away from each
// other.
#include <catch2/catch.hpp>

#include "verify/checks.hpp"
#include "verify/receiving.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;
using device::Verdict;
using verify::Film;

namespace {

Verdict of(const verify::Verification& v, const std::string& name) {
    for (const device::Check& check : v.checks) {
        if (check.name == name) return check.verdict;
    }
    FAIL("no check " << name);
    return Verdict::fail;
}

// 25 frames a second with a step, and audio in pieces of 20 ms.
Film film(int frames, Time step, double audio_seconds) {
    Film film;
    film.track_states.resize(2);
    film.track_states[0].pictures = true;
    for (int i = 0; i < frames; ++i) film.track_states[0].pieces.push_back({0, 1, i * step, step, i % 25 == 0});
    for (int i = 0; i < static_cast<int>(audio_seconds * 50); ++i)
        film.track_states[1].pieces.push_back({0, 1, i * Time(20ms), 20ms, true});
    return film;
}
verify::Verification judged(const Film& film) {
    verify::Verification v;
    verify::add_film_timing(v, film);
    return v;
}

}  // namespace

TEST_CASE("a live stream that gives little of the time it was listened to is no pass", "[verify]") {
    const auto seen = [](Time of_it, bool ended, bool to_end = false) {
        verify::Verification v;
        verify::Job job;
        job.listen = 10s;
        job.to_end = to_end;
        verify::add_seen(v, job, of_it, ended);
        return of(v, "seen");
    };
    CHECK(seen(10s, false) == Verdict::pass);
    CHECK(seen(8s, false) == Verdict::pass);
    CHECK(seen(5s, true) == Verdict::warn);
    CHECK(seen(2ms, true) == Verdict::fail);  // over when it was asked for
    CHECK(seen(2s, false) == Verdict::fail);  // nobody publishes: what was cached came, and no more
    CHECK(seen(2s, true, true) == Verdict::pass);
}

TEST_CASE("a stream that is paused while nothing of it was seen is told as paused", "[verify]") {
    verify::Job job;
    job.address = "http://x/live.ts";
    verify::Receiving r(job, false);
    ByteVector empty(188, 0xFF);
    empty[0] = 0x47;
    empty[1] = 0x1F;
    CHECK_FALSE(r.is_paused());
    r.clock->wait_until(2s);
    CHECK_FALSE(r.is_paused());  // nothing came: that is another fault
    r.take_transport(empty);
    CHECK(r.is_paused());
    r.v.paused = r.is_paused();
    CHECK_FALSE(verify::judge_content(r, job, "http", Cancel()));
    CHECK(r.v.verdict == Verdict::fail);
    CHECK(r.v.summary == "the stream is paused");
    CHECK(of(r.v, "content") == Verdict::fail);
}

TEST_CASE("a film whose tracks aren't as long as one another fails", "[verify]") {
    CHECK(of(judged(film(250, 40ms, 10)), "track lengths") == Verdict::pass);
    CHECK(of(judged(film(250, 40ms, 10.4)), "track lengths") == Verdict::pass);
    CHECK(of(judged(film(270, 55ms, 11.26)), "track lengths") == Verdict::fail);
    // Of two hours a minute is within one in a hundred: credits without music.
    CHECK(of(judged(film(7200 * 25, 40ms, 7140)), "track lengths") == Verdict::pass);
    Film silent = film(100, 40ms, 0);
    silent.track_states.pop_back();
    CHECK(of(judged(silent), "audio") == Verdict::warn);
}

TEST_CASE("frames at one time, and times that jerk, are seen", "[verify]") {
    CHECK(of(judged(film(250, 40ms, 10)), "frame times") == Verdict::pass);
    Film doubled = film(250, 40ms, 10);
    for (std::size_t i = 1; i < 250; i += 10)
        doubled.track_states[0].pieces[i].pts = doubled.track_states[0].pieces[i - 1].pts;
    CHECK(of(judged(doubled), "frame times") == Verdict::fail);
    Film jerking = film(250, 40ms, 10);
    for (std::size_t i = 1; i < 250; i += 4) jerking.track_states[0].pieces[i].pts += 30ms;
    CHECK(of(judged(jerking), "frame times") == Verdict::warn);
    // In the order of decoding times go up and down; that is no fault.
    Film reordered = film(240, 40ms, 9.6);
    for (std::size_t i = 0; i + 2 < 240; i += 3)
        std::swap(reordered.track_states[0].pieces[i + 1].pts, reordered.track_states[0].pieces[i + 2].pts);
    CHECK(of(judged(reordered), "frame times") == Verdict::pass);
}
