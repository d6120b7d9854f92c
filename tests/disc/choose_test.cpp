// Choosing among titles, by made-up discs.
#include "disc/choose.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using disc::Role;

namespace {

// A title of pieces named by letters: each is a piece of the disc of `seconds`, lying in alphabetical order.
disc::TitleShape title(int number, const std::string& pieces, double seconds, std::vector<double> chapters = {0}) {
    disc::TitleShape shape;
    shape.number = number;
    for (const char piece : pieces) {
        shape.segments.push_back({std::string(1, piece), base::from_seconds(seconds), piece * 100, piece * 100 + 100});
        shape.duration += base::from_seconds(seconds);
    }
    for (const double start : chapters) shape.chapters.push_back(base::from_seconds(start));
    shape.audio_tracks = 1;
    return shape;
}

}  // namespace

TEST_CASE("choose: the longest title is the film, whatever its number", "[choose]") {
    const auto choices = disc::choose_titles({title(1, "a", 60), title(2, "b", 5400), title(3, "c", 300)});
    CHECK(choices.main == 2);
    CHECK(choices.episodes.empty());
    CHECK(choices.titles[1].role == Role::film);
    CHECK(choices.titles[1].why.find("5:00") != std::string::npos);
    CHECK(choices.titles[0].role == Role::bonus);
    CHECK(disc::choose_titles({title(1, "a", 60)}).titles[0].why == "the only title");
}

TEST_CASE("choose: a duplicate is told, and the one with more tracks stays", "[choose]") {
    auto titles = std::vector{title(1, "abc", 1800), title(2, "abc", 1800), title(3, "z", 100)};
    titles[1].subtitle_tracks = 3;
    const auto choices = disc::choose_titles(titles);
    CHECK(choices.main == 2);
    CHECK(choices.titles[0].role == Role::duplicate);
    CHECK(choices.titles[0].same_as == 2);
}

TEST_CASE("choose: of titles with the same pieces in different orders the one that runs along the disc is the film",
          "[choose]") {
    const auto choices = disc::choose_titles({title(1, "acbed", 1000), title(2, "edcba", 1000), title(3, "abcde", 1000),
                                              title(4, "baced", 1000), title(5, "z", 90)});
    CHECK(choices.main == 3);
    for (const std::size_t i : {0u, 1u, 3u}) {
        CHECK(choices.titles[i].role == Role::fake);
        CHECK(choices.titles[i].why.find("title 3") != std::string::npos);
    }
    CHECK(choices.titles[4].role == Role::bonus);
}

TEST_CASE("choose: episodes by nearly track lengthss", "[choose]") {
    const auto choices = disc::choose_titles(
        {title(1, "a", 30), title(2, "b", 2500), title(3, "c", 2600), title(4, "d", 2450), title(5, "e", 2700)});
    REQUIRE(choices.episodes.size() == 4);
    CHECK(choices.episodes[0].title == 2);
    CHECK(choices.episodes[3].title == 5);
    CHECK(choices.titles[0].role == Role::bonus);
    // Two long titles are no series: a film in two versions, or a film and a long documentary.
    CHECK(disc::choose_titles({title(1, "a", 5400), title(2, "b", 5600)}).episodes.empty());
    // Nor are extras of equal length beside a film.
    CHECK(disc::choose_titles({title(1, "a", 5400), title(2, "b", 600), title(3, "c", 610), title(4, "d", 620)})
              .episodes.empty());
}

TEST_CASE("choose: a title that plays others in a row, and the same episode listed once", "[choose]") {
    const auto choices = disc::choose_titles({title(1, "abcdef", 700), title(2, "ab", 700), title(3, "cd", 700),
                                              title(4, "ef", 700), title(5, "ab", 700), title(6, "x", 60)});
    REQUIRE(choices.episodes.size() == 3);
    CHECK(choices.titles[0].role == Role::all);
    CHECK(choices.titles[1].role == Role::episode);
    CHECK(choices.titles[4].role == Role::duplicate);
    CHECK(choices.titles[5].role == Role::bonus);
    CHECK(choices.main == 1);
}

TEST_CASE("choose: a film with a logo before it, both also alone, is no series", "[choose]") {
    auto logo = title(2, "a", 20), film = title(3, "b", 5400);
    auto both = title(1, "ab", 0);
    both.duration = logo.duration + film.duration;
    const auto choices = disc::choose_titles({both, logo, film});
    CHECK(choices.episodes.empty());
    CHECK(choices.main == 1);
}

TEST_CASE("choose: episodes as chapter groups of one title", "[choose]") {
    // Opening 60 s, acts, credits 40 s, three times.
    std::vector<double> starts;
    double at = 0;
    for (const double act : {600.0, 640.0, 610.0}) {
        for (const double length : {60.0, act, act + 20, 40.0}) {
            starts.push_back(at);
            at += length;
        }
    }
    auto all = title(1, "a", at, starts);
    const auto choices = disc::choose_titles({all, title(2, "b", 200)});
    REQUIRE(choices.episodes.size() == 3);
    CHECK(choices.episodes[1].title == 1);
    CHECK(choices.episodes[1].first_chapter == 5);
    CHECK(choices.episodes[1].last_chapter == 8);
    CHECK(base::to_seconds(choices.episodes[1].start) == Approx(starts[4]));
    CHECK(base::to_seconds(choices.episodes[2].end) == Approx(at));
    // A film with even chapters is none.
    CHECK(disc::choose_titles({title(1, "a", 6000, {0, 600, 1200, 1800, 2400, 3000, 3600, 4200})}).episodes.empty());
    // Nor one with chapters of any length.
    CHECK(disc::choose_titles({title(1, "a", 6000, {0, 150, 1000, 1490, 2600, 3100, 4500, 5800})}).episodes.empty());
}
