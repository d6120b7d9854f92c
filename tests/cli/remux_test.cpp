// convert --remux and inspect --deep as an installer runs them.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "source/input.hpp"
#include "support/clips.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

TEST_CASE("a disc title is remuxed to every container that holds its tracks", "[remux]") {
    const TempDir dir;
    for (const auto& [format, extension] : {std::pair{"matroska", "mkv"}, {"mp4", "mp4"}}) {
        const Ran ran = run_program({"convert", sample_disc().string(), "--remux", format, "--into",
                                     dir.path().string(), "--name", "Lake House (2020)", "--json"},
                                    dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const auto output = json_of(ran)["outputs"][0];
        CHECK(output["frames"] == kSampleFrames);
        for (const auto& track : output["tracks"]) CHECK(track["action"] == "keep");
        const base::Path file = dir / ("Lake House (2020)/Lake House (2020)." + std::string(extension));
        const auto inspected = json_of(run_program({"inspect", file.string(), "--json"}, dir.path()));
        CHECK(inspected["container"] == format);
        CHECK(inspected["chapters"].size() == 5);
        CHECK(inspected["tracks"][0]["frame_rate"] == "24000/1001");
        CHECK(inspected["tracks"][0]["scan"] == "pulldown");
        CHECK(inspected["tracks"][0]["display_aspect"] == "16:9");
        CHECK(inspected["tracks"][1]["language"] == "eng");
        CHECK(inspected["duration_s"].get<double>() == Approx(12.012).margin(0.02));
        // Nothing is written over.
        const Ran again = run_program({"convert", sample_disc().string(), "--remux", format, "--into",
                                       dir.path().string(), "--name", "Lake House (2020)"},
                                      dir.path());
        CHECK(again.status == 4);
        CHECK(again.err.find("exists already") != std::string::npos);
    }
    CHECK(dir.files().size() == 2);
}

TEST_CASE("remuxing there and back leaves every byte of the streams", "[remux]") {
    const TempDir dir;
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 100), audio_track(Codec::aac, 4.1),
                                                audio_track(Codec::ac3, 4.1, 3)};
    // With every pair of containers, through the built program.
    for (const std::string a : {"mp4", "matroska", "mpeg-ts"}) {
        const base::Path first = dir / (a + std::string(container::extension_of(a)));
        write_media(first, a, test_tracks);
        const auto before = read_media(first);
        for (const std::string b : {"mp4", "matroska", "mpeg-ts"}) {
            if (a == b) continue;
            INFO(a << " to " << b << " and back");
            const base::Path there = dir / (a + "-" + b), back = dir / (a + "-" + b + "-back");
            const Ran one = run_program(
                {"convert", first.string(), "--remux", b, "--into", there.string(), "--name", "x", "-q"}, dir.path());
            INFO(one.err);
            REQUIRE(one.status == 0);
            const base::Path middle = there / ("x/x" + std::string(container::extension_of(b)));
            const Ran two = run_program(
                {"convert", middle.string(), "--remux", a, "--into", back.string(), "--name", "x", "-q"}, dir.path());
            INFO(two.err);
            REQUIRE(two.status == 0);
            const auto after = read_media(back / ("x/x" + std::string(container::extension_of(a))));
            REQUIRE(after.size() == before.size());
            for (std::size_t t = 0; t < before.size(); ++t) {
                REQUIRE(after[t].packets.size() == before[t].packets.size());
                CHECK(payload_of(after[t]) == payload_of(before[t]));
                for (std::size_t i = 0; i < before[t].packets.size(); ++i)
                    REQUIRE(after[t].packets[i].pts == before[t].packets[i].pts);
            }
        }
    }
}

