#include "device/claims.hpp"

#include <catch2/catch.hpp>

#include <algorithm>

using namespace wavecrest;

TEST_CASE("a device that names profiles is described by them", "[device]") {
    const auto d = device::from_claims(
        "Den TV",
        upnp::parse_protocol_infos("http-get:*:video/mp4:DLNA.ORG_PN=AVC_MP4_HP_HD_AAC,"
                                   "http-get:*:video/mpeg:DLNA.ORG_PN=MPEG_PS_PAL,"
                                   "http-get:*:audio/vnd.dolby.dd-raw:DLNA.ORG_PN=AC3,http-get:*:audio/mpeg:*"));
    CHECK(device::reads(d, "mp4"));
    CHECK(device::reads(d, "mpeg-ps"));
    CHECK(device::reads(d, "mp3"));
    CHECK_FALSE(device::reads(d, "matroska"));
    const auto video = [&](Codec codec) {
        return std::find_if(d.video.begin(), d.video.end(), [&](const auto& v) { return v.codec == codec; });
    };
    REQUIRE(video(Codec::h264) != d.video.end());
    CHECK(video(Codec::h264)->largest == base::Size{1920, 1080});
    CHECK(video(Codec::h264)->basis.find("AVC_MP4_HP_HD_AAC") != std::string::npos);
    REQUIRE(video(Codec::mpeg2) != d.video.end());
    CHECK(video(Codec::h265) == d.video.end());
    CHECK(std::any_of(d.audio.begin(), d.audio.end(),
                      [](const auto& a) { return a.codec == Codec::ac3 && a.channels == 6; }));
}

TEST_CASE("what a device doesn't tell is assumed, and says so", "[device]") {
    const auto d = device::from_claims("Box", upnp::parse_protocol_infos("http-get:*:video/x-matroska:*"));
    REQUIRE(d.video.size() == 1);
    CHECK(d.video[0].codec == Codec::h264);
    CHECK(d.video[0].basis.find("not told") != std::string::npos);
    CHECK(d.basis.find("tells no levels") != std::string::npos);
    // It is a description like any other.
    const auto again = device::parse(device::write(d), "box.toml");
    REQUIRE(again);
    CHECK(again->containers == d.containers);
    CHECK(again->video[0].basis == d.video[0].basis);
    const auto nothing = device::from_claims("Mute", {});
    CHECK(nothing.containers.empty());
    CHECK(nothing.video.empty());
}

TEST_CASE("claims in words are short", "[device]") {
    CHECK(device::claims_in_words({}) == "doesn't say");
    CHECK(device::claims_in_words(upnp::parse_protocol_infos("http-get:*:video/mp4:*,http-get:*:audio/mpeg:*")) ==
          "mp4, mp3");
}
