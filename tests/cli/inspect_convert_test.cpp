// inspect, convert, profile, device and standin, driven as an installer would, right and wrong.
#include <fmt/format.h>
#include <signal.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include <chrono>
#include <cstdlib>
#include <thread>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

// An error message has what, where and what to do; no stack, no second message.
void check_error(const Ran& ran, int status, const std::string& what, const std::string& where = "") {
    INFO(ran.err);
    CHECK(ran.status == status);
    CHECK(ran.err.find("wavecrest: ") != std::string::npos);
    CHECK(ran.err.find(what) != std::string::npos);
    CHECK(ran.err.find("  where:  ") != std::string::npos);
    CHECK(ran.err.find("  to do:  ") != std::string::npos);
    if (!where.empty()) CHECK(ran.err.find(where) != std::string::npos);
}

const base::Path kVob = "VIDEO_TS/VTS_01_1.VOB";

// A quick profile for tests that need any conversion at all.
void write_quick_profile(const TempDir& dir) {
    write_all(dir / "quick.toml",
              std::string("name = \"quick\"\n[video]\neffort = 1\nvisual_quality = 47.5\nmax_size = \"320x180\"\n"));
}

}  // namespace

TEST_CASE("inspect tells a rip's titles, tracks and rates", "[cli]") {
    const TempDir dir;
    const Ran text = run_program({"inspect", sample_disc().string()}, dir.path());
    CHECK(text.status == 0);
    for (const char* expected : {"film: the longest title", "720x480, display aspect 16:9", "film, 3:2 pulldown",
                                 "English", "bit rate average", "chapters 5"}) {
        INFO(expected << "\n" << text.out);
        CHECK(text.out.find(expected) != std::string::npos);
    }
    const Json json = json_of(run_program({"inspect", sample_disc().string(), "--json"}, dir.path()));
    CHECK(json["container"] == "dvd-video");
    REQUIRE(json["titles"].size() == 2);
    CHECK(json["titles"][0]["main"] == true);
    CHECK(json["titles"][0]["duration_s"].get<double>() == Approx(12.012));
    CHECK(json["titles"][0]["chapters"].size() == 5);
    CHECK(json["titles"][1]["main"] == false);
    const Json& video = json["titles"][0]["tracks"][0];
    CHECK(video["codec"] == "mpeg2");
    CHECK(video["profile"] == "Main");
    CHECK(video["frame_rate"] == "24000/1001");
    CHECK(video["scan"] == "pulldown");
    CHECK(video["display_aspect"] == "16:9");
    CHECK(json["tracks"][1]["language"] == "eng");
    // The mean is the title's bytes over its length; the highest second is above it.
    const double mean = json["titles"][0]["size_bytes"].get<double>() * 8 / 12.012;
    CHECK(json["bitrate_bps"].get<double>() == Approx(mean).epsilon(0.001));
    CHECK(json["peak_1s_bps"].get<double>() >= mean);
    CHECK(json["problems"].empty());
}

TEST_CASE("inspect --pick shows one title, --out writes figure, CSV and JSON", "[cli]") {
    const TempDir dir;
    const Json one = json_of(run_program({"inspect", sample_disc().string(), "--pick", "2", "--json"}, dir.path()));
    REQUIRE(one["titles"].size() == 1);
    CHECK(one["titles"][0]["number"] == 2);
    check_error(run_program({"inspect", sample_disc().string(), "--pick", "9"}, dir.path()), 2, "there is no title 9");
    REQUIRE(run_program({"inspect", sample_disc().string(), "--out", "r"}, dir.path()).status == 0);
    CHECK(dir.files() == std::vector<std::string>{"r/inspect-sample-film-2020-disc.csv",
                                                  "r/inspect-sample-film-2020-disc.json",
                                                  "r/inspect-sample-film-2020-disc.png"});
    const ByteVector png = read_all(dir / "r/inspect-sample-film-2020-disc.png");
    REQUIRE(png.size() > 5000);
    CHECK(std::string(png.begin() + 1, png.begin() + 4) == "PNG");
    const ByteVector csv = read_all(dir / "r/inspect-sample-film-2020-disc.csv");
    CHECK(std::count(csv.begin(), csv.end(), '\n') == 1 + 13);
}

TEST_CASE("inspect reads the film that convert wrote", "[cli]") {
    const TempDir dir;
    const Json json = json_of(run_program({"inspect", sample_film().string(), "--json"}, dir.path()));
    CHECK(json["container"] == "mp4");
    CHECK(json["tracks"][0]["codec"] == "h264");
    CHECK(json["tracks"][0]["width"] == 854);
    CHECK(json["tracks"][0]["colour"]["matrix"] == 6);
    CHECK(json["tracks"][1]["codec"] == "aac");
    CHECK(json["chapters"].size() == 5);
    CHECK(json["notes"].empty());
}