TEST_CASE("formats of milliseconds lose less than half of one, and nothing over time", "[remux]") {
    const TempDir dir;
    struct Way {
        std::vector<TestTrack> test_tracks;
        std::string a, b;
    };
    const std::vector<TestTrack> avc = {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)},
                                 web = {video_track(Codec::vp9, 120), audio_track(Codec::opus, 5)};
    for (const Way& way : {Way{avc, "mp4", "flv"},
                           {avc, "matroska", "flv"},
                           {avc, "mpeg-ts", "flv"},
                           {avc, "flv", "mp4"},
                           {avc, "flv", "matroska"},
                           {avc, "flv", "mpeg-ts"},
                           {web, "webm", "mp4"},
                           {web, "mp4", "webm"},
                           {web, "matroska", "webm"},
                           {web, "webm", "matroska"}}) {
        INFO(way.a << " to " << way.b << " and back");
        const std::string name = way.a + "-" + way.b;
        write_media(dir / (name + ".first"), way.a, way.test_tracks);
        REQUIRE(
            run_program({"convert", name + ".first", "--remux", way.b, "--into", name, "--name", "x", "-q"}, dir.path())
                .status == 0);
        const std::string middle = name + "/x/x" + std::string(container::extension_of(way.b));
        REQUIRE(run_program({"convert", middle, "--remux", way.a, "--into", name + "-back", "--name", "x", "-q"},
                            dir.path())
                    .status == 0);
        const auto before = read_media(dir / (name + ".first")),
                   after = read_media(dir / (name + "-back/x/x" + std::string(container::extension_of(way.a))));
        REQUIRE(after.size() == before.size());
        for (std::size_t t = 0; t < before.size(); ++t) {
            REQUIRE(after[t].packets.size() == before[t].packets.size());
            CHECK(payload_of(after[t]) == payload_of(before[t]));
            Time worst{};
            for (std::size_t i = 0; i < before[t].packets.size(); ++i)
                worst = std::max(worst, Time(std::chrono::abs(after[t].packets[i].pts - before[t].packets[i].pts)));
            CHECK(worst <= base::from_ticks(1, 2000));
        }
    }
}

TEST_CASE("a cut begins and ends on keyframes, picture and audio together", "[remux]") {
    const TempDir dir;
    write_media(dir / "a.mkv", "matroska", {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)});
    const Ran ran = run_program(
        {"convert", "a.mkv", "--remux", "mp4", "--cut", "0:03.5-0:07", "--into", ".", "--name", "Cut", "--json"},
        dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const auto test_tracks = read_media(dir / "Cut/Cut.mp4");
    REQUIRE(test_tracks.size() == 2);
    CHECK(test_tracks[0].packets.front().key);
    // Keyframes are 24 pictures apart: from 72 to before 168.
    CHECK(test_tracks[0].packets.size() == 96);
    CHECK(test_tracks[0].packets.front().pts.count() == 0);
    CHECK(test_tracks[1].packets.front().pts >= Time{});
    CHECK(test_tracks[1].packets.front().pts < base::from_seconds(0.03));
    CHECK(std::abs(base::to_seconds(test_tracks[1].packets.back().pts) - 96 * 1001 / 24000.0) < 0.03);
    CHECK(run_program({"convert", "a.mkv", "--remux", "mp4", "--cut", "5-3", "--into", "."}, dir.path()).status == 2);
    CHECK(run_program({"convert", "a.mkv", "--remux", "mp4", "--cut", "1:00-", "--into", ".", "--name", "Late"},
                      dir.path())
              .status == 2);
    CHECK(run_program({"convert", "a.mkv", "--cut", "1-2", "--into", "."}, dir.path()).status == 2);
}

TEST_CASE("a track that does not fit is refused by name before anything is written", "[remux]") {
    const TempDir dir;
    write_media(dir / "a.mkv", "matroska",
                {video_track(Codec::vp8, 24), audio_track(Codec::opus, 1), text_track({{{0, 500}, "Hello"}})});
    const Ran refused = run_program({"convert", "a.mkv", "--remux", "mpeg-ts", "--into", "out"}, dir.path());
    CHECK(refused.status == 3);
    CHECK(refused.err.find("VP8 video") != std::string::npos);
    CHECK(refused.err.find("Opus audio, French") != std::string::npos);
    CHECK(refused.err.find("text subtitle, English") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir / "out"));
    const Ran unknown = run_program({"convert", "a.mkv", "--remux", "tape", "--into", "out"}, dir.path());
    CHECK(unknown.status == 2);
    CHECK(unknown.err.find("matroska") != std::string::npos);
    // Leaving tracks out makes it fit; subtitles go to a file of their own.
    CHECK(run_program({"convert", "a.mkv", "--remux", "webm", "--subtitles", "none", "--into", "out", "-q"}, dir.path())
              .status == 0);
    CHECK(run_program({"convert", "a.mkv", "--remux", "webvtt", "--into", "out", "-q"}, dir.path()).status == 0);
    const ByteVector vtt = read_all(dir / "out/a/a.vtt");
    CHECK(std::string(vtt.begin(), vtt.end()) == "WEBVTT\n\n00:00:00.000 --> 00:00:00.500\nHello\n");
}

