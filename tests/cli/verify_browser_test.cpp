// `verify --on`: a real browser as the client.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include <csignal>

#include "support/browser.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

TEST_CASE("a browser of this machine really plays a stream over a device's link", "[cli][verify][browser][waits]") {
    if (!has_browser()) return;
    const TempDir dir;
    write_media(dir / "film.mp4", "mp4", {video_track(Codec::h264, 96), audio_track(Codec::aac, 4)});
    const std::uint16_t port = free_port();
    const Background server(
        {"stream", "run", "film.mp4", "--name", "Film", "--port", std::to_string(port), "--delivery", "file,hls", "-q"},
        dir.path());
    REQUIRE(wait_for_port(port));
    const std::string http = "http://127.0.0.1:" + std::to_string(port);
    const auto play = [&](const std::string& path, const std::string& link) {
        const Ran ran = run_program(
            {"verify", http + path, "--device", "browser-chromium", "--link", link, "--on", "chromium", "--json", "-q"},
            dir.path());
        INFO(ran.out << ran.err);
        return json_of(ran)["results"][0];
    };
    const Json fine = play("/film.mp4", "gigabit");
    INFO(fine.dump(1));
    CHECK(fine["grounds"] == "browser");
    CHECK(fine["browser"] == "chromium");
    CHECK(fine["verdict"] != "fail");
    CHECK(fine["duration_s"].get<double>() == Approx(4.0).margin(0.1));
    CHECK(fine["startup_s"].get<double>() < 3);
    CHECK(play("/film.m3u8", "gigabit")["verdict"] != "fail");
    // At half the rate it needs it stalls, or comes in late, and the network is blamed.
    const auto mean = static_cast<int>(static_cast<double>(std::filesystem::file_size(dir / "film.mp4")) * 8 / 4000);
    const Json slow = play("/film.mp4", std::to_string(mean / 2) + " kbit/s");
    INFO(slow.dump(1));
    CHECK(slow["stalls"].size() + (slow["startup_s"].get<double>() > 1 ? 1 : 0) > 0);
    if (slow["verdict"] == "fail") CHECK(slow["cause"] == "network");
    // H.265 this browser doesn't decode: it plays the audio alone, and that is no pass.
    write_media(dir / "deep.mp4", "mp4", {video_track(Codec::h265, 48), audio_track(Codec::aac, 2)});
    const std::uint16_t other = free_port();
    const Background deep({"stream", "run", "deep.mp4", "--name", "Deep", "--port", std::to_string(other), "-q"},
                          dir.path());
    REQUIRE(wait_for_port(other));
    const Json silent = json_of(run_program({"verify", "http://127.0.0.1:" + std::to_string(other) + "/deep.mp4",
                                             "--device", "tv-uhd-hdr", "--on", "chromium", "--json", "-q"},
                                            dir.path()))["results"][0];
    INFO(silent.dump(1));
    CHECK(silent["verdict"] == "fail");
    CHECK(silent["cause"] == "device");
    // What isn't there is told, not waited for.
    CHECK(play("/nothing.mp4", "gigabit")["verdict"] == "fail");
}

TEST_CASE("what no browser plays is refused before one is started", "[cli][verify]") {
    const TempDir dir;
    const auto on = [&](const std::string& address, const std::string& browser) {
        return run_program({"verify", address, "--device", "tv-hd", "--on", browser}, dir.path());
    };
    CHECK(on("rtmp://127.0.0.1/house/film", "chromium").status == 2);
    CHECK(on("https://127.0.0.1/film.mp4", "chromium").status == 2);
    CHECK(on("http://127.0.0.1/film.mp4", "lakeside").err.find("chromium or firefox") != std::string::npos);
    CHECK(run_program({"verify", "http://127.0.0.1/film.mp4", "--device", "tv-hd", "--on", "chromium", "--again"},
                      dir.path())
              .status == 2);
}

TEST_CASE("a browser is ended with the program that started it", "[cli][verify][browser][waits]") {
    if (!has_browser()) return;
    const TempDir dir;
    write_media(dir / "film.mp4", "mp4", {video_track(Codec::h264, 480), audio_track(Codec::aac, 20)});
    const std::uint16_t port = free_port();
    const Background server({"stream", "run", "film.mp4", "--name", "Film", "--port", std::to_string(port), "-q"},
                            dir.path());
    REQUIRE(wait_for_port(port));
    Background verifying(
        {"verify", "http://127.0.0.1:" + std::to_string(port) + "/film.mp4", "--device", "tv-hd", "--on", "chromium"},
        dir.path());
    REQUIRE(verifying.has_written("playing in chromium"));
    CHECK(verifying.end(SIGINT) == 130);
}
