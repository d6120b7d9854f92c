#include "device/device.hpp"

#include <algorithm>
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
    CHECK(failed(judge(sd, "mp4", {h264("Main", "3.0", 352, 288, {60, 1}), aac}, 3'000'000)) == Names{"frame rate"});
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
    CHECK(failed(judge(*tv, "mp4", {h264("High", "3.2", 1280, 720, {60000, 1001}), audio(Codec::aac, 2)}, 9'000'000))
              .empty());
    // By its size and rate this needs level 4.2, whatever it declares (H.264, table A-1).
    CHECK(failed(judge(*tv, "mp4", {h264("High", "4.1", 1920, 1080, {60000, 1001}), audio(Codec::aac, 2)},
                       9'000'000)) == Names{"level"});
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

TEST_CASE("a stream suits a device if it suits one of its abilities", "[device]") {
    const auto tv = device::find("tv-uhd-2015");
    REQUIRE(tv);
    const Track aac = audio(Codec::aac, 2);
    CHECK(failed(judge(*tv, "mp4", {h264("High", "5.1", 3840, 2160, {30, 1}), aac}, 9'000'000)).empty());
    CHECK(failed(judge(*tv, "mp4", {h264("High", "4.2", 1920, 1080, {60, 1}), aac}, 9'000'000)).empty());
    CHECK(failed(judge(*tv, "mp4", {h264("High", "5.2", 3840, 2160, {60, 1}), aac}, 9'000'000)) ==
          Names{"level", "frame rate"});
    // What it has against HDR, and against a level or tier of another codec.
    Track hevc = h264("Main 10", "5", 3840, 2160, {24, 1});
    hevc.codec = Codec::h265;
    hevc.bit_depth = 10;
    CHECK(failed(judge(*tv, "mp4", {hevc, aac}, 9'000'000)).empty());
    hevc.level = "5 High";
    CHECK(failed(judge(*tv, "mp4", {hevc, aac}, 9'000'000)) == Names{"level"});
    hevc.level = "6.1";
    CHECK(failed(judge(*tv, "mp4", {hevc, aac}, 9'000'000)) == Names{"level"});
    hevc.level = "5";
    hevc.colour = {9, media::kTransferPq, 9, false};
    CHECK(failed(judge(*tv, "mp4", {hevc, aac}, 9'000'000)) == Names{"dynamic range"});
    CHECK(failed(judge(*device::find("tv-uhd-hdr"), "mp4", {hevc, aac}, 9'000'000)).empty());
}

TEST_CASE("a receiver behind a player hears what it hands on", "[device]") {
    const auto alone = device::find("projector-hd"), both = device::find("projector-hd+receiver-optical");
    REQUIRE(both);
    CHECK(both->name == "projector-hd+receiver-optical");
    CHECK(both->containers == alone->containers);
    CHECK_FALSE(device::plays_audio(*alone, audio(Codec::dts, 6)));
    CHECK_FALSE(device::plays_audio(*alone, audio(Codec::ac3, 6)));
    CHECK(device::plays_audio(*both, audio(Codec::dts, 6)));
    CHECK(device::plays_audio(*both, audio(Codec::ac3, 6)));
    CHECK(device::plays_audio(*both, audio(Codec::aac, 2)));
    CHECK_FALSE(device::find("projector-hd+reciever-optical"));
}

TEST_CASE("every built-in class is complete, says where it is from, and makes a description of one's own", "[device]") {
    CHECK(device::built_in().size() >= 20);
    std::vector<std::string> names;
    for (const device::Device& one : device::built_in()) {
        INFO(one.name);
        names.push_back(one.name);
        CHECK_FALSE(one.basis.empty());
        for (const std::string& doubt : device::doubts(one)) {
            INFO(doubt);
            CHECK(one.name.starts_with("receiver-"));
        }
        const auto text = device::derived_text(one.name, "Lounge \"big\" TV");
        REQUIRE(text);
        const auto own = device::parse(*text, "own.toml");
        REQUIRE(own);
        CHECK(own->name == "Lounge \"big\" TV");
        CHECK(device::compare(one, *own).empty());
    }
    for (const std::string& first : names) {
        for (const std::string& second : names) {
            INFO(first << " and " << second);
            CHECK(device::compare(*device::find(first), *device::find(second)).empty() == (first == second));
        }
    }
    const auto rows = device::compare(*device::find("tv-hd"), *device::find("tv-uhd-hdr"));
    CHECK(std::any_of(rows.begin(), rows.end(), [](const device::Difference& row) {
        return row.what == "H.265" && row.first == "no" && row.second.find("HDR10") != std::string::npos;
    }));
    const auto bare = device::parse("name = \"x\"\n[[plays.video]]\ncodec = \"h264\"\n", "x.toml");
    REQUIRE(bare);
    CHECK(device::doubts(*bare).size() >= 5);
}

