// What profiles ask for beyond quality: sizes, audio alone, tracks as they are, subtitles, borders, loudness; by the
// built program on made-up discs and files.
#include <algorithm>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "media/language.hpp"
#include "sample/test_card.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

// Converts with the text of a profile; the path of what came of it.
base::Path convert(const TempDir& dir, const std::string& input, const std::string& name, const std::string& profile,
                   std::vector<std::string> more = {}) {
    write_all(dir / (name + ".toml"), "name = \"" + name + "\"\n" + profile);
    std::vector<std::string> arguments = {"convert", input,    "--profile", name + ".toml", "--into",
                                          "out",     "--name", name,        "--json"};
    arguments.insert(arguments.end(), more.begin(), more.end());
    const Ran ran = run_program(arguments, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    return dir.path() / json_of(ran)["outputs"][0]["path"].get<std::string>();
}
Json deep(const TempDir& dir, const base::Path& file) {
    return json_of(run_program({"inspect", file.string(), "--deep", "--json"}, dir.path()));
}
const TestTrack* track_of(const std::vector<TestTrack>& tracks, TrackKind kind) {
    for (const TestTrack& track : tracks) {
        if (track.track.kind == kind) return &track;
    }
    return nullptr;
}

}  // namespace

TEST_CASE("a file comes to the size that a profile asks for", "[cli][convert][profile]") {
    const TempDir dir;
    const std::string disc = sample_disc().string();
    for (const auto& [container, audio] : {std::pair{"mp4", "aac"}, {"mpeg-ts", "ac3"}}) {
        INFO(container);
        const base::Path file =
            convert(dir, disc, std::string("size-") + container,
                    std::string("container = \"") + container +
                        "\"\n[video]\neffort = 1\nmax_size = \"480x320\"\ntarget_size = \"1.1 MB\"\n[audio]\n"
                        "codec = \"" +
                        audio + "\"\nbitrate = \"96 kbit/s\"\n");
        CHECK(static_cast<double>(std::filesystem::file_size(file)) ==
              Approx(1.1e6).epsilon(0.06));  // of twelve seconds
    }
    // The plan knows it; what leaves nothing for the video is refused, and nothing is left behind.
    write_all(
        dir / "small.toml",
        std::string(
            "name = \"small\"\n[video]\neffort = 1\ntarget_size = \"1 MB\"\n[audio]\nbitrate = \"640 kbit/s\"\n"));
    const Ran plan = run_program({"convert", disc, "--profile", "small.toml", "--into", "out", "--plan"}, dir.path());
    CHECK(plan.out.find("two passes") != std::string::npos);
    write_all(dir / "none.toml",
              std::string("name = \"none\"\ncontainer = \"matroska\"\n[video]\neffort = 1\ntarget_size = \"1 MB\"\n"
                          "[audio]\ncodec = \"lpcm\"\n"));
    const Ran none = run_program({"convert", disc, "--profile", "none.toml", "--into", "none"}, dir.path());
    CHECK(none.status == 2);
    CHECK(none.err.find("too small") != std::string::npos);
    CHECK(TempDir().files().empty());
    for (const std::string& name : dir.files()) CHECK(name.find("none/") == std::string::npos);
    const Ran pipe = run_program({"convert", "-", "--profile", "small.toml", "--into", "out"}, dir.path());
    CHECK(pipe.status != 0);
}

