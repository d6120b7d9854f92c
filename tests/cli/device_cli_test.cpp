// Devices on the command line: descriptions of one's own, and conversions that devices decide.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

TEST_CASE("what is made for devices plays on them as it is", "[cli][convert][device]") {
    const TempDir dir;
    const std::vector<std::string> asked = {"convert",   sample_disc().string(),
                                            "--into",    "library",
                                            "--name",    "Lanterns (2019)",
                                            "--profile", quick_profile(dir.path()),
                                            "--device",  "tablet-basic,tv-uhd-hdr,player-sd",
                                            "--json"};
    std::vector<std::string> planned = asked;
    planned.emplace_back("--plan");
    const Json plan = json_of(run_program(planned, dir.path()));
    REQUIRE(plan["decisions"].size() == 2);  // the small ones share
    CHECK(plan["plan"]["estimate"]["file_bytes"].size() == 2);
    CHECK(dir.files() == std::vector<std::string>{"quick.toml"});
    const Ran ran = run_program(asked, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const Json done = json_of(ran);
    CHECK(done["decisions"] == plan["decisions"]);
    CHECK(done["outputs"].size() == 2);
    for (const Json& file : done["decisions"]) {
        std::string devices;
        for (const Json& name : file["devices"]) devices += (devices.empty() ? "" : ",") + name.get<std::string>();
        INFO(devices);
        const bool video_kept = file["tracks"][0]["action"] == "keep";
        CHECK(video_kept == file["tracks"][0]["objections"].empty());
        const Json again = json_of(
            run_program({"convert", file["path"].get<std::string>(), "--into", "again", "--device", devices, "--json"},
                        dir.path()));
        CHECK(again["outputs"].empty());
        REQUIRE(again["decisions"].size() == 1);
        CHECK(again["decisions"][0]["action"] == "as-it-is");
    }
    CHECK_FALSE(std::filesystem::exists(dir / "again"));
}

TEST_CASE("a site's devices decide by their links, too", "[cli][convert][device]") {
    const TempDir dir;
    write_all(dir / "site.toml",
              std::string("[[device]]\nname = \"Lounge\"\nclass = \"tv-uhd-hdr\"\nlink = \"gigabit\"\n"
                          "[[device]]\nname = \"Attic\"\nclass = \"tv-uhd-hdr\"\nlink = \"2 Mbit/s\"\n"));
    const auto decided = [&](const std::vector<std::string>& more) {
        std::vector<std::string> arguments = {"convert",   sample_disc().string(),    "--into", "out",
                                              "--profile", quick_profile(dir.path()), "--plan", "--json"};
        arguments.insert(arguments.end(), more.begin(), more.end());
        return json_of(run_program(arguments, dir.path()));
    };
    const Json both = decided({"--site", "site.toml"});
    REQUIRE(both["decisions"].size() == 2);
    for (const Json& file : both["decisions"]) {
        const bool attic = file["devices"][0] == "Attic";
        CHECK(file["tracks"][0]["action"] == (attic ? "transcode" : "keep"));
        if (attic) CHECK(file["tracks"][0]["objections"][0]["check"] == "max bit rate");
    }
    CHECK(decided({"--site", "site.toml", "--device", "Lounge"})["decisions"].size() == 1);
    const Json unknown = decided({"--site", "site.toml", "--device", "Cellar"});
    CHECK(unknown["error"]["remedy"] == "it has Lounge, Attic");
    for (const auto& [option, value] : {std::pair{"--remux", "mp4"}, {"--profile", "phone"}}) {
        const Ran ran = run_program({"convert", sample_disc().string(), "--into", "out", "--device", "tv-hd",
                                     "--profile", "quick.toml", option, value},
                                    dir.path());
        CHECK(ran.status == 2);
    }
    CHECK(run_program({"convert", sample_disc().string(), "--into", "out", "--one-file"}, dir.path()).status == 2);
}

TEST_CASE("a description of one's own is written, changed, checked and compared", "[cli][device]") {
    const TempDir dir;
    const Ran made = run_program({"device", "new", "lounge-tv", "--like", "tv-uhd-hdr"}, dir.path());
    REQUIRE(made.status == 0);
    CHECK(made.out.find("device check 'lounge-tv.toml'") != std::string::npos);
    CHECK(run_program({"device", "new", "lounge-tv"}, dir.path()).status == 4);  // not overwritten
    CHECK(run_program({"device", "new", "x", "--like", "tv-uhd"}, dir.path()).status == 2);
    CHECK(json_of(run_program({"device", "check", "lounge-tv.toml", "--json"}, dir.path()))["warnings"].empty());
    CHECK(run_program({"device", "compare", "lounge-tv.toml", "tv-uhd-hdr"}, dir.path()).out.find("the same") !=
          std::string::npos);
    const ByteVector bytes = read_all(dir / "lounge-tv.toml");
    std::string text(bytes.begin(), bytes.end());
    text.replace(text.find("max_bitrate = \"60 Mbit/s\""), 25, "max_bitrate = \"25 Mbit/s\"");
    write_all(dir / "lounge-tv.toml", text);
    const Json rows = json_of(
        run_program({"device", "compare", "tv-uhd-hdr", "lounge-tv.toml", "--json"}, dir.path()))["differences"];
    REQUIRE(rows.size() == 1);
    CHECK(rows[0]["what"] == "max bit rate");
    write_all(dir / "bare.toml", std::string("name = \"bare\"\n[[plays.video]]\ncodec = \"h264\"\nhdr = [\"hdr99\"]\n"
                                             "level = \"9.9\"\n[plays]\nsubtitles = [\"runes\"]\n"));
    const Ran wrong = run_program({"device", "check", "bare.toml"}, dir.path());
    CHECK(wrong.status == 2);
    CHECK(wrong.err.find("bare.toml, line 4") != std::string::npos);
    CHECK(wrong.err.find("bare.toml, line 5") != std::string::npos);
}

TEST_CASE("convert names films as the site file or its options say", "[cli]") {
    const TempDir dir;
    write_all(
        dir / "site.toml",
        std::string(
            "[library]\nfilm_names = \"Films/{title} [{year}]\"\n[[device]]\nname = \"TV\"\nclass = \"tv-hd\"\n"));
    const auto target = [&](std::vector<std::string> arguments) {
        arguments.insert(arguments.begin(),
                         {"convert", sample_disc().string(), "--into", "library", "--pick", "2", "--plan", "--json"});
        const Ran ran = run_program(arguments, dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        return json_of(ran)["plan"]["target"].get<std::string>();
    };
    CHECK(target({"--site", "site.toml", "--name", "Boats (2020)"}) == "library/Films/Boats [2020].mp4");
    CHECK(target({"--site", "site.toml", "--name", "Boats", "--film-names", "{title}"}) == "library/Boats.mp4");
    CHECK(target({"--profile", "small-screen", "--name", "Stories S02E05"}) ==
          "library/Stories/Season 02/Stories - S02E05.mp4");
    const Ran wrong =
        run_program({"convert", sample_disc().string(), "--into", "l", "--film-names", "../{title}"}, dir.path());
    CHECK(wrong.status == 2);
    CHECK(wrong.err.find("to do:") != std::string::npos);
    write_all(dir / "bad.toml", std::string("[library]\nepisode_names = \"{title}\"\n"));
    const Ran bad = run_program({"site", "check", "bad.toml"}, dir.path());
    CHECK(bad.status == 1);
    CHECK(bad.err.find("line 2") != std::string::npos);
}
