// Parts of titles, and picking them.
#include "source/cut.hpp"

#include <catch2/catch.hpp>

#include <cmath>

#include "codec/mpeg2_decoder.hpp"
#include "source/input.hpp"
#include "sample/test_card.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::unique_ptr<source::Input> open(const base::Path& path) {
    auto input = source::open_input(path);
    if (!input) FAIL(input.error().what);
    return std::move(*input);
}

}  // namespace

TEST_CASE("an interval of a title has a timeline of its own", "[cut]") {
    const bool dvd = GENERATE(true, false);
    const auto input = open(dvd ? rich_dvd() : rich_blu_ray());
    // The third part of the play-all title: its chapters 4 to 6.
    const source::Title& all = input->titles()[3];
    REQUIRE(all.chapters.size() == 6);
    source::Pick pick{std::make_shared<const source::Title>(all), 3, all.chapters[3].start, all.duration};
    auto source = input->open(pick);
    REQUIRE(source);
    CHECK((*source)->duration() == all.duration - all.chapters[3].start);
    REQUIRE((*source)->chapters().size() == 3);
    CHECK((*source)->chapters()[0].start == Time{});
    const Track video = (*source)->tracks().front();
    const auto decoder = codec::make_mpeg2_decoder(video);
    std::vector<Picture> pictures;
    Time first_audio = Time::max(), last_audio{};
    while (true) {
        auto packet = (*source)->read();
        REQUIRE(packet);
        if (!*packet) break;
        if ((*packet)->track == video.id) {
            REQUIRE(decoder->decode(**packet, pictures));
        } else if ((*packet)->track == (*source)->tracks()[3].id) {
            first_audio = std::min(first_audio, (*packet)->pts);
            last_audio = std::max(last_audio, (*packet)->pts + (*packet)->duration);
        }
    }
    REQUIRE(decoder->flush(pictures));
    REQUIRE(pictures.size() > 60);
    CHECK(pictures.front().pts == Time{});
    CHECK(std::abs(base::to_seconds(pictures.back().pts + pictures.back().duration - (*source)->duration())) < 0.001);
    CHECK(std::abs(base::to_seconds(first_audio)) < 0.03);
    CHECK(std::abs(base::to_seconds(last_audio - (*source)->duration())) < 0.05);
    // From the middle of the interval on.
    REQUIRE((*source)->seek(base::from_seconds(1.5)));
    auto packet = (*source)->read();
    REQUIRE(packet);
    while (*packet && (*packet)->track != video.id) {
        packet = (*source)->read();
        REQUIRE(packet);
    }
    CHECK((*packet)->pts <= base::from_seconds(1.5));
    CHECK((*packet)->pts > base::from_seconds(0.8));
}

TEST_CASE("a cut that begins between keyframes keeps what decoding needs, with negative times", "[cut]") {
    const auto input = open(rich_dvd());
    auto whole = input->open(1);
    REQUIRE(whole);
    auto part = source::cut(std::move(*whole), base::from_seconds(1.3), base::from_seconds(3.1));
    REQUIRE(part);
    CHECK((*part)->duration() == base::from_seconds(1.8));
    std::optional<Time> first;
    Time last{};
    while (true) {
        auto packet = (*part)->read();
        REQUIRE(packet);
        if (!*packet) break;
        if ((*packet)->track != (*part)->tracks().front().id) {
            CHECK((*packet)->pts < base::from_seconds(1.8));
            continue;
        }
        if (!first) {
            first = (*packet)->pts;
            CHECK((*packet)->key);
        }
        last = (*packet)->pts;
    }
    REQUIRE(first);
    CHECK(*first < Time{});
    CHECK(*first > base::from_seconds(-0.6));
    CHECK(last < base::from_seconds(1.8));
    CHECK(last > base::from_seconds(1.7));
}

TEST_CASE("picks: main, episodes, all and numbers", "[cut]") {
    const auto input = open(rich_dvd());
    const auto numbers = [&](const std::string& choice) {
        std::vector<int> list;
        const auto picks = input->picks(choice);
        if (!picks) return list;
        for (const source::Pick& pick : *picks) list.push_back(pick.title->number);
        return list;
    };
    CHECK(numbers("main") == std::vector<int>{4});
    CHECK(numbers("episodes") == std::vector<int>{1, 2, 3});
    CHECK(numbers("all") == std::vector<int>{1, 2, 3, 4, 5});  // 6 repeats 1
    CHECK(numbers("6,2-3,2") == std::vector<int>{6, 2, 3});
    CHECK(numbers("7").empty());
    CHECK(numbers("3-2").empty());
    CHECK(numbers("1,").empty());
    CHECK(numbers("episode").empty());
    CHECK_FALSE(input->pick("episodes"));
    CHECK(input->picks("episodes")->at(2).episode == 3);
    const auto sample = open(sample_disc());
    CHECK_FALSE(sample->picks("episodes"));
    CHECK(sample->picks("main")->front().whole());
}