TEST_CASE("how a player fills its buffer is described, or follows from what is", "[device]") {
    const auto device = device::parse(
        "name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\nstart_buffer = \"500 ms\"\nresume_buffer = \"1 s\"\n"
        "start_delay = \"150 ms\"\n"
        "resume_growth = 2\nmax_resume_buffer = \"4 s\"\nbuffer = \"15 s\"\nread_size = \"32 kB\"\nrefill = \"9 "
        "s\"\nbuffer_size = \"4 MB\"\nrefill_size = \"2 MB\"\nhls_refill = \"6 "
        "s\"\n"
        "whole_segments = false\nseek = \"keyframe\"\nlive_probe = \"56 kB\"\nlive_restart = 2\n"
        "live_catch_up = 3\n",
        "d.toml");
    REQUIRE(device);
    const device::Playing& p = device->playing;
    CHECK(p.resume_buffer == base::from_seconds(1));
    CHECK(p.resume_growth == 2);
    CHECK(p.max_resume_buffer == base::from_seconds(4));
    CHECK(p.read_size == 32'000);
    // By bytes where a film has few of them.
    CHECK(p.buffer_of(8'000'000) == base::from_seconds(15));
    CHECK(p.refill_of(8'000'000) == base::from_seconds(9));
    CHECK(p.buffer_of(800'000) == base::from_seconds(40));
    CHECK(p.refill_of(800'000) == base::from_seconds(20));
    CHECK(p.buffer_of(0) == base::from_seconds(15));
    const auto again = device::parse(device::write(*device), "again.toml");
    REQUIRE(again);
    CHECK(again->playing.buffer_of(800'000) == base::from_seconds(40));
    CHECK(again->playing.refill_of(8'000'000) == base::from_seconds(9));
    CHECK(p.hls_buffer == base::from_seconds(15));
    CHECK(p.hls_refill == base::from_seconds(6));
    CHECK_FALSE(p.whole_segments);
    CHECK_FALSE(p.seeks_exactly);
    CHECK_FALSE(again->playing.seeks_exactly);
    CHECK(again->playing.live_probe == 56'000);
    CHECK(again->playing.start_delay == base::from_seconds(0.15));
    CHECK(again->playing.live_restart == 2);
    CHECK(again->playing.live_catch_up == 3);
    const auto plain =
        device::parse("name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\nstart_buffer = \"3 s\"\n", "d.toml");
    REQUIRE(plain);
    CHECK(plain->playing.resume_buffer == base::from_seconds(3));
    CHECK(plain->playing.resume_growth == 1);
    CHECK(plain->playing.hls_refill == plain->playing.buffer);
    CHECK(plain->playing.refill_of(1) == plain->playing.buffer);
    CHECK(plain->playing.whole_segments);
    CHECK(plain->playing.seeks_exactly);
    CHECK(plain->playing.live_probe == 0);
    CHECK(plain->playing.live_restart == 0);
    CHECK(plain->playing.live_catch_up == 0);
    for (const char* wrong : {"read_size = \"much\"", "read_size = \"0\"", "resume_growth = 0.5",
                              "hls_buffer = \"5 s\"\nhls_refill = \"6 s\"", "buffer = \"5 s\"\nrefill = \"6 s\"",
                              "buffer_size = \"1 MB\"\nrefill_size = \"2 MB\"", "buffer_size = \"much\"",
                              "seek = \"fast\"", "live_restart = 11", "resume_buffer = \"60 s\""})
        CHECK_FALSE(
            device::parse(std::string("name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\n") + wrong + "\n", "d.toml"));
}

TEST_CASE("how a player adapts is described for its class, read back, and compared", "[device]") {
    const std::string head = "name = \"x\"\n[plays]\ncontainers = [\"mp4\"]\n";
    const auto device =
        device::parse(head +
                          "[plays.adaptive]\nlink_share = 0.9\nmeasured_segments = 2\nfirst_rung = "
                          "\"listed\"\nrungs_up = 3\nholds_rung = false\nsecure_buffer = \"8 s\"\n"
                          "low_buffer = \"2 s\"\nabandons_segments = false\ncautious_share = 0.5\ntrouble = \"late\"\n",
                      "d.toml");
    REQUIRE(device);
    const device::Adapting wanted{0.9,   0.5,   2,     base::from_seconds(8), base::from_seconds(2), true, 3,
                                  false, false, "late"};
    CHECK(device->playing.adapting == wanted);
    const auto again = device::parse(device::write(*device), "written");
    REQUIRE(again);
    CHECK(again->playing.adapting == wanted);
    const auto plain = device::parse(head, "d.toml");
    REQUIRE(plain);
    CHECK(plain->playing.adapting == device::Adapting{});
    CHECK(device::compare(*plain, *device).size() == 8);
    for (const char* wrong : {"link_share = 0", "cautious_share = 0.9", "first_rung = \"best\"", "rungs_up = 0",
                              "secure_buffer = \"2 s\"\nlow_buffer = \"3 s\"", "shares = 1"})
        CHECK_FALSE(device::parse(head + "[plays.adaptive]\n" + wrong + "\n", "d.toml"));
    // One share alone: the cautious one is never more.
    const auto careful = device::parse(head + "[plays.adaptive]\nlink_share = 0.3\n", "d.toml");
    REQUIRE(careful);
    CHECK(careful->playing.adapting.cautious_share == 0.3);
}
