#include "device/device.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using device::Check;
using device::Verdict;

namespace {

Track h264(const char* profile, const char* level, int width, int height, Ratio rate = {24000, 1001}) {
    Track track;
    track.kind = TrackKind::video;
    track.codec = Codec::h264;
    track.profile = profile;
    track.level = level;
    track.width = width;
    track.height = height;
    track.frame_rate = rate;
    track.scan = Scan::progressive;
    track.bit_depth = 8;
    return track;
}

Track audio(Codec codec, int channels) {
    Track track;
    track.kind = TrackKind::audio;
    track.codec = codec;
    track.channels = channels;
    return track;
}

std::vector<std::string> failed(const std::vector<Check>& checks) {
    std::vector<std::string> names;
    for (const Check& check : checks) {
        if (check.verdict == Verdict::fail) {
            names.push_back(check.name);
            CHECK_FALSE(check.why.empty());
            CHECK_FALSE(check.limit.empty());
        }
    }
    return names;
}

using Names = std::vector<std::string>;

}  // namespace

TEST_CASE("built-in device classes are read", "[device]") {
    CHECK(device::built_in().size() >= 3);
    const auto tv = device::find("tv-hd");
    REQUIRE(tv);
    CHECK(tv->highest_bps == 20'000'000);
    REQUIRE_FALSE(tv->video.empty());
    CHECK(tv->video[0].level == "4.1");
    const auto wrong = device::find("tv-hdd");
    REQUIRE_FALSE(wrong);
    CHECK(wrong.error().remedy == "did you mean \"tv-hd\"?");
}

TEST_CASE("what a device lacks is named, one thing at a time", "[device]") {
    const auto found = device::find("player-sd");
    REQUIRE(found);
    const device::Device& sd = *found;
    const Track fine = h264("Main", "3.0", 720, 480), aac = audio(Codec::aac, 2);
    CHECK(failed(judge(sd, "mp4", {fine, aac}, 3'000'000)).empty());
    CHECK(failed(judge(sd, "matroska", {fine, aac}, 3'000'000)) == Names{"container"});
    CHECK(failed(judge(sd, "mp4", {h264("High", "3.0", 720, 480), aac}, 3'000'000)) == Names{"codec profile"});
    CHECK(failed(judge(sd, "mp4", {h264("Main", "3.1", 720, 480), aac}, 3'000'000)) == Names{"level"});
    CHECK(failed(judge(sd, "mp4", {h264("Main", "3.0", 854, 480), aac}, 3'000'000)) == Names{"video size"});
    CHECK(failed(judge(sd, "mp4", {h264("Main", "3.0", 720, 480, {60, 1}), aac}, 3'000'000)) == Names{"frame rate"});
    CHECK(failed(judge(sd, "mp4", {fine, audio(Codec::aac, 6)}, 3'000'000)) == Names{"audio"});
    CHECK(failed(judge(sd, "mp4", {fine, audio(Codec::ac3, 2)}, 3'000'000)) == Names{"audio"});
    CHECK(failed(judge(sd, "mp4", {fine, aac}, 4'000'001)) == Names{"max bit rate"});
    Track interlaced = fine;
    interlaced.scan = Scan::interlaced;
    CHECK(failed(judge(sd, "mp4", {interlaced, aac}, 3'000'000)) == Names{"scan"});
    Track deep = fine;
    deep.bit_depth = 10;
    CHECK(failed(judge(sd, "mp4", {deep, aac}, 3'000'000)) == Names{"bit depth"});
    Track hevc = fine;
    hevc.codec = Codec::h265;
    CHECK(failed(judge(sd, "mp4", {hevc, aac}, 3'000'000)) == Names{"video codec"});
}

TEST_CASE("one track the device can play is enough", "[device]") {
    const auto tv = device::find("tv-hd");
    REQUIRE(tv);
    CHECK(failed(judge(*tv, "mp4", {h264("High", "4.0", 1920, 1080), audio(Codec::ac3, 6), audio(Codec::aac, 2)},
                       9'000'000))
              .empty());
    // A film rate a hair above the limit's name is no failure: 60000/1001 on a device of 59.94... rounded to 60.
    CHECK(failed(judge(*tv, "mp4", {h264("High", "4.1", 1920, 1080, {60000, 1001}), audio(Codec::aac, 2)}, 9'000'000))
              .empty());
}

TEST_CASE("links carry their payload", "[device]") {
    // 1460 of 1538 bytes on the wire: 94.9 %; with the timestamp option 1448 of 1538.
    CHECK(device::parse_link("fast-ethernet")->payload_bps == 94'100'000);
    CHECK(device::parse_link("gigabit")->payload_bps == 941'000'000);
    CHECK(device::parse_link("12 Mbit/s")->payload_bps == 12'000'000);
    CHECK_FALSE(device::parse_link("fast"));
    CHECK_FALSE(device::parse_link(""));
    CHECK_FALSE(device::parse_link("0 Mbit/s"));
}

TEST_CASE("device descriptions with mistakes are refused at their line", "[device]") {
    const auto error = [](const char* text) {
        const auto parsed = device::parse(text, "d.toml");
        REQUIRE_FALSE(parsed);
        return parsed.error().where + ": " + parsed.error().what;
    };
    CHECK(error("description = \"x\"\n").find("\"name\" is missing") != std::string::npos);
    CHECK(error("name = \"x\"\n[plays]\nstart_aftr = \"1 s\"\n").find("d.toml, line 3") == 0);
    CHECK(error("name = \"x\"\n[[plays.video]]\ncodec = \"h265x\"\n").find("d.toml, line 3") == 0);
    CHECK(error("name = \"x\"\n[[plays.video]]\ncodec = \"h264\"\nlevel = \"9\"\n").find("d.toml, line 4") == 0);
    CHECK(error("name = \"x\"\n[plays]\nstart_buffer = \"5 s\"\nbuffer = \"2 s\"\n").find("shorter") !=
          std::string::npos);
    CHECK(error("name = \"x\"\n[plays]\ncontainers = [\"mp5\"]\n").find("unknown container") != std::string::npos);
    CHECK(error("name = \"x\"\n[[plays.video]]\ncodec = \"h264\"\nprofiles = [\"Hihg\"]\n").find("line 4") !=
          std::string::npos);
    CHECK(error("name = \"x\"\n[[plays.video]]\ncodec = \"h265\"\nbit_depth = 9\n").find("line 4") !=
          std::string::npos);
    CHECK(error("name = \"x\"\n[[plays.video]]\ncodec = \"h264\"\nscans = [\"sideways\"]\n").find("line 4") !=
          std::string::npos);
}