TEST_CASE("a mistyped selection of tracks is refused even where there is nothing to select", "[remux]") {
    const TempDir dir;
    const base::Path film = sample_ladder() / "video-180p.mp4";  // video alone
    for (const char* option : {"--subtitles", "--audio"}) {
        const Ran ran = run_program(
            {"convert", film.string(), "--remux", "matroska", option, "lake.srt", "--into", "out"}, dir.path());
        CHECK(ran.status == 2);
        CHECK(ran.err.find("\"lake.srt\" isn't a valid track selection") != std::string::npos);
        CHECK(ran.err.find("--subtitle-file") != std::string::npos);
    }
}

TEST_CASE("standard input is read once, in order", "[remux]") {
    const TempDir dir;
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 72), audio_track(Codec::aac, 3)};
    for (const std::string format : {"matroska", "mpeg-ts", "flv", "mp4"}) {
        const std::string name = "a" + std::string(container::extension_of(format));
        write_media(dir / name, format, test_tracks);
        INFO(format);
        const std::string program = WAVECREST_PROGRAM;
        const std::string command = "cd '" + dir.path().string() + "' && cat " + name + " | '" + program +
                                    "' convert - --remux matroska --into . --name piped-" + format + " -q 2>err";
        REQUIRE(std::system(command.c_str()) == 0);
        const auto read = read_media(dir / ("piped-" + format + "/piped-" + format + ".mkv"));
        REQUIRE(read.size() == 2);
        CHECK(payload_of(read[0]) == payload_of(test_tracks[0]));
        CHECK(payload_of(read[1]) == payload_of(test_tracks[1]));
    }
    CHECK(std::system((std::string("'") + WAVECREST_PROGRAM + "' inspect - < /dev/null 2>/dev/null").c_str()) != 0);
}

TEST_CASE("Ctrl-C ends the wait for input and leaves nothing", "[remux][waits]") {
    const TempDir dir;
    write_media(dir / "a.mkv", "matroska", {video_track(Codec::h264, 72)});
    // Half a file, then silence.
    const std::string program = WAVECREST_PROGRAM;
    // (What sleeps on holds nothing of the test's own output.)
    const std::string command =
        "cd '" + dir.path().string() +
        "' && mkfifo p; ((head -c 60000 a.mkv; sleep 20) > p) >/dev/null 2>&1 & sleep 0.3; exec "
        "timeout -s INT 1 '" +
        program + "' convert - --remux mp4 --into out -q < p > log 2>&1";
    const auto begin = std::chrono::steady_clock::now();
    std::system(("bash -c \"" + command + "\"").c_str());
    CHECK(std::chrono::steady_clock::now() - begin < std::chrono::seconds(10));
    const ByteVector log = read_all(dir / "log");
    CHECK(std::string(log.begin(), log.end()).find("interrupted") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir / "out"));
}

