#include "site/capacity.hpp"

#include <catch2/catch.hpp>

#include "site/check.hpp"
#include "support/support.hpp"

using namespace wavecrest;

TEST_CASE("a machine is measured from its codecs to its drives", "[capacity]") {
    const test::TempDir folder;
    site::MeasureSettings settings;
    settings.speeds.sizes = {{720, 480}};
    settings.speeds.efforts = {1};
    settings.speeds.effort = 1;
    settings.speeds.seconds = 0.01;
    settings.live_seconds = 0.1;
    settings.server_seconds = 0.2;
    settings.folders = {folder.path(), "/proc"};
    settings.films = {test::sample_film()};
    const base::Cancel never;
    const auto capacity = site::measure_machine(settings, {}, never);
    REQUIRE(capacity);
    CHECK(capacity->processors >= 1);
    CHECK(capacity->at.size() == 16);
    // The DVD's size was there to be transcoded live, with both profiles.
    REQUIRE(capacity->live.size() == 2);
    for (const measure::LiveSpeed& one : capacity->live) {
        CHECK(one.source == "720x480 MPEG-2, 29.97 fps");
        CHECK(one.at_once > 0);
        CHECK(one.predicted > 0);
    }
    CHECK(capacity->server_bps > 1e6);
    REQUIRE(capacity->drives.size() >= 2);
    CHECK(capacity->drives[0].read > 0);
    CHECK(capacity->drives[0].write > 0);
    CHECK(capacity->drives[1].read == 0);
    CHECK(std::filesystem::is_empty(folder.path()));
}

TEST_CASE("live transcodes are judged by what was measured, alone and together", "[capacity]") {
    measure::Capacity capacity;
    capacity.processors = 2;
    site::TranscodeDemand demand;
    demand.streams = {{"Lanterns", "small-screen", {0.6, 0.3}}, {"Reeds", "small-screen", {0.8, 0.4}}};
    demand.processors = 1.4;
    CHECK(demand.carried(capacity));
    CHECK(site::judge_demand(demand, capacity, "site.toml").empty());
    // Each keeps up, both do not.
    demand.streams[1].load = {1.4, 0.7};
    demand.processors = 2.0;
    CHECK_FALSE(demand.carried(capacity));
    auto findings = site::judge_demand(demand, capacity, "site.toml");
    REQUIRE(findings.size() == 1);
    CHECK(findings[0].about.what.find("2 live transcodes at once keep 2.0 processors busy") == 0);
    // One is too slow by itself: that is what is told.
    demand.streams[1].load = {2.8, 1.4};
    findings = site::judge_demand(demand, capacity, "site.toml");
    REQUIRE(findings.size() == 1);
    CHECK(findings[0].about.what.find("\"Reeds\" with small-screen at 0.71 times") != std::string::npos);
    // What isn't known is no pass.
    demand = {};
    demand.unknown = {"Old tape"};
    findings = site::judge_demand(demand, capacity, "site.toml");
    REQUIRE(findings.size() == 1);
    CHECK(findings[0].about.what.find("isn't known") != std::string::npos);
}