TEST_CASE("audio is converted alone, from discs and from audio files", "[cli][convert][profile]") {
    const TempDir dir;
    const base::Path from_disc = convert(dir, sample_disc().string(), "disc-audio",
                                         "[video]\ncodec = \"none\"\n[audio]\nbitrate = \"128 kbit/s\"\n");
    CHECK(from_disc.extension() == ".m4a");
    auto tracks = read_media(from_disc);
    REQUIRE(tracks.size() == 1);
    CHECK(tracks[0].track.codec == Codec::aac);
    write_media(dir / "album.flac", "flac", {audio_track(Codec::flac, 3)});
    for (const auto& [container, codec, extension] : {std::tuple{"mp3", "mp3", ".mp3"},
                                                      {"ogg", "opus", ".ogg"},
                                                      {"wav", "lpcm", ".wav"},
                                                      {"flac", "flac", ".flac"},
                                                      {"matroska", "opus", ".mka"}}) {
        INFO(container);
        const base::Path file = convert(dir, "album.flac", std::string("album-") + container,
                                        std::string("container = \"") + container +
                                            "\"\n[video]\ncodec = \"none\"\n[audio]\ncodec = \"" + codec + "\"\n");
        CHECK(file.extension() == extension);
        tracks = read_media(file);
        REQUIRE(tracks.size() == 1);
        CHECK(media::short_name(tracks[0].track.codec) == codec);
        const Packet& last = tracks[0].packets.back();
        CHECK(base::to_seconds(last.pts + last.duration) == Approx(3).margin(0.06));
    }
    // A profile for films has nothing to do here, and says what would.
    const Ran wrong = run_program({"convert", "album.flac", "--into", "out"}, dir.path());
    CHECK(wrong.status == 3);
    CHECK(wrong.err.find("--profile audio-only") != std::string::npos);
    CHECK(run_program({"convert", "album.flac", "--profile", "audio-only", "--into", "out"}, dir.path()).status == 0);
}

TEST_CASE("video goes along as it is beside audio that is encoded", "[cli][convert][profile]") {
    const TempDir dir;
    const TestTrack video = video_track(Codec::h264, 96);
    write_media(dir / "film.mkv", "matroska", {video, audio_track(Codec::ac3, 4)});
    const base::Path file =
        convert(dir, "film.mkv", "kept", "[video]\ncodec = \"as-source\"\n[audio]\ncodec = \"aac\"\n");
    const auto tracks = read_media(file);
    const TestTrack *kept = track_of(tracks, TrackKind::video), *audio = track_of(tracks, TrackKind::audio);
    REQUIRE(kept != nullptr);
    REQUIRE(audio != nullptr);
    CHECK(audio->track.codec == Codec::aac);
    CHECK(payload_of(*kept) == payload_of(video));
    REQUIRE(kept->packets.size() == video.packets.size());
    for (std::size_t i = 0; i < video.packets.size(); ++i)
        CHECK(std::chrono::abs(kept->packets[i].pts - video.packets[i].pts) < std::chrono::milliseconds(2));
}

TEST_CASE("the programme's loudness is what a profile asks for", "[cli][convert][profile]") {
    const TempDir dir;
    for (const double wanted : {-23.0, -14.0}) {
        const base::Path file =
            convert(dir, sample_disc().string(), wanted < -20 ? "quiet" : "loud",
                    "container = \"matroska\"\n[video]\ncodec = \"none\"\n[audio]\ncodec = \"flac\"\nloudness = \"" +
                        std::to_string(wanted) + " LUFS\"\n");
        const Json found = deep(dir, file);
        bool any = false;
        for (const Json& track : found["deep"]["tracks"]) {
            if (!track.contains("loudness")) continue;
            any = true;
            CHECK(track["loudness"]["integrated_lufs"].get<double>() == Approx(wanted).margin(0.5));
            CHECK(track["loudness"]["true_peak_dbtp"].get<double>() <= -0.95);
        }
        CHECK(any);
    }
}

