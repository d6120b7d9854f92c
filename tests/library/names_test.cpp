#include "library/names.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using library::named_as;

TEST_CASE("films are named by their file or folder", "[library]") {
    const auto film = named_as("Lanterns (2019)/Lanterns (2019).mp4");
    CHECK(film.title == "Lanterns");
    CHECK(film.year == 2019);
    CHECK(film.series.empty());
    CHECK(named_as("Lanterns.mp4").title == "Lanterns");
    CHECK(named_as("Fog.Bell.mkv").title == "Fog Bell");
    CHECK(named_as("St. Anne's Bay.mkv").title == "St. Anne's Bay");
    CHECK(named_as("fog_bell [1999].mkv").year == 1999);
    CHECK(named_as("Fog Bell (2021)/film.mkv").year == 2021);
    CHECK(named_as("1984.mkv").title == "1984");
    CHECK(named_as("1984.mkv").year == 0);
    CHECK(named_as("Year 3021 (1021).mkv").year == 0);
    CHECK(named_as(std::string(3000, 'x') + ".mp4").title.size() == 400);
}

TEST_CASE("episodes are known by their number, however it is written", "[library]") {
    struct Case {
        const char* path;
        const char* series;
        int season, episode;
        const char* title;
    };
    for (const Case& c :
         {Case{"Shore Stories/Season 01/Shore Stories - S01E02 - The Pier.mkv", "Shore Stories", 1, 2, "The Pier"},
          Case{"Shore Stories/Season 2/S02E11.mp4", "Shore Stories", 2, 11, "Episode 11"},
          Case{"shore.stories.s03e04.the.pier.mkv", "shore stories", 3, 4, "the pier"},
          Case{"Shore Stories 1x05 Fog.avi", "Shore Stories", 1, 5, "Fog"},
          Case{"Shore Stories (2018)/Season 00/Shore Stories (2018) - S00E01.mkv", "Shore Stories", 0, 1, "Episode 1"},
          Case{"S01E01.mp4", "Series", 1, 1, "Episode 1"}}) {
        CAPTURE(c.path);
        const auto named = named_as(c.path);
        CHECK(named.series == c.series);
        CHECK(named.season == c.season);
        CHECK(named.episode == c.episode);
        CHECK(named.title == c.title);
    }
    CHECK(named_as("1920x1080 test.mp4").series.empty());
}

TEST_CASE("music is named by its folders where its tags are silent", "[library]") {
    const auto track = named_as("Lake Trio/Still Water/03 - Night Ferry.flac");
    CHECK(track.performer == "Lake Trio");
    CHECK(track.album == "Still Water");
    CHECK(track.track == 3);
    CHECK(track.track_title == "Night Ferry");
    CHECK(library::sorting("The Fog Bell") == "fog bell");
    CHECK(library::sorting("A") == "a");
    CHECK(library::is_media("a.MKV"));
    CHECK_FALSE(library::is_media("a.txt"));
    CHECK_FALSE(library::is_media("mp4"));
}
