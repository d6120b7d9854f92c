// The program on discs with everything on them.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

const char* kDescription = R"(title = "STORM NIGHT"
kind = "dvd"
television = "pal"
aspect = "4:3"
[[audio]]
codec = "ac3"
channels = 2
language = "en"
[[subtitles]]
language = "en"
forced = "all"
every = "1.2 s"
[[part]]
name = "storm"
length = "3 s"
cadence = "interlaced"
)";

}  // namespace

TEST_CASE("standin disc --from: PAL, 4:3, interlaced, as folder and image, inspect and convert take both", "[cli]") {
    const TempDir dir;
    write_all(dir / "storm.toml", std::string(kDescription));
    for (const char* target : {"storm", "storm.iso"}) {
        INFO(target);
        const Ran made = run_program({"standin", "disc", target, "--from", "storm.toml", "-q"}, dir.path());
        REQUIRE(made.status == 0);
        const Json shown = json_of(run_program({"inspect", target, "--json"}, dir.path()));
        CHECK(shown["container"] == "dvd-video");
        const Json& video = shown["tracks"][0];
        CHECK(video["height"] == 576);
        CHECK(video["display_aspect"] == "4:3");
        CHECK(video["frame_rate"] == "25/1");
        CHECK(video["scan"] == "interlaced");
        CHECK(video["colour"]["matrix"] == 5);
        CHECK(shown["tracks"][2]["forced"] == true);
        CHECK(shown["name"] == "storm");
    }
    write_all(dir / "per-field.toml",
              std::string("name = \"per-field\"\n[video]\neffort = 1\ninterlaced = \"per-field\"\n"));
    const Ran done =
        run_program({"convert", "storm.iso", "--into", "library", "--profile", "per-field.toml", "--json"}, dir.path());
    const Json output = json_of(done)["outputs"][0];
    CHECK(output["frames"] == 150);  // a picture for every field
    CHECK(output["subtitles_burned_in"].get<int>() >= 2);
    CHECK(output["tracks"][1]["action"] == "transcode");
    const Json film = json_of(run_program({"inspect", "library/storm/storm.mp4", "--json"}, dir.path()));
    CHECK(film["tracks"][0]["frame_rate"] == "50/1");
    CHECK(film["tracks"][0]["width"] == 768);
    // Leaving them out, and a picture a frame.
    const Json plain = json_of(run_program({"convert", "storm", "--into", "library", "--name", "Plain", "--subtitles",
                                            "none", "--profile", "small-screen", "--json"},
                                           dir.path()))["outputs"][0];
    CHECK(plain["frames"] == 75);
    CHECK(plain["subtitles_burned_in"] == 0);
    CHECK_FALSE(std::filesystem::exists(dir / "storm.iso.disc"));
    CHECK(run_program({"standin", "disc", "storm.iso", "--from", "storm.toml"}, dir.path()).status == 4);
}

TEST_CASE("descriptions with mistakes are refused with their line", "[cli]") {
    const TempDir dir;
    const auto refused = [&](const std::string& text, const char* what) {
        write_all(dir / "d.toml", text);
        const Ran ran = run_program({"standin", "disc", "disc", "--from", "d.toml"}, dir.path());
        INFO(ran.err);
        CHECK(ran.status == 2);
        CHECK(ran.err.find(what) != std::string::npos);
        CHECK(ran.err.find("d.toml") != std::string::npos);
        CHECK_FALSE(std::filesystem::exists(dir / "disc"));
    };
    refused("title = \"X\"\n", "no parts");
    refused("[[part]]\nname = \"a\"\nlenght = \"3 s\"\n", "length");
    refused("[[part]]\nname = \"a\"\n[[playlist]]\nparts = [\"b\"]\n", "no part \"b\"");
    refused("[[audio]]\nchannels = 5\n[[part]]\nname = \"a\"\n", "5 channels");
    refused("bitrate = \"50 Mbit/s\"\n[[part]]\nname = \"a\"\n", "7.5 Mbit/s on a DVD");
    CHECK(run_program({"standin", "disc", "disc", "--from", "missing.toml"}, dir.path()).status == 3);
}

TEST_CASE("episodes: found, planned and converted under a series' names", "[cli]") {
    const TempDir dir;
    const std::string rip = rich_dvd().string();
    const Ran shown = run_program({"inspect", rip}, dir.path());
    CHECK(shown.status == 0);
    CHECK(shown.out.find("3 episodes (convert --pick episodes)") != std::string::npos);
    CHECK(shown.out.find("play-all") != std::string::npos);
    CHECK(shown.out.find("duplicate: the same data as title 1") != std::string::npos);
    const Ran done = run_program(
        {"convert", rip, "--pick", "episodes", "--season", "2", "--first-episode", "4", "--name", "Boathouse Stories",
         "--into", "library", "--profile", "small-screen", "--audio", "en,de", "--json"},
        dir.path());
    const Json outputs = json_of(done)["outputs"];
    REQUIRE(outputs.size() == 3);
    CHECK(outputs[0]["path"] == "library/Boathouse Stories/Season 02/Boathouse Stories - S02E04.mp4");
    CHECK(outputs[2]["path"] == "library/Boathouse Stories/Season 02/Boathouse Stories - S02E06.mp4");
    // The third was film inside interlaced video: found, and put together again.
    bool woven = false;
    for (const auto& step : outputs[2]["steps"])
        woven = woven || step.get<std::string>().find("film, 3:2 pulldown, not flagged") != std::string::npos;
    CHECK(woven);
    CHECK(std::abs(outputs[2]["frames"].get<int>() - 132) <= 1);  // 5.5 s at 24000/1001
    const Json film = json_of(run_program({"inspect", outputs[2]["path"].get<std::string>(), "--json"}, dir.path()));
    REQUIRE(film["tracks"].size() == 3);
    CHECK(film["tracks"][1]["language"] == "eng");
    CHECK(film["tracks"][2]["language"] == "deu");
    CHECK(film["tracks"][0]["frame_rate"] == "24000/1001");
}

