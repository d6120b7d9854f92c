// Who gives way when connections are too many; who may guess keys.
#include <catch2/catch.hpp>

#include "base/clock.hpp"
#include "net/crowd.hpp"
#include "net/guess_limiter.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;
using net::Guest;

namespace {

class HandClock : public base::Clock {
  public:
    Time now() const override { return now_; }
    void wait_until(Time time) override { now_ = time; }
    void pass(Time time) { now_ += time; }

  private:
    Time now_{};
};

}  // namespace

TEST_CASE("those that ask nothing give way before those that take nothing, and a newcomer last", "[crowd]") {
    net::CrowdLimits limits;
    limits.most = 4;
    limits.most_of_address = 3;
    std::vector<Guest> guests = {{"10.0.0.1", true, 1s}, {"10.0.0.2", false, 2s}, {"10.0.0.3", false, 9s}};
    CHECK_FALSE(net::who_gives_way(guests, "10.0.0.4", limits));  // there is room
    guests.push_back({"10.0.0.4", true, 30s});
    CHECK(net::who_gives_way(guests, "10.0.0.5", limits) == 2);  // the quietest that asks nothing
    guests[1].served = guests[2].served = true;
    CHECK(net::who_gives_way(guests, "10.0.0.5", limits) == 3);  // what it is sent lies there for 30 s
    for (Guest& guest : guests) guest.quiet = 1s;
    CHECK(net::who_gives_way(guests, "10.0.0.5", limits) == guests.size());  // all are being served
}

TEST_CASE("an address with too many connections gives way to itself alone", "[crowd]") {
    net::CrowdLimits limits;
    limits.most = 100;
    limits.most_of_address = 2;
    const std::vector<Guest> guests = {{"10.0.0.9", false, 50s}, {"10.0.0.1", false, 3s}, {"10.0.0.1", false, 7s}};
    CHECK(net::who_gives_way(guests, "10.0.0.1", limits) == 2);
    CHECK_FALSE(net::who_gives_way(guests, "10.0.0.2", limits));
}

TEST_CASE("in a crowd who asks nothing stays for seconds, and open files are kept for all else", "[crowd]") {
    const net::CrowdLimits limits = net::crowd_limits(1024);
    CHECK(limits.most * 3 + 100 < 1024);
    CHECK(net::idle_limit(10, limits) == 60s);
    CHECK(net::idle_limit(limits.most, limits) == 5s);
    CHECK(net::crowd_limits(50).most >= 16);
    CHECK(net::crowd_limits(1 << 20).most == 10'000);
}

TEST_CASE("guessing keys is slowed down for its own address alone", "[keys]") {
    HandClock clock;
    net::GuessLimiter guesses(clock);
    int tried = 0;
    while (guesses.may_try("10.0.0.1")) {
        guesses.failed("10.0.0.1");
        ++tried;
    }
    CHECK(tried == net::GuessLimiter::kAtOnce);
    CHECK(guesses.may_try("10.0.0.2"));
    clock.pass(3100ms);
    CHECK(guesses.may_try("10.0.0.1"));
    guesses.failed("10.0.0.1");
    CHECK_FALSE(guesses.may_try("10.0.0.1"));
    // One host has as many addresses of IPv6 as it likes.
    for (int i = 0; i < net::GuessLimiter::kAtOnce; ++i) guesses.failed("2001:db8:1:2::" + std::to_string(i));
    CHECK_FALSE(guesses.may_try("2001:db8:1:2::ffff"));
    CHECK(guesses.may_try("2001:db8:1:3::1"));
    // Addresses without end are forgotten, not kept.
    for (int i = 0; i < 20'000; ++i) guesses.failed("10.1." + std::to_string(i / 250) + "." + std::to_string(i % 250));
    CHECK(guesses.may_try("10.0.0.1"));
}

TEST_CASE("keys are hidden in whatever is written down", "[keys]") {
    CHECK(net::without_keys("http://10.0.0.1:8080/a.mp4?key=harbour-24&x=1 failed") ==
          "http://10.0.0.1:8080/a.mp4?key=***&x=1 failed");
    CHECK(net::without_keys("a?x=1&key=one, b?key=two") == "a?x=1&key=***, b?key=***");
    CHECK(net::without_keys("the monkey=3") == "the monkey=3");
}