TEST_CASE("text subtitles go along, also from a file beside the film", "[cli][convert][profile]") {
    const TempDir dir;
    const TestTrack text = text_track({{{500, 1500}, "Boats are tied up."}, {{2000, 3000}, "Lamps on the jetty."}});
    write_media(dir / "film.mkv", "matroska", {video_track(Codec::h264, 96), audio_track(Codec::aac, 4), text});
    const auto words = [](const base::Path& file) {
        std::vector<std::string> all;
        for (const TestTrack& track : read_media(file)) {
            if (track.track.kind != TrackKind::subtitle) continue;
            for (const Packet& cue : track.packets) {
                const ByteSpan bytes = cue.data.view();
                if (!bytes.empty()) all.emplace_back(bytes.begin(), bytes.end());
            }
        }
        return all;
    };
    const std::string video = "[video]\neffort = 1\n";
    const std::vector<std::string> both = {"Boats are tied up.", "Lamps on the jetty."};
    CHECK(words(convert(dir, "film.mkv", "mp4", video)) == both);
    CHECK(words(convert(dir, "film.mkv", "mkv", "container = \"matroska\"\n" + video)) == both);
    const base::Path webm =
        convert(dir, "film.mkv", "webm",
                "container = \"webm\"\n[video]\ncodec = \"vp9\"\neffort = 1\n[audio]\ncodec = \"opus\"\n");
    CHECK(words(webm) == both);
    CHECK(read_text(webm).find("D_WEBVTT/SUBTITLES") != std::string::npos);
    CHECK(words(convert(dir, "film.mkv", "without", video + "[subtitles]\ntext = \"leave-out\"\n")).empty());
    write_media(dir / "bare.mkv", "matroska", {video_track(Codec::h264, 96), audio_track(Codec::aac, 4)});
    write_all(dir / "bare.en.srt", std::string("1\n00:00:01,000 --> 00:00:02,000\nFrom a file.\n"));
    const base::Path with = convert(dir, "bare.mkv", "with", video, {"--subtitle-file", "bare.en.srt"});
    CHECK(words(with) == std::vector<std::string>{"From a file."});
    for (const TestTrack& track : read_media(with)) {
        if (track.track.kind != TrackKind::subtitle) continue;
        CHECK(media::language_639_2(track.track.language) == "eng");
        CHECK(track.packets.front().pts == base::from_seconds(1));
    }
    const Ran remuxed = run_program({"convert", "bare.mkv", "--remux", "mp4", "--subtitle-file", "bare.en.srt",
                                     "--into", "out", "--name", "remuxed", "--json"},
                                    dir.path());
    REQUIRE(remuxed.status == 0);
    CHECK(words(dir.path() / json_of(remuxed)["outputs"][0]["path"].get<std::string>()) ==
          std::vector<std::string>{"From a file."});
    CHECK(run_program({"convert", "bare.mkv", "--subtitle-file", "bare.mkv", "--into", "out"}, dir.path()).status == 3);
    // Burned in, they are in the picture and no track.
    const base::Path drawn = convert(dir, "bare.mkv", "drawn", "[video]\neffort = 1\n",
                                     {"--subtitle-file", "bare.en.srt", "--subtitles", "en"});
    CHECK(words(drawn).empty());
    const auto bright = [&](const base::Path& file, double seconds) {
        for (const TestTrack& track : read_media(file)) {
            if (track.track.kind != TrackKind::video) continue;
            auto decoder = codec::make_video_decoder(track.track);
            REQUIRE(decoder);
            std::vector<Picture> pictures;
            for (const Packet& packet : track.packets) REQUIRE((*decoder)->decode(packet, pictures));
            REQUIRE((*decoder)->flush(pictures));
            for (const Picture& picture : pictures) {
                if (picture.pts < base::from_seconds(seconds)) continue;
                // Below the card's code, where nothing of its own is.
                int count = 0;
                for (int y = picture.height * 93 / 100; y < picture.height * 96 / 100; ++y) {
                    for (int x = picture.width / 3; x < picture.width * 2 / 3; ++x)
                        count += picture.row<std::uint8_t>(0, y)[x] > 150 ? 1 : 0;
                }
                return count;
            }
        }
        return -1;
    };
    CHECK(bright(drawn, 1.5) > bright(with, 1.5) + 10);
    CHECK(std::abs(bright(drawn, 2.5) - bright(with, 2.5)) < 10);
}

TEST_CASE("closed captions become a track of text", "[cli][convert][profile]") {
    const TempDir dir;
    TestTrack video = video_track(Codec::h264, 240);
    using namespace std::chrono_literals;
    add_captions(video, {{1500ms, 3s, "THE LAKE IS COLD"}, {5s, 8s, "COME IN"}});
    write_media(dir / "film.mkv", "matroska", {video, audio_track(Codec::aac, 10)});
    const base::Path file = convert(dir, "film.mkv", "told", "[video]\neffort = 1\n", {"--captions"});
    std::vector<std::pair<double, std::string>> cues;
    for (const TestTrack& track : read_media(file)) {
        if (track.track.kind != TrackKind::subtitle) continue;
        for (const Packet& cue : track.packets) {
            const ByteSpan bytes = cue.data.view();
            if (!bytes.empty()) cues.emplace_back(base::to_seconds(cue.pts), std::string(bytes.begin(), bytes.end()));
        }
    }
    REQUIRE(cues.size() == 2);
    CHECK(cues[0].second == "THE LAKE IS COLD");
    CHECK(cues[0].first == Approx(1.5).margin(0.1));
    CHECK(cues[1].second == "COME IN");
    CHECK(cues[1].first == Approx(5).margin(0.1));
    write_media(dir / "bare.mkv", "matroska", {video_track(Codec::h264, 24), audio_track(Codec::aac, 1)});
    const Ran none = run_program({"convert", "bare.mkv", "--captions", "--into", "out"}, dir.path());
    CHECK(none.status == 3);
    CHECK(none.err.find("no closed captions") != std::string::npos);
}

