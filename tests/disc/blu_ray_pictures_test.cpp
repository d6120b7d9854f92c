// Discs of H.264 and VC-1: coded pictures come off the disc as they went on.
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "disc/blu_ray_reader.hpp"
#include "disc/blu_ray_writer.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

const Ratio kFilm{24000, 1001};

// Writes one clip of a video track and of AC-3.
disc::BluRayClipTimes write_clip(disc::BluRayWriter& writer, const std::string& name, const TestTrack& picture,
                                 const TestTrack& audio, std::uint8_t coding) {
    disc::BluRayClipSettings settings;
    settings.name = name;
    settings.video = {0x1011, coding, 6, 1, ""};
    settings.audio = {{0x1100, 0x81, 6, 1, "eng"}};
    REQUIRE(writer.begin_clip(settings));
    ByteVector sets;
    if (const auto parsed = bitstream::h264::parameter_sets(picture.track.codec_config.view());
        parsed && picture.track.codec == Codec::h264) {
        for (const ByteSpan unit : parsed->units) bitstream::nal::append_byte_stream(sets, unit);
    }
    disc::BluRayGroup group;
    for (const Packet& p : audio.packets)
        group.audio.push_back({0, p.pts, ByteVector(p.data.view().begin(), p.data.view().end()), 0});
    for (const Packet& p : picture.packets) {
        ByteVector data =
            picture.track.codec == Codec::h264
                ? bitstream::nal::byte_stream_unit(Codec::h264, p.data.view(), p.key ? ByteSpan(sets) : ByteSpan{})
                : ByteVector(p.data.view().begin(), p.data.view().end());
        group.pictures.push_back({std::move(data), p.pts, p.dts, p.key});
    }
    REQUIRE(writer.add_group(group));
    const auto times = writer.end_clip(base::frames_to_time(static_cast<std::int64_t>(picture.packets.size()), kFilm));
    REQUIRE(times);
    return *times;
}

}  // namespace

TEST_CASE("pictures of H.264 and VC-1 come off a Blu-ray disc untouched, over clip joins", "[blu-ray]") {
    const bool avc = GENERATE(true, false);
    const TestTrack picture = avc ? video_track(Codec::h264, 96) : vc1_track(96);
    const TestTrack audio = audio_track(Codec::ac3, 96 * 1001.0 / 24000);
    const TempDir dir;
    {
        auto writer = disc::BluRayWriter::create(dir / "bd");
        REQUIRE(writer);
        disc::blu_ray::Playlist playlist;
        for (const char* name : {"00001", "00002"}) {
            const std::uint8_t coding = avc ? 0x1B : 0xEA;
            const auto times = write_clip(*writer, name, picture, audio, coding);
            disc::blu_ray::Playlist::Item item;
            item.clips = {name};
            item.in_time = times.in_time;
            item.out_time = times.out_time;
            item.video = {{0x1011, coding, 6, 1, ""}};
            item.audio = {{0x1100, 0x81, 6, 1, "eng"}};
            playlist.chapters.push_back({static_cast<int>(playlist.items.size()), times.in_time});
            playlist.items.push_back(item);
        }
        REQUIRE(writer->add_playlist("00000", playlist));
        REQUIRE(writer->finish());
    }
    // Through the program, to a container that holds it; two clips on one timeline.
    const Ran ran =
        run_program({"convert", "bd", "--remux", "matroska", "--into", ".", "--name", "Film", "--json"}, dir.path());
    INFO(ran.err);
    REQUIRE(ran.status == 0);
    const auto output = json_of(ran)["outputs"][0];
    CHECK(output["frames"] == 192);
    CHECK(output["problems"].empty());
    const auto test_tracks = read_media(dir / "Film/Film.mkv");
    REQUIRE(test_tracks.size() == 2);
    CHECK(test_tracks[0].track.codec == picture.track.codec);
    CHECK(test_tracks[0].track.frame_rate == kFilm);
    CHECK(test_tracks[0].track.width == 320);
    ByteVector twice = payload_of(picture);
    const ByteVector once = twice;
    twice.insert(twice.end(), once.begin(), once.end());
    CHECK(payload_of(test_tracks[0]) == twice);
    REQUIRE(test_tracks[0].packets.size() == 192);
    for (std::size_t i = 0; i < 192; ++i) {
        const Time clip = i < 96 ? Time{} : base::frames_to_time(96, kFilm);
        CHECK(test_tracks[0].packets[i].pts == picture.packets[i % 96].pts + clip);
        CHECK(test_tracks[0].packets[i].key == picture.packets[i % 96].key);
    }
    // Both clips' audio, less what overlaps at the join.
    CHECK(test_tracks[1].packets.size() >= 2 * audio.packets.size() - 2);
    // A skip lands on a keyframe at or before its time.
    const auto inspected = json_of(run_program({"inspect", "bd", "--json"}, dir.path()));
    INFO(inspected.dump());
    const auto track = inspected["titles"][0]["tracks"][0];
    CHECK(track["codec"] == (avc ? "h264" : "vc1"));
    CHECK(track["profile"] == (avc ? "High" : "Advanced"));
    CHECK(track["frame_rate"] == "24000/1001");
    // What can't be decoded is refused before work starts; the rest is converted.
    const Ran coded = run_program({"convert", "bd", "--into", "out", "--name", "x"}, dir.path());
    CHECK(coded.status == (avc ? 0 : 3));
    CHECK(std::filesystem::exists(dir / "out") == avc);
}
