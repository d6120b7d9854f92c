// What is lost costs what was lost: pictures behind a lost keyframe come at their own times.
#include <catch2/catch.hpp>

#include "codec/video_decoder.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::vector<Picture> decode(const TestTrack& test_track) {
    auto decoder = codec::make_video_decoder(test_track.track);
    REQUIRE(decoder);
    std::vector<Picture> pictures;
    for (const Packet& packet : test_track.packets) static_cast<void>((*decoder)->decode(packet, pictures));
    REQUIRE((*decoder)->flush(pictures));
    return pictures;
}

}  // namespace

TEST_CASE("pictures behind a lost H.264 keyframe come out in order, at their times", "[h264][damage]") {
    const TestTrack whole = video_track(Codec::h264, 120);
    std::vector<std::size_t> keys;
    Time end{};
    for (std::size_t i = 0; i < whole.packets.size(); ++i) {
        if (whole.packets[i].key) keys.push_back(i);
        end = std::max(end, whole.packets[i].pts);
    }
    REQUIRE(keys.size() >= 4);
    // One keyframe; two in a row; one with some of what is before and behind it.
    const std::size_t lost = GENERATE(0, 1, 2);
    TestTrack test_track = whole;
    const auto drop = [&](std::size_t from, std::size_t count) {
        const auto at = test_track.packets.begin() + static_cast<std::ptrdiff_t>(from);
        test_track.packets.erase(at, at + static_cast<std::ptrdiff_t>(count));
    };
    if (lost == 1) drop(keys[3], 1);
    if (lost == 2) {
        drop(keys[2] - 2, 5);
    } else {
        drop(keys[2], 1);
    }
    const auto pictures = decode(test_track);
    CHECK(pictures.size() + 12 >= test_track.packets.size());
    for (std::size_t i = 1; i < pictures.size(); ++i) {
        INFO(i << " of " << pictures.size() << ", " << base::to_seconds(pictures[i].pts));
        CHECK(pictures[i].pts > pictures[i - 1].pts);
    }
    CHECK(pictures.back().pts == end);
}

TEST_CASE("a step back of decoding times in an MP4 file keeps nothing behind the other tracks", "[mp4][damage]") {
    const TempDir dir;
    TestTrack picture = video_track(Codec::h264, 96);
    const TestTrack audio = audio_track(Codec::aac, 4);
    // Some come with times of three seconds before.
    for (std::size_t i = 50; i < 56; ++i) picture.packets[i].dts -= std::chrono::seconds(2);
    write_media(dir / "a.mp4", "mp4", {picture, audio});
    const auto back = read_media(dir / "a.mp4");
    REQUIRE(back[0].packets.size() == picture.packets.size());
    for (std::size_t i = 0; i < picture.packets.size(); ++i) {
        INFO(i);
        CHECK(std::chrono::abs(back[0].packets[i].pts - picture.packets[i].pts) < std::chrono::milliseconds(1));
    }
}