TEST_CASE("bitmap subtitles stay a track where the profile keeps them", "[cli][convert][profile]") {
    const TempDir dir;
    write_all(dir / "disc.toml", std::string("kind = \"dvd\"\n[[audio]]\ncodec = \"ac3\"\n[[subtitles]]\n"
                                             "[[part]]\nname = \"film\"\nlength = \"6 s\"\n"));
    REQUIRE(run_program({"standin", "disc", "disc", "--from", "disc.toml", "-q"}, dir.path()).status == 0);
    const base::Path file =
        convert(dir, "disc", "kept", "container = \"matroska\"\n[video]\neffort = 1\n[subtitles]\nbitmap = \"keep\"\n");
    const auto tracks = read_media(file);
    const TestTrack* images = track_of(tracks, TrackKind::subtitle);
    REQUIRE(images != nullptr);
    CHECK(images->track.codec == Codec::dvd_subpicture);
    CHECK(images->packets.size() == 2);
    write_all(dir / "no.toml", std::string("name = \"no\"\n[subtitles]\nbitmap = \"keep\"\n"));
    const Ran wrong = run_program({"profile", "check", "no.toml"}, dir.path());
    CHECK(wrong.status == 1);
    CHECK(wrong.err.find("bitmap") != std::string::npos);
}

TEST_CASE("black borders are cropped, frames halved and keyframes set apart evenly", "[cli][convert][profile]") {
    const TempDir dir;
    // 50 frames a second between borders of 20 rows.
    codec::VideoEncoderSettings settings;
    settings.width = 320;
    settings.height = 240;
    settings.frame_rate = {50, 1};
    settings.colour = {6, 6, 6, false};
    settings.keyframe_distance = base::from_seconds(0.25);
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    sample::CardSettings card_settings;
    card_settings.width = 320;
    card_settings.height = 240;
    card_settings.frame_rate = {50, 1};
    const sample::TestCard card(card_settings);
    TestTrack track;
    for (int i = 0; i < 200; ++i) {
        Picture picture = card.draw(i);
        for (int y = 0; y < 240; ++y) {
            if (y < 20 || y >= 220) std::fill_n(picture.row<std::uint8_t>(0, y), 320, static_cast<std::uint8_t>(16));
        }
        for (int plane = 1; plane < 3; ++plane) {
            for (int y = 0; y < 120; ++y) {
                if (y < 10 || y >= 110)
                    std::fill_n(picture.row<std::uint8_t>(plane, y), 160, static_cast<std::uint8_t>(128));
            }
        }
        REQUIRE((*encoder)->encode(picture, track.packets));
    }
    REQUIRE((*encoder)->flush(track.packets));
    track.track = (*encoder)->track();
    track.track.id = 1;
    for (Packet& packet : track.packets) packet.track = 1;
    write_media(dir / "film.mp4", "mp4", {track, audio_track(Codec::aac, 4)});
    const base::Path file = convert(dir, "film.mp4", "cropped",
                                    "[video]\ncrop = \"black-borders\"\nframe_rate = \"half\"\n"
                                    "keyframe_interval = \"1 s\"\nfixed_keyframes = true\neffort = 1\n");
    const auto tracks = read_media(file);
    const TestTrack* video = track_of(tracks, TrackKind::video);
    REQUIRE(video != nullptr);
    CHECK(video->track.width == 320);
    CHECK(video->track.height == 200);
    CHECK(video->packets.size() == 100);
    std::vector<double> keys;
    for (const Packet& packet : video->packets) {
        if (packet.key) keys.push_back(base::to_seconds(packet.pts));
    }
    REQUIRE(keys.size() == 4);
    for (std::size_t i = 0; i < 4; ++i) CHECK(keys[i] == Approx(static_cast<double>(i)).margin(0.001));
}

