#include "base/config.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using base::ConfigTable;

TEST_CASE("an unknown key is refused with its line and the nearest known one", "[config]") {
    auto table = ConfigTable::parse("name = \"x\"\n\npeak_bitrat = \"8 Mbit/s\"\n", "my.toml");
    REQUIRE(table);
    CHECK(table->text("name").value() == "x");
    CHECK(table->bitrate("peak_bitrate", 7).value() == 7);
    const auto finished = table->finish();
    REQUIRE_FALSE(finished);
    CHECK(finished.error().kind == ErrorKind::usage);
    CHECK(finished.error().where == "my.toml, line 3");
    CHECK(finished.error().what.find("peak_bitrat") != std::string::npos);
    CHECK(finished.error().remedy == "did you mean \"peak_bitrate\"?");
}

TEST_CASE("an unknown key like no other is answered with all known ones", "[config]") {
    auto table = ConfigTable::parse("zzzzzzzz = 1\n", "my.toml");
    REQUIRE(table);
    table->has("name");
    const auto finished = table->finish();
    REQUIRE_FALSE(finished);
    CHECK(finished.error().remedy.find("name") != std::string::npos);
}

TEST_CASE("malformed TOML names the line", "[config]") {
    const auto table = ConfigTable::parse("a = 1\nb = [1, 2\nc = 3\n", "broken.toml");
    REQUIRE_FALSE(table);
    CHECK(table.error().kind == ErrorKind::usage);
    CHECK(table.error().where.find("broken.toml, line ") == 0);
}

TEST_CASE("values of the wrong type or range are refused at their line", "[config]") {
    auto table = ConfigTable::parse(
        "text = 5\nnumber = \"five\"\nhigh = 99\nflag = 1\nrate = \"8 MB\"\nspan = \"soon\"\nsize = \"big\"\nwords = "
        "[1]\n"
        "word = \"c\"\n",
        "t.toml");
    REQUIRE(table);
    const auto line_of = [](const auto& result) {
        REQUIRE_FALSE(result);
        return result.error().where;
    };
    CHECK(line_of(table->text("text")) == "t.toml, line 1");
    CHECK(line_of(table->number("number", 0, 9, 0)) == "t.toml, line 2");
    CHECK(line_of(table->number("high", 0, 9, 0)) == "t.toml, line 3");
    CHECK(line_of(table->flag("flag", false)) == "t.toml, line 4");
    CHECK(line_of(table->bitrate("rate", 0)) == "t.toml, line 5");
    CHECK(line_of(table->span("span", {})) == "t.toml, line 6");
    CHECK(line_of(table->size("size", {})) == "t.toml, line 7");
    CHECK(line_of(table->texts("words")) == "t.toml, line 8");
    CHECK(line_of(table->choice("word", {"a", "b"}, "a")) == "t.toml, line 9");
    CHECK(line_of(table->table("text")) == "t.toml, line 1");
    CHECK(line_of(table->tables("text")) == "t.toml, line 1");
    REQUIRE_FALSE(table->text("absent"));
    CHECK(table->text("absent").error().what == "\"absent\" is missing here");
}

TEST_CASE("tables and lists of tables keep their lines", "[config]") {
    auto root = ConfigTable::parse("[one]\nx = 1\n\n[[many]]\ny = 1\n\n[[many]]\ny = 2\nwrong = 3\n", "t.toml");
    REQUIRE(root);
    auto one = root->table("one");
    REQUIRE(one);
    CHECK(one->number("x", 0, 5, 0).value() == 1);
    CHECK(one->finish());
    auto many = root->tables("many");
    REQUIRE(many);
    REQUIRE(many->size() == 2);
    CHECK((*many)[1].number("y", 0, 5, 0).value() == 2);
    const auto finished = (*many)[1].finish();
    REQUIRE_FALSE(finished);
    CHECK(finished.error().where == "t.toml, line 9");
    CHECK(root->finish());
    // An absent table reads as an empty one.
    auto absent = root->table("absent");
    REQUIRE(absent);
    CHECK(absent->text("x", "fallback").value() == "fallback");
}

TEST_CASE("the nearest word is only offered when it is near", "[config]") {
    const std::vector<std::string> words = {"full-picture", "small-screen"};
    CHECK(base::nearest("full-pictur", words) == "full-picture");
    CHECK(base::nearest("smal-screen", words) == "small-screen");
    CHECK(base::nearest("quite something else", words).empty());
}
