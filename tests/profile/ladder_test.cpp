// Ladders in profiles: what is read, what is refused, and which rungs suit a title.
#include "profile/ladder.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;

namespace {

profile::Profile parsed(const std::string& text) {
    const auto profile = profile::parse(text, "test.toml");
    if (!profile) FAIL(profile.error().what);
    return *profile;
}
std::string refused(const std::string& text) {
    const auto profile = profile::parse(text, "test.toml");
    REQUIRE_FALSE(profile);
    return profile.error().what;
}

Track video(int width, int height, Ratio rate = {25, 1}, Ratio pixels = {1, 1}) {
    Track track;
    track.kind = TrackKind::video;
    track.width = width;
    track.height = height;
    track.frame_rate = rate;
    track.pixel_aspect = pixels;
    return track;
}

const std::string kHead = "name = \"t\"\n";

}  // namespace

TEST_CASE("rungs take what they don't say from [video]", "[ladder]") {
    const auto profile =
        parsed(kHead +
               "[video]\ncodec = \"h265\"\neffort = 3\nvisual_quality = 70\nkeyframe_interval = \"4 s\"\n"
               "[[rung]]\nmax_size = \"1080p\"\npeak_bitrate = \"5 Mbit/s\"\n"
               "[[rung]]\nmax_size = \"360p\"\npeak_bitrate = \"800 kbit/s\"\ncodec = \"h264\"\n"
               "visual_quality = 60\n");
    REQUIRE(profile.is_ladder());
    REQUIRE(profile.rungs.size() == 2);
    CHECK(profile.rungs[0].codec == Codec::h265);
    CHECK(profile.rungs[0].quality == 70);
    CHECK(profile.rungs[1].codec == Codec::h264);
    CHECK(profile.rungs[1].quality == 60);
    CHECK(profile.rungs[1].effort == 3);
    for (const auto& rung : profile.rungs) {
        CHECK(rung.fixed_keyframes);
        CHECK(rung.keyframe_interval == base::from_seconds(4));
    }
    CHECK(parsed(kHead + "ladder = \"auto\"\n").video.keyframe_interval == Time(profile::kLadderSegment));
    CHECK_FALSE(parsed(kHead).is_ladder());
}

TEST_CASE("what contradicts a ladder is refused", "[ladder]") {
    const std::string rung = "[[rung]]\nmax_size = \"720p\"\npeak_bitrate = \"3 Mbit/s\"\n";
    CHECK(refused(kHead + "ladder = \"auto\"\n" + rung) == "\"auto\" chooses the rungs itself");
    CHECK(refused(kHead + "[[rung]]\npeak_bitrate = \"3 Mbit/s\"\n") == "a rung needs its size");
    CHECK(refused(kHead + "[[rung]]\nmax_size = \"720p\"\n") == "a rung needs its highest bit rate");
    CHECK(refused(kHead + "[video]\npeak_bitrate = \"8 Mbit/s\"\n" + rung) ==
          "the bit rates of a ladder belong to its rungs");
    CHECK(refused(kHead + "container = \"matroska\"\n[video]\n" + rung) == "a ladder's files are MP4");
    CHECK(refused(kHead + "[video]\ncodec = \"none\"\n" + rung) == "a ladder needs video that is encoded");
    CHECK(refused(kHead + rung + "bitrate = \"4 Mbit/s\"\n") == "the average is above the peak");
    std::string many = kHead;
    for (int i = 0; i < 13; ++i) many += rung;
    CHECK(refused(many) == "a ladder has at most 12 rungs");
}

TEST_CASE("no rung is above the source, but one that covers it", "[ladder]") {
    std::string text = kHead;
    for (const char* size : {"2160p", "1080p", "720p", "360p"})
        text += std::string("[[rung]]\nmax_size = \"") + size + "\"\npeak_bitrate = \"" +
                (size[0] == '3'   ? "1"
                 : size[0] == '7' ? "3"
                 : size[0] == '1' ? "6"
                                  : "16") +
                " Mbit/s\"\n";
    const auto profile = parsed(text);
    std::vector<std::string> notes;
    auto rungs = profile::rungs_for(profile, video(1280, 720), notes);
    REQUIRE(rungs.size() == 2);
    CHECK(rungs[0].video.largest.height == 720);
    CHECK(notes.size() == 2);
    notes.clear();
    // Between two sizes the larger one covers it.
    rungs = profile::rungs_for(profile, video(1440, 900), notes);
    REQUIRE(rungs.size() == 3);
    CHECK(rungs[0].video.largest.height == 1080);
    CHECK(notes == std::vector<std::string>{"rung of 2160p left out: the source has 1440x900"});
    // Wide pixels count as they are shown.
    CHECK(profile::rungs_for(profile, video(720, 576, {25, 1}, {64, 45}), notes).front().video.largest.height == 720);
}

TEST_CASE("usual rungs go down in even steps from the source's own size", "[ladder]") {
    std::vector<std::string> notes;
    const auto rungs = profile::rungs_for(parsed(kHead + "ladder = \"auto\"\n"), video(1920, 800), notes);
    REQUIRE(rungs.size() == 5);
    CHECK(rungs.front().video.largest.height == 1080);
    for (std::size_t i = 1; i < rungs.size(); ++i) {
        const double step =
            static_cast<double>(rungs[i - 1].video.peak_bps) / static_cast<double>(rungs[i].video.peak_bps);
        CAPTURE(i, step);
        CHECK(step > 1.4);
        CHECK(step < 2.3);
    }
    // Twice the frames take more, but not twice.
    const auto fast = profile::rungs_for(parsed(kHead + "ladder = \"auto\"\n"), video(1920, 800, {50, 1}), notes);
    CHECK(fast.front().video.peak_bps > rungs.front().video.peak_bps);
    CHECK(fast.front().video.peak_bps < 2 * rungs.front().video.peak_bps);
    CHECK(profile::size_name(1920, 800) == "1080p");
    CHECK(profile::size_name(640, 480) == "480p");
    CHECK(profile::size_name(854, 480) == "480p");
}
