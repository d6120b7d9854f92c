#include "base/config.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using base::ConfigTable;

namespace {

// All that was noted, in the order of the file.
std::vector<Error> errors_of(const ConfigTable& table) {
    const auto complete = table.complete(Result<int>(1));
    if (complete) return {};
    std::vector<Error> all = {complete.error()};
    all.insert(all.end(), complete.error().further.begin(), complete.error().further.end());
    return all;
}

}  // namespace

TEST_CASE("an unknown key is refused with its line and the nearest known one", "[config]") {
    auto table = ConfigTable::parse("name = \"x\"\n\npeak_bitrat = \"8 Mbit/s\"\n", "my.toml");
    REQUIRE(table);
    CHECK(table->text("name") == "x");
    CHECK(table->bitrate("peak_bitrate", 7) == 7);
    CHECK(errors_of(*table).empty());
    table->finish();
    const auto errors = errors_of(*table);
    REQUIRE(errors.size() == 1);
    CHECK(errors[0].kind == ErrorKind::usage);
    CHECK(errors[0].where == "my.toml, line 3");
    CHECK(errors[0].what.find("peak_bitrat") != std::string::npos);
    CHECK(errors[0].remedy == "did you mean \"peak_bitrate\"?");
}

TEST_CASE("an unknown key like no other is answered with all known ones", "[config]") {
    auto table = ConfigTable::parse("zzzzzzzz = 1\n", "my.toml");
    REQUIRE(table);
    table->has("name");
    table->finish();
    REQUIRE(errors_of(*table).size() == 1);
    CHECK(errors_of(*table)[0].remedy.find("name") != std::string::npos);
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
    CHECK(table->choice("word", {"a", "b"}, "a") == "a");  // read in another order than they are told in
    CHECK(table->text("text").empty());
    CHECK(table->number("number", 0, 9, 3) == 3);
    CHECK(table->number("high", 0, 9, 0) == 0);
    CHECK_FALSE(table->flag("flag", false));
    CHECK(table->bitrate("rate", 5) == 5);
    table->span("span", {});
    table->size("size", {});
    CHECK(table->texts("words").empty());
    const auto errors = errors_of(*table);
    REQUIRE(errors.size() == 9);
    for (std::size_t i = 0; i < errors.size(); ++i) CHECK(errors[i].where == "t.toml, line " + std::to_string(i + 1));
    table->table("text");
    CHECK(table->tables("text").empty());
    table->text("absent");
    CHECK(errors_of(*table).size() == 12);
    CHECK(errors_of(*table)[3].what == "\"absent\" is missing here");
}

TEST_CASE("tables and lists of tables keep their lines", "[config]") {
    auto root = ConfigTable::parse("[one]\nx = 1\n\n[[many]]\ny = 1\n\n[[many]]\ny = 2\nwrong = 3\n", "t.toml");
    REQUIRE(root);
    auto one = root->table("one");
    CHECK(one.number("x", 0, 5, 0) == 1);
    one.finish();
    auto many = root->tables("many");
    REQUIRE(many.size() == 2);
    CHECK(many[1].number("y", 0, 5, 0) == 2);
    root->finish();
    CHECK(errors_of(*root).empty());
    many[1].finish();
    REQUIRE(errors_of(*root).size() == 1);
    CHECK(errors_of(*root)[0].where == "t.toml, line 9");
    // An absent table reads as an empty one.
    auto absent = root->table("absent");
    CHECK(absent.text("x", "fallback") == "fallback");
}

TEST_CASE("the nearest word is only offered when it is near", "[config]") {
    const std::vector<std::string> words = {"full-picture", "small-screen"};
    CHECK(base::nearest("full-pictur", words) == "full-picture");
    CHECK(base::nearest("smal-screen", words) == "small-screen");
    CHECK(base::nearest("quite something else", words).empty());
}
