// H.264 pictures converted by the built program: from discs and files, whole and damaged.
#include <algorithm>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "base/byte_source.hpp"
#include "codec/video_decoder.hpp"
#include "container/reader.hpp"
#include "sample/test_card.hpp"
#include "support/clips.hpp"
#include "support/h264_writer.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using Json = nlohmann::json;

namespace {

// The numbers on the test card of every picture; -1 where it can't be read.
std::vector<std::int64_t> card_numbers(const base::Path& path) {
    auto bytes = base::FileSource::open(path);
    REQUIRE(bytes);
    auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*bytes)));
    REQUIRE(media);
    const Track* video = nullptr;
    for (const Track& track : media->source->tracks()) {
        if (track.kind == TrackKind::video) video = &track;
    }
    REQUIRE(video != nullptr);
    auto decoder = codec::make_video_decoder(*video);
    REQUIRE(decoder);
    std::vector<std::int64_t> numbers;
    std::vector<Picture> pictures;
    const auto take = [&] {
        for (const Picture& picture : pictures) {
            const auto code = sample::read_card_code(picture);
            numbers.push_back(code ? code->frame : -1);
        }
        pictures.clear();
    };
    while (true) {
        auto packet = media->source->read();
        REQUIRE(packet);
        if (!*packet) break;
        if ((*packet)->track != video->id) continue;
        REQUIRE((*decoder)->decode(**packet, pictures));
        take();
    }
    REQUIRE((*decoder)->flush(pictures));
    take();
    return numbers;
}

}  // namespace

TEST_CASE("a Blu-ray disc of H.264 is converted, picture for picture", "[cli][convert][h264]") {
    const TempDir dir;
    write_all(dir / "disc.toml", std::string("title = \"HARBOUR\"\nkind = \"blu-ray\"\ncodec = \"h264\"\n"
                                             "definition = \"standard\"\n[[audio]]\ncodec = \"ac3\"\nchannels = 2\n"
                                             "language = \"en\"\n[[part]]\nname = \"film\"\nlength = \"4 s\"\n"
                                             "cadence = \"progressive\"\n"));
    REQUIRE(run_program({"standin", "disc", "Harbour (2021)", "--from", "disc.toml", "-q"}, dir.path()).status == 0);
    const Ran ran = run_program({"convert", "Harbour (2021)", "--into", "library", "--json"}, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const Json json = json_of(ran);
    CHECK(json["outputs"][0]["problems"].empty());
    const auto numbers = card_numbers(dir / "library/Harbour (2021)/Harbour (2021).mp4");
    // Four seconds at 30000/1001.
    REQUIRE(numbers.size() >= 119);
    for (std::size_t i = 0; i < numbers.size(); ++i) CHECK(numbers[i] == static_cast<std::int64_t>(i));
}

TEST_CASE("an H.264 file is converted for a small screen, where it is damaged is told", "[cli][convert][h264]") {
    const TempDir dir;
    ByteVector film = read_all(sample_film());
    write_all(dir / "film.mp4", film);
    const Ran ran = run_program(
        {"convert", "film.mp4", "--into", "library", "--profile", "small-screen", "--name", "Small", "--json"},
        dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    CHECK(json_of(ran)["outputs"][0]["problems"].empty());
    const auto numbers = card_numbers(dir / "library/Small/Small.mp4");
    REQUIRE(numbers.size() == static_cast<std::size_t>(kSampleFrames));
    for (std::size_t i = 0; i < numbers.size(); ++i) CHECK(numbers[i] == static_cast<std::int64_t>(i));

    // Rubbish in the middle of the pictures, where no index is.
    for (std::size_t at = film.size() / 2; at < film.size() / 2 + 20'000; ++at)
        film[at] = static_cast<std::uint8_t>(at * 41 + 7);
    write_all(dir / "scratched.mp4", film);
    const Ran harmed = run_program({"convert", "scratched.mp4", "--into", "library", "--profile", "small-screen",
                                    "--name", "Harmed", "--accept-losses", "--json"},
                                   dir.path());
    INFO(harmed.err);
    REQUIRE(harmed.status == 5);
    const Json json = json_of(harmed);
    REQUIRE_FALSE(json["outputs"][0]["problems"].empty());
    const double from = json["outputs"][0]["problems"][0]["from_s"].get<double>();
    CHECK(from > 3);
    CHECK(from < 10);
    // Every picture has its place still.
    const auto after = card_numbers(dir / "library/Harmed/Harmed.mp4");
    CHECK(after.size() >= static_cast<std::size_t>(kSampleFrames) - 4);
    CHECK(std::count(after.begin(), after.end(), 20) == 1);
    CHECK(after.back() == kSampleFrames - 1);
}

TEST_CASE("interlaced H.264, of fields and pairs in every mixture, is inspected and converted",
          "[cli][convert][h264]") {
    // A transport stream's rate is told by its times, too, where the pictures tell none.
    const bool timed = GENERATE(true, false);
    const TempDir dir;
    H264WriterSettings settings;
    settings.timed = timed;
    settings.columns = 20;
    settings.rows = 12;
    settings.frames_only = false;
    settings.fields = 60;
    settings.b_slices = settings.cabac = true;
    settings.pictures = 50;
    const H264Written written = write_h264(settings);
    TestTrack test_track;
    test_track.track.id = 1;
    test_track.track.kind = TrackKind::video;
    test_track.track.codec = Codec::h264;
    test_track.track.codec_config = written.config;
    test_track.track.width = 320;
    test_track.track.height = 192;
    test_track.track.frame_rate = {25, 1};
    test_track.packets = written.packets;
    for (Packet& packet : test_track.packets) {
        packet.track = 1;
        packet.pts += base::from_ticks(2, 25);  // decoded before it is shown
    }
    for (const char* const format : {"mp4", "mpeg-ts", "matroska"}) {
        if (!timed && std::string(format) != "mpeg-ts") continue;
        INFO(format);
        const std::string name = std::string("camera.") + format;
        write_media(dir / name, format, {test_track});
        const Ran inspected = run_program({"inspect", name, "--json"}, dir.path());
        REQUIRE(inspected.status == 0);
        CHECK(json_of(inspected)["tracks"][0]["scan"] == "interlaced");
        CHECK(json_of(inspected)["tracks"][0]["frame_rate"] == "25/1");
        const Ran ran = run_program(
            {"convert", name, "--into", "library", "--name", format, "--profile", quick_profile(dir.path()), "--json"},
            dir.path());
        INFO(ran.err);
        REQUIRE(ran.status == 0);
        const Json output = json_of(ran)["outputs"][0];
        CHECK(output["problems"].empty());
        CHECK(output["duration_s"].get<double>() == Approx(2).margin(0.1));
    }
}