TEST_CASE("an address is inspected with few bytes, and read as a file is", "[remux]") {
    const TempDir dir;
    write_media(dir / "film.mp4", "mp4", {video_track(Codec::h264, 72), audio_track(Codec::aac, 3)});
    const std::uint16_t port = free_port();
    const Background server({"stream", "run", "film.mp4", "--port", std::to_string(port)}, dir.path());
    REQUIRE(wait_for_port(port));
    const std::string address = "http://127.0.0.1:" + std::to_string(port) + "/film.mp4";
    const auto inspected = json_of(run_program({"inspect", address, "--json"}, dir.path()));
    CHECK(inspected["container"] == "mp4");
    CHECK(inspected["tracks"][0]["codec_string"].get<std::string>().substr(0, 5) == "avc1.");
    const Ran ran = run_program({"convert", address, "--remux", "matroska", "--into", ".", "-q"}, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    CHECK(payload_of(read_media(dir / "film/film.mkv")[0]) == payload_of(read_media(dir / "film.mp4")[0]));
    CHECK(run_program({"inspect", "http://127.0.0.1:1/x.mp4"}, dir.path()).status == 3);
}

TEST_CASE("deep inspection says in words what will matter, and leaves figures", "[deep]") {
    const TempDir dir;
    write_media(dir / "a.ts", "mpeg-ts", {video_track(Codec::h264, 120), audio_track(Codec::ac3, 5)});
    const Ran ran = run_program({"inspect", "--deep", "a.ts", "--out", "results", "--json"}, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const auto deep = json_of(ran)["deep"];
    CHECK(deep["summary"].size() >= 2);
    CHECK(deep["tracks"][0]["keyframes"]["count"] == 5);
    CHECK(deep["tracks"][0]["keyframes"]["longest_s"] == Approx(1.001));
    CHECK(deep["tracks"][0]["packets"] == 120);
    CHECK(deep["tracks"][1]["loudness"]["integrated_lufs"].get<double>() < 0);
    CHECK(deep["tracks"][1]["gaps"] == 0);
    CHECK(deep["transport"]["discontinuities"] == 0);
    CHECK(deep["transport"]["pcr_interval_s"].get<double>() <= 0.04);
    CHECK(deep["transport"]["summary"].empty());
    CHECK(deep["transport"]["streams"].size() == 2);
    for (const char* name : {"results/inspect-a-rate.png", "results/inspect-a-rate.csv",
                             "results/inspect-a-keyframes.png", "results/inspect-a-loudness.png"})
        CHECK(std::filesystem::file_size(dir / name) > 40);
    const Ran text = run_program({"inspect", "--deep", "a.ts"}, dir.path());
    CHECK(text.out.find("keyframe interval at most 1.0 s") != std::string::npos);
    CHECK(text.out.find("LUFS") != std::string::npos);
}

TEST_CASE("every track of a disc is remuxed to the byte: audio, subpictures, presentation graphics", "[remux]") {
    const TempDir dir;
    for (const auto& [name, disc] : {std::pair{"dvd", rich_dvd()}, {"blu-ray", rich_blu_ray()}}) {
        INFO(name);
        const Ran ran = run_program(
            {"convert", disc.string(), "--remux", "matroska", "--into", name, "--name", "All", "--json"}, dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const int title = json_of(ran)["outputs"][0]["title"].get<int>();
        auto input = source::open_input(disc);
        REQUIRE(input);
        auto source = (*input)->open(title, 1);
        REQUIRE(source);
        const auto before = read_all_packets(**source), after = read_media(dir / (std::string(name) + "/All/All.mkv"));
        REQUIRE(before.size() == after.size());
        int images = 0;
        for (std::size_t t = 0; t < before.size(); ++t) {
            const TestTrack& a = before[t];
            const TestTrack& b = after[t];
            INFO(media::short_name(a.track.codec) << ", track " << t);
            CHECK(b.track.codec == a.track.codec);
            images += a.track.codec == Codec::dvd_subpicture || a.track.codec == Codec::pgs ? 1 : 0;
            REQUIRE(b.packets.size() == a.packets.size());
            REQUIRE(a.packets.size() > 0);
            std::size_t wrong = 0;
            for (std::size_t i = 0; i < a.packets.size(); ++i) {
                const ByteSpan x = a.packets[i].data.view(), y = b.packets[i].data.view();
                // MPEG-2's headers may be repeated; everything else is the same to the byte.
                const bool same = a.track.kind == TrackKind::video
                                      ? y.size() >= x.size() && std::equal(x.rbegin(), x.rend(), y.rbegin())
                                      : std::equal(x.begin(), x.end(), y.begin(), y.end());
                const Time off = std::chrono::abs(b.packets[i].pts - a.packets[i].pts);
                wrong += same && off <= base::from_ticks(1, 2000) ? 0 : 1;
            }
            CHECK(wrong == 0);
        }
        CHECK(images >= 2);
    }
}