TEST_CASE("unusable inputs end with status 3 and a message in three parts", "[cli]") {
    const TempDir dir;
    check_error(run_program({"inspect", "missing.mp4"}, dir.path()), 3, "there is no such file or folder",
                "missing.mp4");
    write_all(dir / "empty.mp4", std::string());
    check_error(run_program({"inspect", "empty.mp4"}, dir.path()), 3, "the file is empty", "empty.mp4");
    ByteVector noise(100'000);
    std::uint32_t state = 9;
    for (auto& b : noise) b = static_cast<std::uint8_t>((state = state * 1664525u + 1013904223u) >> 24);
    write_all(dir / "noise.mp4", noise);
    check_error(run_program({"inspect", "noise.mp4"}, dir.path()), 3, "not a supported media file", "noise.mp4");
    const ByteVector film = read_all(sample_film());
    write_all(dir / "cut.mp4", ByteSpan(film).first(1000));
    check_error(run_program({"inspect", "cut.mp4"}, dir.path()), 3, "ends inside its index", "cut.mp4, byte");
    std::filesystem::create_directories(dir / "folder");
    check_error(run_program({"inspect", "folder"}, dir.path()), 3, "no DVD-Video or Blu-ray structure", "folder");
    // As JSON, too.
    const Ran json = run_program({"inspect", "empty.mp4", "--json"}, dir.path());
    CHECK(json.status == 3);
    CHECK(json_of(json)["error"]["what"] == "the file is empty");
    // A film cut in its data: what is there is told, and what is missing.
    write_all(dir / "short.mp4", ByteSpan(film).first(film.size() / 2));
    const Ran half = run_program({"inspect", "short.mp4", "--json"}, dir.path());
    CHECK(half.status == 0);
    REQUIRE(json_of(half)["problems"].size() == 1);
    CHECK(json_of(half)["problems"][0]["from_s"].get<double>() > 3);
}

TEST_CASE("an IFO whose tables point outside it: rebuilt from the streams, and said, no streams either: an error",
          "[cli]") {
    const TempDir dir;
    copy_disc(dir / "rip");
    std::filesystem::remove(dir / "rip/VIDEO_TS/VTS_01_0.BUP");
    ByteVector ifo = read_all(dir / "rip/VIDEO_TS/VTS_01_0.IFO");
    ifo[0xCC] = 0x40;
    write_all(dir / "rip/VIDEO_TS/VTS_01_0.IFO", ifo);
    const Ran shown = run_program({"inspect", "rip"}, dir.path());
    CHECK(shown.status == 0);
    CHECK(shown.err.find("a table points outside the file") != std::string::npos);
    CHECK(shown.err.find("rebuilt from the streams") != std::string::npos);
    for (const auto& entry : std::filesystem::directory_iterator(dir / "rip/VIDEO_TS")) {
        if (entry.path().extension() == ".VOB" || entry.path().filename().string().starts_with("VTS_02"))
            std::filesystem::remove(entry.path());
    }
    check_error(run_program({"inspect", "rip"}, dir.path()), 3, "a table points outside the file",
                "VTS_01_0.IFO, byte ");
    check_error(run_program({"convert", "rip", "--into", "library"}, dir.path()), 3, "a table points outside the file");
    CHECK_FALSE(std::filesystem::exists(dir / "library"));
}

TEST_CASE("scrambled packs: protected, final, nothing written", "[cli]") {
    const TempDir dir;
    copy_disc(dir / "rip");
    ByteVector vob = read_all(dir / "rip" / kVob);
    for (std::size_t at = 40 * 2048; at < vob.size(); at += 2048) {
        if (vob[at + 17] == 0xE0 || vob[at + 17] == 0xBD) vob[at + 20] |= 0x10;
    }
    write_all(dir / "rip" / kVob, vob);
    const Ran shown = run_program({"inspect", "rip"}, dir.path());
    CHECK(shown.status == 0);
    CHECK(shown.out.find("protected") != std::string::npos);
    CHECK(json_of(run_program({"inspect", "rip", "--json"}, dir.path()))["titles"][0]["protected"] == true);
    const auto before = std::chrono::steady_clock::now();
    check_error(run_program({"convert", "rip", "--into", "library"}, dir.path()), 3, "copy-protected",
                "VTS_01_1.VOB, byte ");
    CHECK(std::chrono::steady_clock::now() - before < std::chrono::seconds(5));
    CHECK_FALSE(std::filesystem::exists(dir / "library"));
}

TEST_CASE("a VOB cut mid-pack is converted as far as it goes, and said", "[cli]") {
    const TempDir dir;
    copy_disc(dir / "rip");
    write_quick_profile(dir);
    const ByteVector vob = read_all(dir / "rip" / kVob);
    write_all(dir / "rip" / kVob, ByteSpan(vob).first(vob.size() / 2 + 999));
    const Ran ran = run_program({"convert", "rip", "--into", "library", "--profile", "quick.toml", "--name",
                                 "Half (2020)", "--json", "-q", "--accept-losses"},
                                dir.path());
    CHECK(ran.status == 5);
    const Json output = json_of(ran)["outputs"][0];
    CHECK(output["duration_s"].get<double>() > 4);
    CHECK(output["duration_s"].get<double>() < 9);
    REQUIRE_FALSE(output["problems"].empty());
    CHECK(output["problems"][0]["to_s"].get<double>() == Approx(12.012));
    CHECK(ran.err.find("note: ") != std::string::npos);
    const Json film = json_of(run_program({"inspect", "library/Half (2020)/Half (2020).mp4", "--json"}, dir.path()));
    CHECK(film["duration_s"].get<double>() == Approx(output["duration_s"].get<double>()).margin(0.05));
}

TEST_CASE("convert --plan says what it would do and does nothing", "[cli]") {
    const TempDir dir;
    write_quick_profile(dir);
    const Ran text = run_program(
        {"convert", sample_disc().string(), "--into", "library", "--profile", "quick.toml", "--plan"}, dir.path());
    CHECK(text.status == 0);
    for (const char* expected : {"library/Sample Film (2020)/Sample Film (2020).mp4", "inverse telecine", "to 320x180",
                                 "Estimate from", "Free space", "nothing was converted"}) {
        INFO(expected << "\n" << text.out);
        CHECK(text.out.find(expected) != std::string::npos);
    }
    CHECK(dir.files() == std::vector<std::string>{"quick.toml"});
    const Json json = json_of(run_program(
        {"convert", sample_disc().string(), "--into", "library", "--profile", "quick.toml", "--plan", "--json"},
        dir.path()));
    CHECK(json["plan"]["estimate"]["size_bytes"].get<int>() > 10'000);
    CHECK(json["plan"]["estimate"]["time_s"].get<double>() > 0);
    CHECK(json["plan"]["fits"] == true);
    CHECK(json["plan"]["tracks"][0]["action"] == "transcode");
}

TEST_CASE("convert --measure-quality holds what is coded against its pictures", "[cli][quality]") {
    const TempDir dir;
    const auto quality_of = [&](int quality, bool plan) {
        write_all(dir / "p.toml",
                  fmt::format("name = \"p\"\n[video]\neffort = 1\nvisual_quality = {}\nmax_size = \"320x180\"\n"
                              "peak_bitrate = \"20 Mbit/s\"\n",
                              quality));
        std::vector<std::string> command = {"convert",
                                            sample_disc().string(),
                                            "--pick",
                                            "2",
                                            "--into",
                                            "library",
                                            "--name",
                                            fmt::format("Q{}", quality),
                                            "--profile",
                                            "p.toml",
                                            "--measure-quality",
                                            "--json"};
        if (plan) command.push_back("--plan");
        const Json json = json_of(run_program(command, dir.path()));
        return plan ? json["plan"]["estimate"]["quality"] : json["outputs"][0]["quality"];
    };
    const Json fine = quality_of(97, false), coarse = quality_of(15, false);
    CHECK(fine["frames"] == 72);
    CHECK(coarse["frames"] == 72);
    CHECK(fine["ssim"].get<double>() > 0.98);
    CHECK(fine["text"] == "visually lossless");
    CHECK(coarse["ssim"].get<double>() < fine["ssim"].get<double>() - 0.02);
    CHECK(coarse["psnr_db"].get<double>() < fine["psnr_db"].get<double>() - 8);
    CHECK(coarse["worst_second"]["ssim"].get<double>() <= coarse["ssim"].get<double>());
    CHECK(coarse["worst_second"]["at_s"].get<double>() < 3);
    // A title as short as this is tried as a whole.
    const Json planned = quality_of(17, true);
    CHECK(planned["frames"] == 72);
    CHECK(planned["psnr_db"].get<double>() == Approx(coarse["psnr_db"].get<double>()).margin(2));
    CHECK_FALSE(std::filesystem::exists(dir / "library/Q17"));

    const Ran text = run_program({"convert", sample_disc().string(), "--pick", "2", "--into", "library", "--profile",
                                  "p.toml", "--measure-quality"},
                                 dir.path());
    INFO(text.out);
    CHECK(text.status == 0);
    for (const char* expected : {"SSIM 0.", "72 frames", "Worst second", "raise `visual_quality` in the profile"})
        CHECK(text.out.find(expected) != std::string::npos);
    check_error(run_program({"convert", sample_disc().string(), "--remux", "matroska", "--into", "library",
                             "--measure-quality"},
                            dir.path()),
                2, "no quality is lost", "--measure-quality");
}

TEST_CASE("convert writes the film and its result, and never overwrites", "[cli]") {
    const TempDir dir;
    write_quick_profile(dir);
    const std::vector<std::string> command = {
        "convert",   sample_disc().string(), "--pick", "2",     "--into", "library",
        "--profile", "quick.toml",           "--name", "Extra", "--out",  "results",
        "--json"};
    const Json output = json_of(run_program(command, dir.path()))["outputs"][0];
    CHECK(output["path"] == "library/Extra/Extra.mp4");
    CHECK(output["frames"] == 72);
    CHECK(output["source_bytes"].get<int>() > output["size_bytes"].get<int>());
    CHECK(output["tracks"].size() == 2);
    CHECK(dir.files() == std::vector<std::string>{"library/Extra/Extra.mp4", "library/Extra/Extra.mp4.record.json",
                                                  "quick.toml", "results/convert-extra-quick-toml.json"});
    const Json record = Json::parse(read_text(dir / "library/Extra/Extra.mp4.record.json"));
    CHECK(record["size_bytes"] == output["size_bytes"]);
    CHECK(record["source"]["title"] == 2);
    CHECK(record["source"]["digest"].get<std::string>().size() == 64);
    CHECK(record["tracks"].size() == 2);
    CHECK_FALSE(record["steps"].empty());
    const ByteVector before = read_all(dir / "library/Extra/Extra.mp4");
    check_error(run_program(command, dir.path()), 4, "exists already and is not overwritten",
                "library/Extra/Extra.mp4");
    CHECK(read_all(dir / "library/Extra/Extra.mp4") == before);
}

TEST_CASE("Ctrl-C ends a conversion with nothing left behind", "[cli]") {
    for (const int signal : {SIGINT, SIGTERM}) {
        const TempDir dir;
        Background converting({"convert", sample_disc().string(), "--into", "library", "--profile", "full-picture"},
                              dir.path());
        // Until it is really writing.
        for (int i = 0; i < 400 && !std::filesystem::exists(dir / "library"); ++i)
            std::this_thread::sleep_for(std::chrono::milliseconds(10));
        REQUIRE(std::filesystem::exists(dir / "library"));
        std::this_thread::sleep_for(std::chrono::milliseconds(200));
        CHECK(converting.end(signal) == 130);
        CHECK(dir.files().empty());
        CHECK_FALSE(std::filesystem::exists(dir / "library"));
    }
}

TEST_CASE("targets that can't be written to", "[cli]") {
    const TempDir dir;
    write_quick_profile(dir);
    const std::vector<std::string> command = {"convert", sample_disc().string(), "--profile", "quick.toml", "-q",
                                              "--into"};
    auto into = [&](const std::string& folder) {
        auto words = command;
        words.push_back(folder);
        return run_program(words, dir.path());
    };
    // Nobody, not even root, makes folders in /proc.
    check_error(into("/proc/library"), 4, "the folder can't be made", "/proc/library");
    write_all(dir / "file", std::string("x"));
    check_error(into("file/library"), 4, "can't be made");
    CHECK(dir.files() == std::vector<std::string>{"file", "quick.toml"});
}

TEST_CASE("a full disk is told before and during the work, and leaves nothing", "[cli]") {
    // A file system of a few hundred kilobytes, in a mount namespace of its own.
    const TempDir dir;
    write_all(dir / "quick.toml", std::string("name = \"q\"\n[video]\neffort = 1\nvisual_quality = 65\n"));
    const auto in_small_space = [&](const std::string& size, const std::string& arguments) {
        const std::string script = "mkdir -p " + (dir / "small").string() + " && mount -t tmpfs -o size=" + size +
                                   " none " + (dir / "small").string() + " && cd " + dir.path().string() + " && { " +
                                   WAVECREST_PROGRAM + " " + arguments +
                                   " >out 2>err; echo $? >status; ls -A small >left; }";
        return std::system(("unshare -rm sh -c '" + script + "' 2>/dev/null").c_str());
    };
    const std::string convert = "convert \"" + sample_disc().string() + "\" --into small --profile quick.toml -q";
    const auto text = [&](const char* name) {
        const ByteVector bytes = read_all(dir / name);
        return std::string(bytes.begin(), bytes.end());
    };
    if (in_small_space("300k", convert) != 0) {
        WARN("no mount namespace can be made here: the full disk was not tried");
        return;
    }
    CHECK(text("status") == "4\n");
    CHECK(text("err").find("not enough disk space") != std::string::npos);
    CHECK(text("left").empty());
    // The sample disc's maker knows no size beforehand: the disk fills while it writes.
    REQUIRE(in_small_space("2m", "standin disc small/rip --length \"8 s\" -q") == 0);
    CHECK(text("status") == "4\n");
    CHECK(text("err").find("the disk is full") != std::string::npos);
    CHECK(text("left").empty());
}

TEST_CASE("wrong usage ends with status 2 and points to help", "[cli]") {
    const TempDir dir;
    check_error(run_program({"inspekt"}, dir.path()), 2, "");
    check_error(run_program({"inspect"}, dir.path()), 2, "required", "the command line");
    check_error(run_program({"convert", "x"}, dir.path()), 2, "--into", "");
    CHECK(run_program({"convert", "x"}, dir.path()).err.find("wavecrest convert --help") != std::string::npos);
    check_error(run_program({"convert", sample_disc().string(), "--into", "l", "--profile", "full-pictur"}, dir.path()),
                2, "unknown profile", "did you mean \"full-picture\"?");
    check_error(run_program({"standin", "disc", "d", "--length", "long"}, dir.path()), 2, "isn't a length");
    CHECK(run_program({"--help"}, dir.path()).status == 0);
    CHECK(run_program({"--version"}, dir.path()).out.find("wavecrest 0.") == 0);
    for (const char* command : {"inspect", "convert", "verify", "report", "demo"}) {
        const Ran help = run_program({command, "--help"}, dir.path());
        CHECK(help.status == 0);
        CHECK(help.out.size() > 100);
    }
    CHECK(dir.files().empty());
}

TEST_CASE("profiles and devices are listed, shown and checked", "[cli]") {
    const TempDir dir;
    const Ran list = run_program({"profile", "list"}, dir.path());
    CHECK(list.out.find("full-picture") != std::string::npos);
    CHECK(list.out.find("small-screen") != std::string::npos);
    CHECK(json_of(run_program({"profile", "list", "--json"}, dir.path()))["profiles"].size() == 12);
    // What show prints is a profile again.
    write_all(dir / "mine.toml", run_program({"profile", "show", "small-screen"}, dir.path()).out);
    CHECK(run_program({"profile", "check", "mine.toml"}, dir.path()).status == 0);
    write_all(dir / "bad.toml", std::string("name = \"x\"\n[video]\nqality = 3\n"));
    check_error(run_program({"profile", "check", "bad.toml"}, dir.path()), 1, "unknown key \"qality\"",
                "bad.toml, line 3");
    check_error(run_program({"profile", "check", "none.toml"}, dir.path()), 3, "does not exist");
    CHECK(run_program({"device", "list"}, dir.path()).out.find("tablet-basic") != std::string::npos);
    CHECK(run_program({"device", "show", "tv-hd"}, dir.path()).out.find("1920x1080") != std::string::npos);
    CHECK(json_of(run_program({"device", "show", "tv-hd", "--json"}, dir.path()))["containers"][0] == "mp4");
    check_error(run_program({"device", "show", "tv"}, dir.path()), 2, "unknown device class");
}

TEST_CASE("standin disc refuses an existing folder and says what is next", "[cli]") {
    const TempDir dir;
    const Ran made = run_program(
        {"standin", "disc", "rip/Tiny", "--length", "2 s", "--extra", "0 s", "--chapters", "2", "-q"}, dir.path());
    CHECK(made.status == 0);
    CHECK(made.out.find("Next: wavecrest inspect") != std::string::npos);
    CHECK(std::filesystem::exists(dir / "rip/Tiny/VIDEO_TS/VTS_01_1.VOB"));
    CHECK_FALSE(std::filesystem::exists(dir / "rip/Tiny/VIDEO_TS/VTS_02_1.VOB"));
    check_error(run_program({"standin", "disc", "rip/Tiny", "-q"}, dir.path()), 4, "exists already");
}