TEST_CASE("what a live stream can't do of a profile is refused", "[cli][stream][profile]") {
    const TempDir dir;
    for (const char* text : {"[video]\ncodec = \"as-source\"\n", "[video]\ncodec = \"none\"\n",
                             "[video]\ntarget_size = \"2 MB\"\n", "[audio]\nloudness = \"-23 LUFS\"\n"}) {
        INFO(text);
        write_all(dir / "p.toml", std::string("name = \"p\"\n") + text);
        const Ran ran = run_program({"stream", "run", sample_film().string(), "--profile", "p.toml", "--delivery",
                                     "live", "--port", std::to_string(free_port())},
                                    dir.path(), 20);
        CHECK(ran.status == 2);
        CHECK(ran.err.find("to do:") != std::string::npos);
    }
}

TEST_CASE("profiles are made like others, and held against devices", "[cli][profile]") {
    const TempDir dir;
    const Ran made = run_program({"profile", "new", "guest-room", "--like", "phone", "--set", "effort=7", "--set",
                                  "audio.bitrate=96 kbit/s", "--set", "crop=black-borders"},
                                 dir.path());
    REQUIRE(made.status == 0);
    const Json shown = json_of(run_program({"profile", "show", "guest-room.toml", "--json"}, dir.path()));
    CHECK(shown["name"] == "guest-room");
    CHECK(shown["effort"] == 7);
    CHECK(shown["audio"][0]["bitrate_bps"] == 96'000);
    CHECK(read_text(dir / "guest-room.toml").find("crop = \"black-borders\"") != std::string::npos);
    // A bit rate or a size takes the place of the other's quality, and the other way round.
    struct Derived {
        const char *name, *like, *change, *there, *gone;
    };
    for (const Derived& one :
         {Derived{"by-rate", "full-picture", "bitrate=1500 kbit/s", "\nbitrate = \"1500 kbit/s\"", "visual_quality"},
          Derived{"by-size", "phone", "target_size=1.4 GB", "target_size = \"1.4 GB\"", "visual_quality"},
          Derived{"by-quality", "by-rate.toml", "visual_quality=70", "visual_quality = 70", "1500 kbit/s"}}) {
        INFO(one.name);
        REQUIRE(run_program({"profile", "new", one.name, "--like", one.like, "--set", one.change}, dir.path()).status ==
                0);
        const std::string text = read_text(dir / (std::string(one.name) + ".toml"));
        CHECK(text.find(one.there) != std::string::npos);
        CHECK(text.find(one.gone) == std::string::npos);
    }
    CHECK(run_program({"profile", "new", "both", "--set", "bitrate=2 Mbit/s", "--set", "visual_quality=70"}, dir.path())
              .status == 2);
    // Nothing is overwritten, and nothing wrong is written.
    CHECK(run_program({"profile", "new", "guest-room"}, dir.path()).status == 4);
    for (const char* change : {"effrt=7", "effort", "effort=70", "audio.codec=dts"}) {
        INFO(change);
        CHECK(run_program({"profile", "new", "other", "--set", change}, dir.path()).status == 2);
    }
    CHECK_FALSE(std::filesystem::exists(dir / "other.toml"));

    CHECK(run_program({"profile", "check", "guest-room.toml", "--device", "tv-hd"}, dir.path()).status == 0);
    const Ran wanting = run_program({"profile", "check", "newer-tv", "--device", "tv-hd", "--json"}, dir.path());
    CHECK(wanting.status == 1);
    const Json found = json_of(wanting);
    CHECK(found["verdict"] == "fail");
    bool codec = false;
    for (const Json& check : found["checks"]) {
        if (check["key"] != "video.codec" || check["verdict"] != "fail") continue;
        codec = true;
        CHECK(check["line"] == 7);
    }
    CHECK(codec);
    CHECK(run_program({"profile", "check", "phone", "--device", "no-such"}, dir.path()).status == 2);
}
