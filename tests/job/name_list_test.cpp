// Lists that name a shelf.
#include "job/name_list.hpp"

#include <catch2/catch.hpp>

#include "job/shelf.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

TEST_CASE("lists come from spreadsheets and editors", "[job]") {
    const auto rows = job::parse_name_list(
        "\xEF\xBB\xBF"
        "Disc,Title,Name\r\n"
        "BOATHOUSE_D1, 2 ,Boathouse Stories S01E01\r\n"
        "\r\n"
        "\"Nets, and more\",,\"Nets: the \"\"long\"\" cut, restored (2020)\"\r\n"
        "last,3,End",
        "list.csv");
    REQUIRE(rows);
    REQUIRE(rows->size() == 3);
    CHECK((*rows)[0].disc == "BOATHOUSE_D1");
    CHECK((*rows)[0].title == 2);
    CHECK((*rows)[0].name == "Boathouse Stories S01E01");
    CHECK((*rows)[1].disc == "Nets, and more");
    CHECK((*rows)[1].title == 0);
    CHECK((*rows)[1].name == "Nets: the \"long\" cut, restored (2020)");
    CHECK((*rows)[1].line == 4);
    CHECK((*rows)[2].name == "End");
    CHECK(job::parse_name_list("a;;B\n", "list.csv")->front().name == "B");
    CHECK(job::parse_name_list("", "list.csv")->empty());
}

TEST_CASE("what is wrong with a list is told by its line", "[job]") {
    for (const auto& [text, line] : {std::pair{"a,1\n", 1},
                                     {"disc,title,name\na,1,B,c\n", 2},
                                     {"a,x,B\n", 1},
                                     {"a,0,B\n", 1},
                                     {"a,1x,B\n", 1},
                                     {"\n\na,,\n", 3},
                                     {",1,B\n", 1},
                                     {"a,1,\"B\nc,2,D\n", 1},
                                     {"a,99999999999,B\n", 1}}) {
        const auto rows = job::parse_name_list(text, "list.csv");
        CAPTURE(text);
        REQUIRE_FALSE(rows);
        CHECK(rows.error().kind == ErrorKind::usage);
        CHECK(rows.error().where == "list.csv, line " + std::to_string(line));
    }
}

TEST_CASE("rows mean discs by name or by the end of their path", "[job]") {
    const job::NameRow name{"D1", 0, "x", 1}, path{"second/D1", 0, "x", 1};
    CHECK(job::names(name, "/shelf/first/D1"));
    CHECK(job::names(name, "/shelf/first/D1/"));
    CHECK(job::names(name, "/shelf/D1.iso"));
    CHECK_FALSE(job::names(name, "/shelf/XD1"));
    CHECK(job::names(path, "/shelf/second/D1"));
    CHECK_FALSE(job::names(path, "/shelf/first/D1"));
}

TEST_CASE("each row of a list is a job of its own", "[job]") {
    const TempDir dir;
    write_media(dir / "shelf" / "a.mkv", "matroska", {video_track(Codec::h264, 10)});
    write_media(dir / "shelf" / "b.mkv", "matroska", {video_track(Codec::h264, 20)});
    const job::MakeJob make = [](const std::string& source) {
        job::Job job;
        job.source = source;
        return job;
    };
    const auto items =
        job::items_of({(dir / "shelf").string()}, make, {{"a", 1, "One S01E01", 1}, {"a", 2, "One S01E02", 2}});
    REQUIRE(items);
    REQUIRE(items->size() == 3);
    CHECK((*items)[0].job.selection.name == "One S01E01");
    CHECK((*items)[0].job.selection.pick == "1");
    CHECK((*items)[1].job.selection.pick == "2");
    CHECK((*items)[1].against.empty());
    CHECK((*items)[2].job.selection.name.empty());
    const auto unknown = job::items_of({(dir / "shelf").string()}, make, {{"c", 0, "Gone", 7}});
    REQUIRE_FALSE(unknown);
    CHECK(unknown.error().where.find("line 7") != std::string::npos);
}