TEST_CASE("picks, angles, audio and subtitles that name nothing are usage errors", "[cli]") {
    const TempDir dir;
    const std::string rip = rich_dvd().string();
    const auto wrong = [&](const std::vector<std::string>& extra, const char* what) {
        std::vector<std::string> arguments = {"convert", rip,         "--into",
                                              "library", "--profile", quick_profile(dir.path())};
        arguments.insert(arguments.end(), extra.begin(), extra.end());
        const Ran ran = run_program(arguments, dir.path());
        INFO(ran.err);
        CHECK(ran.status == 2);
        CHECK(ran.err.find(what) != std::string::npos);
    };
    wrong({"--pick", "9"}, "there is no title 9");
    wrong({"--pick", "1-"}, "invalid title selection");
    wrong({"--pick", "1", "--angle", "2"}, "has no angle 2");
    wrong({"--pick", "1", "--audio", "it"}, "no audio track in \"it\"");
    wrong({"--pick", "1", "--subtitles", "fi"}, "no subtitles in \"fi\"");
    CHECK_FALSE(std::filesystem::exists(dir / "library"));
    // Several at once, each once.
    const Json plans = json_of(run_program({"convert", rip, "--pick", "3,1-2,2", "--into", "library", "--profile",
                                            quick_profile(dir.path()), "--plan", "--json"},
                                           dir.path()));
    CHECK(plans["plans"].size() == 3);
    CHECK(json_of(run_program({"inspect", rip, "--pick", "2,4", "--json"}, dir.path()))["titles"].size() == 2);
}

TEST_CASE("a Blu-ray rip is inspected and converted", "[cli]") {
    const TempDir dir;
    const std::string rip = rich_blu_ray().string();
    const Json shown = json_of(run_program({"inspect", rip, "--json"}, dir.path()));
    CHECK(shown["container"] == "blu-ray");
    CHECK(shown["titles"].size() == 6);
    CHECK(shown["episodes"].size() == 3);
    const Json output = json_of(run_program({"convert", rip, "--pick", "5", "--angle", "2", "--into", "library",
                                             "--name", "Angle", "--profile", "small-screen", "--audio", "fr", "--json"},
                                            dir.path()))["outputs"][0];
    CHECK(output["problems"].empty());
    CHECK(output["frames"] == 36 + 72);
    const Json film = json_of(run_program({"inspect", "library/Angle/Angle.mp4", "--json"}, dir.path()));
    CHECK(film["tracks"][0]["width"] == 640);
    CHECK(film["tracks"][1]["language"] == "fra");
    // Forced subtitles lie in two English tracks here; the tables don't say so.
    const Json forced = json_of(run_program(
        {"convert", rip, "--pick", "1", "--into", "library", "--name", "Forced", "--profile", "small-screen", "--json"},
        dir.path()))["outputs"][0];
    CHECK(forced["subtitles_burned_in"] == 2);
}

TEST_CASE("hundreds of decoys don't bury the film", "[cli]") {
    const TempDir dir;
    std::string description = "kind = \"blu-ray\"\ndefinition = \"standard\"\nbitrate = \"2 Mbit/s\"\n";
    for (const char* name : {"a", "b", "c"})
        description += std::string("[[part]]\nname = \"") + name + "\"\nlength = \"1 s\"\n";
    for (int i = 0; i < 60; ++i) {
        const char* orders[] = {"\"c\", \"a\", \"b\"", "\"b\", \"a\", \"c\"", "\"c\", \"b\", \"a\""};
        description +=
            std::string("[[playlist]]\nparts = [") + (i == 37 ? "\"a\", \"b\", \"c\"" : orders[i % 3]) + "]\n";
    }
    write_all(dir / "d.toml", description);
    REQUIRE(run_program({"standin", "disc", "disc", "--from", "d.toml", "-q"}, dir.path()).status == 0);
    const Ran shown = run_program({"inspect", "disc"}, dir.path());
    CHECK(shown.out.find("* 38") != std::string::npos);
    CHECK(shown.out.find("59 duplicate and fake titles") != std::string::npos);
    const Json json = json_of(run_program({"inspect", "disc", "--json"}, dir.path()));
    CHECK(json["titles"].size() == 60);
    CHECK(json["titles"][37]["main"] == true);
    CHECK(json["titles"][0]["role"] == "fake title");
}
