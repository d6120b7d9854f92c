// Links whose rate changes on purpose: what is written, and what passes when.
#include "net/rate_steps.hpp"

#include <catch2/catch.hpp>
#include <chrono>

#include "base/clock.hpp"
#include "net/shaped_link.hpp"

using namespace wavecrest;
using namespace std::chrono_literals;

namespace {

class ManualClock : public Clock {
  public:
    Time now() const override { return at; }
    void wait_until(Time time) override { at = std::max(at, time); }
    Time at{};
};

}  // namespace

TEST_CASE("rates over time are read as people write them", "[squeeze]") {
    const auto steps = net::parse_rate_steps("8 Mbit/s 20 s, 1000 kbit/s 1 min,  8Mbps");
    REQUIRE(steps);
    REQUIRE(steps->size() == 3);
    CHECK((*steps)[0].rate_bps == 8'000'000);
    CHECK((*steps)[0].length == Time(20s));
    CHECK((*steps)[1].rate_bps == 1'000'000);
    CHECK((*steps)[1].length == Time(60s));
    CHECK((*steps)[2].length == Time{});
    CHECK(net::describe(*steps) == "8.00 Mbit/s 20.0 s, 1.00 Mbit/s 1 min 00 s, 8.00 Mbit/s");
    for (const char* wrong : {"", "fast", "8 Mbit/s,", "8 Mbit/s, 1 Mbit/s", "8 Mbit/s -3 s", "8 Mbit/s 20 s, 0 bit/s",
                              "8 Mbit/s 5 parsecs"}) {
        const auto refused = net::parse_rate_steps(wrong);
        CAPTURE(wrong);
        REQUIRE_FALSE(refused);
        CHECK(refused.error().kind == ErrorKind::usage);
    }
}

TEST_CASE("what passes is the sum of the steps, and waits follow from it", "[squeeze]") {
    const net::RateSteps rates({{8'000'000, 2s}, {800'000, 10s}, {8'000'000, {}}});
    CHECK(rates.rate_at(0s) == 8'000'000);
    CHECK(rates.rate_at(2s) == 800'000);
    CHECK(rates.rate_at(100s) == 8'000'000);
    CHECK(rates.between(0s, 2s) == Approx(2'000'000));
    CHECK(rates.between(1s, 4s) == Approx(1'000'000 + 200'000));
    CHECK(rates.between(0s, 13s) == Approx(2'000'000 + 1'000'000 + 1'000'000));
    CHECK(base::to_seconds(rates.when(1'000'000, 0s)) == Approx(1));
    CHECK(base::to_seconds(rates.when(2'100'000, 0s)) == Approx(3));
    CHECK(base::to_seconds(rates.when(3'500'000, 0s)) == Approx(12.5));
    ManualClock clock;
    net::ShapedLink link(rates, clock);
    for (int i = 0; i < 350; ++i) link.pass(10'000);
    CHECK(base::to_seconds(clock.at) == Approx(12.5).margin(0.05));
}

TEST_CASE("nothing passes while a link drops out", "[link]") {
    net::RateSteps rates(8'000'000);
    const net::Outages outages{2s, 10s, 5, false};
    rates.interrupt(outages);
    const auto gap = outages.next(Time{});
    CHECK(rates.between(Time{}, gap.from) == Approx(1e6 * base::to_seconds(gap.from)));
    CHECK(rates.between(gap.from, gap.to) == Approx(0).margin(1e-6));
    CHECK(rates.between(Time{}, 100s) == Approx(80e6));
    CHECK(rates.rate_at(gap.from + 1s) == 0);
    CHECK(rates.when(1e6, gap.from) >= gap.to + 1s - Time(1000));
    CHECK(base::to_seconds(rates.when(80e6, Time{})) == Approx(100).margin(2.1));
    // A link that is always out gives an answer, too.
    rates.interrupt({10s, 10s, 1, true});
    CHECK(rates.when(1e6, 20s) >= std::chrono::hours(1));
}
