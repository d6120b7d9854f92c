// What files bring that few have: edit lists, turned and HDR pictures, captions, open groups. Through the built
// program.
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <catch2/catch.hpp>
#include <chrono>
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "bitstream/frame_packing.hpp"
#include "bitstream/nal.hpp"
#include "codec/video_decoder.hpp"
#include "support/clips.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

const Time kPicture = base::from_ticks(1001, 24000);

std::string text_in(const base::Path& path) {
    const ByteVector bytes = read_all(path);
    return {bytes.begin(), bytes.end()};
}

}  // namespace

TEST_CASE("an edited film is converted as it is meant to be seen", "[unusual]") {
    const TempDir dir;
    write_media(dir / "plain.mp4", "mp4", {video_track(Codec::mpeg4, 100), audio_track(Codec::aac, 4.2)});
    // The second and third interval begin between keyframes.
    write_all(dir / "film.mp4",
              with_edits(read_all(dir / "plain.mp4"), {{1500ms, 0ms}, {1200ms, 2600ms}, {700ms, 500ms}}));
    const auto inspected = json_of(run_program({"inspect", "film.mp4", "--json"}, dir.path()));
    CHECK(inspected["duration_s"].get<double>() == Approx(3.4).margin(0.03));
    const Ran ran = run_program({"convert", "film.mp4", "--into", ".", "--name", "Seen (2021)", "--json"}, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const auto output = json_of(ran)["outputs"][0];
    CHECK(output["problems"].empty());
    const auto test_tracks = read_media(dir / "Seen (2021)/Seen (2021).mp4");
    REQUIRE(test_tracks.size() == 2);
    // 36, then 29 or 30 (one is shown in part), then 17 or 18.
    CHECK(test_tracks[0].packets.size() >= 82);
    CHECK(test_tracks[0].packets.size() <= 85);
    CHECK(std::chrono::abs(test_tracks[0].track.duration - 3400ms) <= 2 * kPicture);
    CHECK(std::chrono::abs(test_tracks[1].track.duration - 3400ms) <= 25ms);

    // Without coding anew, what begins between keyframes can't be kept: said, with its times.
    const Ran remuxed = run_program(
        {"convert", "film.mp4", "--remux", "matroska", "--into", ".", "--name", "Kept", "--json"}, dir.path());
    REQUIRE(remuxed.status == 0);
    const auto problems = json_of(remuxed)["outputs"][0]["problems"];
    REQUIRE(problems.size() == 2);
    CHECK(problems[0]["what"].get<std::string>().find("between keyframes") != std::string::npos);
    CHECK(problems[0]["from_s"].get<double>() == Approx(1.5).margin(0.05));
    const auto kept = read_media(dir / "Kept/Kept.mkv");
    std::string times;
    for (const Packet& p : kept[0].packets) times += (p.key ? "*" : "") + std::to_string(base::to_seconds(p.pts)) + " ";
    CAPTURE(times);
    // Two intervals wait for their keyframes.
    int waits = 0;
    for (std::size_t i = 1; i < kept[0].packets.size(); ++i) {
        const bool jump = kept[0].packets[i].pts - kept[0].packets[i - 1].pts > 5 * kPicture;
        waits += jump ? 1 : 0;
        CHECK((!jump || kept[0].packets[i].key));
    }
    CHECK(waits == 2);
    CHECK(kept[0].packets.back().pts < 3400ms);
}

TEST_CASE("HDR10 and the turn of a picture go along through the program", "[unusual]") {
    const TempDir dir;
    TestTrack picture = open_gop_track(72);
    picture.track.rotation = 270;
    write_media(dir / "a.mp4", "mp4", {picture, audio_track(Codec::ac3, 3)});
    for (const auto& [from, format, to] : {std::tuple{"a.mp4", "matroska", "b/b.mkv"}, {"b/b.mkv", "mp4", "c/c.mp4"}}) {
        const Ran ran = run_program(
            {"convert", from, "--remux", format, "--into", ".", "--name", std::string(1, to[0]), "-q"}, dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const auto track = json_of(run_program({"inspect", to, "--json"}, dir.path()))["tracks"][0];
        INFO(track.dump());
        CHECK(track["rotation"] == 270);
        CHECK(track["mastering_display"]["max_cd_m2"] == 1000.0);
        CHECK(track["mastering_display"]["min_cd_m2"] == 0.005);
        const Ran text = run_program({"inspect", to}, dir.path());
        CHECK(text.out.find("HDR10 metadata") != std::string::npos);
        CHECK(text.out.find("rotated 270 degrees") != std::string::npos);
    }
    const auto before = read_media(dir / "a.mp4"), after = read_media(dir / "c/c.mp4");
    CHECK(payload_of(after[0]) == payload_of(before[0]));
    // A transport stream holds neither beside the pictures: what is inside of them stays.
    const Ran ts = run_program({"convert", "a.mp4", "--remux", "mpeg-ts", "--into", ".", "--name", "d"}, dir.path());
    CHECK(ts.status == 0);
    INFO(ts.out << ts.err);
    CHECK((ts.out + ts.err).find("rotated") != std::string::npos);
}

TEST_CASE("both eyes' views in one picture: found, kept, and told on", "[unusual][frame-packing]") {
    const TempDir dir;
    const FramePacking packing{FramePacking::Arrangement::side_by_side, FramePacking::View::right};
    TestTrack picture = video_track(Codec::h264, 72);
    for (Packet& packet : picture.packets) {
        if (!packet.key) continue;
        ByteVector data;
        bitstream::nal::append(data, bitstream::frame_packing_unit({packing, true}));
        const ByteSpan rest = packet.data.view();
        data.insert(data.end(), rest.begin(), rest.end());
        packet.data = Bytes(std::move(data));
    }
    for (const std::string format : {"mpeg-ts", "matroska", "mp4"}) {
        INFO(format);
        const std::string name = "film" + std::string(container::extension_of(format));
        write_media(dir / name, format, {picture});
        const auto track = json_of(run_program({"inspect", name, "--json"}, dir.path()))["tracks"][0];
        CHECK(track["frame_packing"]["arrangement"] == "side-by-side");
        CHECK(track["frame_packing"]["first_view"] == "right");
        const Ran text = run_program({"inspect", name}, dir.path());
        CHECK(text.out.find("3D side by side, right view first") != std::string::npos);
    }
    const Ran ran = run_program({"convert", "film.mp4", "--into", ".", "--name", "Small", "--json"}, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const TestTrack small = read_media(dir / "Small/Small.mp4")[0];
    CHECK(small.track.frame_packing == packing);
    auto decoder = codec::make_video_decoder(small.track);
    REQUIRE(decoder);
    std::vector<Picture> pictures;
    for (const Packet& packet : small.packets) REQUIRE((*decoder)->decode(packet, pictures));
    REQUIRE((*decoder)->flush(pictures));
    CHECK(pictures.size() == 72);
    for (const Picture& one : pictures) CHECK(one.frame_packing == packing);
    // Matroska and WebM say it of their own, of any codec: StereoMode 11 (RFC 9559, 5.1.4.1.28.3).
    REQUIRE(run_program({"convert", "film.mp4", "--remux", "matroska", "--into", ".", "--name", "Kept"}, dir.path())
                .status == 0);
    TestTrack web = video_track(Codec::vp9, 24);
    web.track.frame_packing = packing;
    write_media(dir / "film.webm", "webm", {web});
    for (const char* file : {"Kept/Kept.mkv", "film.webm"}) {
        const ByteVector bytes = read_all(dir / file), mode = {0x53, 0xB8, 0x81, 11};
        CHECK(std::search(bytes.begin(), bytes.end(), mode.begin(), mode.end()) != bytes.end());
        CHECK(read_media(dir / file)[0].track.frame_packing == packing);
    }
}

TEST_CASE("captions inside the pictures are found, and written out", "[unusual]") {
    const TempDir dir;
    TestTrack picture = video_track(Codec::h264, 240);
    add_captions(picture, {{1500ms, 3s, "THE LAKE IS COLD"}, {5s, 8s, "COME IN"}});
    for (const std::string format : {"mpeg-ts", "matroska", "mp4"}) {
        const std::string name = "film" + std::string(container::extension_of(format));
        write_media(dir / name, format, {picture, audio_track(Codec::aac, 10)});
        INFO(format);
        const auto inspected = json_of(run_program({"inspect", name, "--json"}, dir.path()));
        INFO(inspected.dump());
        CHECK(inspected["tracks"][0]["closed_captions"] == true);
        const Ran ran =
            run_program({"convert", name, "--remux", "webvtt", "--into", format, "--name", "x"}, dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const std::string vtt = text_in(dir / (format + "/x/x.vtt"));
        CHECK(vtt ==
              "WEBVTT\n\n00:00:01.502 --> 00:00:03.003\nTHE LAKE IS COLD\n\n"
              "00:00:05.005 --> 00:00:08.008\nCOME IN\n");
    }
    // A picture without any.
    write_media(dir / "none.mp4", "mp4", {video_track(Codec::h264, 24)});
    const Ran none = run_program({"convert", "none.mp4", "--remux", "webvtt", "--into", "n"}, dir.path());
    CHECK(none.status == 3);
    CHECK(none.err.find("no closed captions") != std::string::npos);
}

TEST_CASE("a cut in open groups leaves no picture that can't be decoded", "[unusual]") {
    const TempDir dir;
    const TestTrack picture = open_gop_track(192);
    // Pictures behind a keyframe that are shown before it: without them this would test nothing.
    int leading = 0;
    Time key{};
    for (const Packet& p : picture.packets) {
        if (p.key) key = p.pts;
        leading += p.pts < key ? 1 : 0;
    }
    REQUIRE(leading > 4);
    for (const std::string format : {"matroska", "mp4", "mpeg-ts"}) {
        const std::string name = "a" + std::string(container::extension_of(format));
        write_media(dir / name, format, {picture, audio_track(Codec::ac3, 8)});
        INFO(format);
        const Ran ran = run_program(
            {"convert", name, "--remux", "matroska", "--cut", "0:02.2-0:04.5", "--into", ".", "--name", format, "-q"},
            dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const auto test_tracks = read_media(dir / (format + "/" + format + ".mkv"));
        REQUIRE(test_tracks.size() == 2);
        // From 2.002 s to before 5.005 s, less the pictures that need the keyframe at the end.
        const auto& packets = test_tracks[0].packets;
        CHECK(packets.front().key);
        CHECK(packets.front().pts == Time{});
        CHECK(packets.size() >= 68);
        CHECK(packets.size() <= 72);
        for (const Packet& p : packets) CHECK(p.pts < 3003ms);
        CHECK(std::chrono::abs(test_tracks[1].packets.front().pts) <= 32ms);
        CHECK(std::chrono::abs(test_tracks[1].packets.back().pts + 32ms - 3003ms) <= 33ms);
        // Each group but the first keeps its leading pictures, and each is there once.
        std::vector<Time> times;
        for (const Packet& p : packets) times.push_back(p.pts);
        std::sort(times.begin(), times.end());
        for (std::size_t i = 1; i < times.size(); ++i)
            CHECK(std::chrono::abs(times[i] - times[i - 1] - kPicture) < 1ms);
    }
}

TEST_CASE("a cut of a disc title", "[unusual]") {
    const TempDir dir;
    const Ran ran = run_program({"convert", sample_disc().string(), "--remux", "matroska", "--cut", "0:03-0:09",
                                 "--into", ".", "--name", "Part", "--json"},
                                dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const auto whole = json_of(run_program({"inspect", "--deep", sample_disc().string(), "--json"}, dir.path()));
    const auto part = json_of(run_program({"inspect", "--deep", "Part/Part.mkv", "--json"}, dir.path()));
    INFO(part.dump());
    // Whole groups, from the last keyframe before to the first one behind.
    const double longest = whole["deep"]["tracks"][0]["keyframes"]["longest_s"].get<double>();
    const double duration = part["duration_s"].get<double>();
    CHECK(duration >= 5.95);
    CHECK(duration <= 6.05 + 2 * longest);
    CHECK(part["deep"]["tracks"][0]["gaps"] == 0);
    CHECK(part["deep"]["tracks"][1]["gaps"] == 0);
    CHECK(part["problems"].empty());
}

TEST_CASE("what this program can't read is told by name, and no remedy leads back to it", "[cli][avi]") {
    const TempDir dir;
    ByteVector file = mpeg4_avi(24, false);
    std::string_view text(reinterpret_cast<const char*>(file.data()), file.size());
    for (std::size_t at = text.find("XVID"); at != std::string_view::npos; at = text.find("XVID", at)) {
        const std::string_view other = "cvid";
        std::copy(other.begin(), other.end(), file.begin() + static_cast<std::ptrdiff_t>(at));
        text = std::string_view(reinterpret_cast<const char*>(file.data()), file.size());
    }
    write_all(dir / "old.avi", file);
    const Ran shown = run_program({"inspect", "old.avi"}, dir.path());
    CHECK((shown.out + shown.err).find("Cinepak") != std::string::npos);
    // In MP4, by the type of its sample entry.
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 24), audio_track(Codec::aac, 1)});
    ByteVector mp4 = read_all(dir / "a.mp4");
    const std::string_view avc = "avc1", cinepak = "cvid";
    for (auto at = mp4.begin(); (at = std::search(at, mp4.end(), avc.begin(), avc.end())) != mp4.end();)
        std::copy(cinepak.begin(), cinepak.end(), at);
    write_all(dir / "old.mp4", mp4);
    const Ran told = run_program({"inspect", "old.mp4"}, dir.path());
    INFO(told.out << told.err);
    CHECK((told.out + told.err).find("Cinepak (cvid) not supported") != std::string::npos);
    // The audio is there alone: it is no film to convert.
    const Ran converted = run_program({"convert", "old.avi", "--into", "library"}, dir.path());
    CHECK(converted.status == 3);
    CHECK(converted.err.find("copy it again") == std::string::npos);
    CHECK(converted.err.find("remux") == std::string::npos);
    // A codec a device doesn't play in a container it doesn't read: converting helps, and works.
    write_all(dir / "film.avi", mpeg4_avi(48, true));
    write_all(dir / "old.toml", std::string("name = \"old\"\n[plays]\ncontainers = [\"mp4\"]\n[[plays.video]]\ncodec = "
                                            "\"h264\"\n[[plays.audio]]\ncodec = \"aac\"\n"));
    const std::uint16_t port = free_port();
    const Background server({"stream", "run", "film.avi", "--port", std::to_string(port), "-q"}, dir.path());
    REQUIRE(wait_for_port(port));
    const Ran judged = run_program(
        {"verify", "http://127.0.0.1:" + std::to_string(port) + "/film.avi", "--device", "old.toml", "--json"},
        dir.path());
    CHECK(judged.status == 1);
    CHECK(judged.out.find("nor its codecs: convert it (wavecrest convert FILE)") != std::string::npos);
    const Ran done = run_program({"convert", "film.avi", "--into", "library", "--name", "Film", "-q"}, dir.path());
    CHECK(done.status == 0);
    CHECK(std::filesystem::exists(dir / "library/Film/Film.mp4"));
    // One profile for two ways of working is one too many.
    const Ran both =
        run_program({"convert", "film.avi", "--into", "x", "--remux", "mp4", "--profile", "small-screen"}, dir.path());
    CHECK(both.status == 2);
    CHECK(both.err.find("--profile") != std::string::npos);
}

TEST_CASE("what comes over a pipe is converted, though it can't be looked at first", "[cli]") {
    const TempDir dir;
    for (const std::string format : {"mpeg-ts", "matroska"}) {
        INFO(format);
        TestTrack picture = video_track(Codec::h264, 72);
        if (format == "matroska") picture.track.frame_rate = {0, 1};
        write_media(dir / format, format, {picture, audio_track(Codec::aac, 3)});
        const std::string command =
            "cd '" + dir.path().string() + "' && cat " + format +
            " | " WAVECREST_PROGRAM " convert - --into library --profile small-screen -q --name " + format;
        CHECK(std::system((command + " > out 2>&1").c_str()) == 0);
        const ByteVector out = read_all(dir / "out");
        INFO(std::string(out.begin(), out.end()));
        REQUIRE(std::filesystem::exists(dir / "library" / format / (format + ".mp4")));
        const auto test_tracks = read_media(dir / "library" / format / (format + ".mp4"));
        CHECK(test_tracks[0].packets.size() == 72);
    }
}

TEST_CASE("what verify says to do makes the file play", "[cli][remedies]") {
    const TempDir dir;
    write_all(dir / "old.toml", std::string("name = \"old\"\n[plays]\ncontainers = [\"mp4\"]\n[[plays.video]]\ncodec = "
                                            "\"h264\"\n[[plays.audio]]\ncodec = \"aac\"\n"));
    write_media(dir / "a.mkv", "matroska", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    write_media(dir / "b.ts", "mpeg-ts", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    write_media(dir / "c.webm", "webm", {video_track(Codec::vp9, 48), audio_track(Codec::opus, 2)});
    write_media(dir / "d.mp4", "mp4", {video_track(Codec::h264, 48), audio_track(Codec::ac3, 2)});
    write_media(dir / "e.mp4", "mp4", {video_track(Codec::h265, 48), audio_track(Codec::aac, 2)});
    write_media(dir / "f.flv", "flv", {video_track(Codec::h264, 48), audio_track(Codec::mp3, 2)});
    write_all(dir / "g.avi", mpeg4_avi(48, true));
    const std::uint16_t port = free_port();
    int remuxed = 0, converted = 0;
    for (const char* name : {"a.mkv", "b.ts", "c.webm", "d.mp4", "e.mp4", "f.flv", "g.avi"}) {
        INFO(name);
        const auto judge = [&](const std::string& file) {
            const Background server({"stream", "run", file, "--port", std::to_string(port), "--name", "film", "-q"},
                                    dir.path());
            REQUIRE(wait_for_port(port));
            const std::string path = "/film" + base::Path(file).extension().string();
            const Ran judged = run_program(
                {"verify", "http://127.0.0.1:" + std::to_string(port) + path, "--device", "old.toml", "--json"},
                dir.path());
            return json_of(judged)["results"][0];
        };
        const auto before = judge(name);
        REQUIRE(before["verdict"] == "fail");
        std::string said;
        for (const auto& check : before["checks"]) {
            if (check["verdict"] == "fail") said += check["why"].get<std::string>() + "\n";
        }
        INFO(said);
        // The command in it, as it stands, or the word for it.
        REQUIRE(said.find("convert") != std::string::npos);
        std::vector<std::string> words = {"convert", name, "--into", "library", "--name", name, "-q", "--json"};
        const std::string mark = "(wavecrest convert FILE --remux ";
        if (const std::size_t at = said.find(mark); at != std::string::npos) {
            words.insert(words.end(),
                         {"--remux", said.substr(at + mark.size(), said.find(')', at) - at - mark.size())});
            ++remuxed;
        } else {
            ++converted;
        }
        const Ran done = run_program(words, dir.path());
        INFO(done.err);
        REQUIRE(done.status == 0);
        const auto after = judge((dir / json_of(done)["outputs"][0]["path"].get<std::string>()).string());
        INFO(after.dump(1));
        CHECK(after["verdict"] != "fail");
    }
    CHECK(remuxed >= 2);
    CHECK(converted >= 3);
}

TEST_CASE("what this user may not read is told as that, not as missing or empty", "[cli]") {
    const TempDir dir;
    namespace fs = std::filesystem;
    fs::permissions(dir.path(), fs::perms::owner_all | fs::perms::group_exec | fs::perms::others_exec);
    fs::copy_file(WAVECREST_PROGRAM, dir / "wavecrest");
    fs::permissions(dir / "wavecrest", fs::perms::all);
    fs::create_directories(dir / "closed" / "VIDEO_TS");
    write_all(dir / "closed" / "film.mp4", std::string("film"));
    // Root may read everything: then it is tried as nobody.
    const bool root = ::geteuid() == 0;
    fs::permissions(dir / "closed", root ? fs::perms::owner_all : fs::perms::none);
    const std::string as = root ? "setpriv --reuid=65534 --regid=65534 --clear-groups " : "";
    for (const char* name : {"closed", "closed/film.mp4"}) {
        INFO(name);
        const std::string command = "cd '" + dir.path().string() + "' && " + as + "./wavecrest inspect " + name;
        const int status = std::system((command + " >/dev/null 2>'" + (dir / "said").string() + "'").c_str());
        CHECK(WEXITSTATUS(status) == 4);
        CHECK(read_text(dir / "said").find("may not") != std::string::npos);
    }
    fs::permissions(dir / "closed", fs::perms::owner_all);
}
