#include "profile/profile.hpp"

#include <catch2/catch.hpp>

#include "codec/audio_encoder.hpp"
#include "codec/video_encoder.hpp"
#include "container/writer.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

TEST_CASE("the built-in profiles are read, and encoders and containers take them", "[profile]") {
    REQUIRE(profile::built_in().size() == 12);
    for (const profile::Profile& p : profile::built_in()) {
        INFO(p.name);
        CHECK_FALSE(p.purpose.empty());
        codec::VideoEncoderSettings settings;
        settings.codec = p.video.codec;
        settings.bit_depth = p.video.bit_depth;
        settings.width = 640;
        settings.height = 360;
        settings.profile = p.video.profile;
        settings.level = p.video.level;
        settings.effort = p.video.effort;
        settings.quality = p.video.quality;
        settings.peak_bps = p.video.peak_bps;
        settings.buffer = p.video.buffer;
        const auto encoder = codec::make_video_encoder(settings);
        REQUIRE(encoder);
        CHECK(container::why_not(p.container, (*encoder)->track()).empty());
        for (const profile::AudioSettings& one : p.audio) {
            if (one.keep) continue;
            codec::AudioEncoderSettings audio;
            audio.codec = one.codec;
            audio.speakers = codec::nearest_layout(
                one.codec, one.channels == 6 ? media::speaker::kFiveOne : media::speaker::kStereo);
            audio.bitrate_bps = one.bitrate_for(media::speaker_count(audio.speakers));
            const auto made = codec::make_audio_encoder(audio);
            REQUIRE(made);
            CHECK(container::why_not_codec(p.container, (*made)->track()).empty());
        }
    }
}

TEST_CASE("a profile of one's own needs only a name", "[profile]") {
    const auto parsed = profile::parse(
        "name = \"mine\"\n[video]\nvisual_quality = 72.5\nmax_size = \"720p\"\npixels = \"as-source\"\n", "mine.toml");
    REQUIRE(parsed);
    CHECK(parsed->video.quality == 72.5);
    CHECK(parsed->video.largest.height == 720);
    CHECK_FALSE(parsed->video.square_pixels);
    CHECK(parsed->video.peak_bps == 0);
}

TEST_CASE("mistakes in a profile are named with their line", "[profile]") {
    const auto error = [](const std::string& text) {
        const auto parsed = profile::parse(text, "p.toml");
        REQUIRE_FALSE(parsed);
        CHECK(parsed.error().kind == ErrorKind::usage);
        return parsed.error();
    };
    CHECK(error("[video]\n").what.find("\"name\"") != std::string::npos);
    CHECK(error("name = \"x\"\n[video]\nvisual_qualty = 20\n").remedy == "did you mean \"visual_quality\"?");
    CHECK(error("name = \"x\"\n[video]\nvisual_quality = 101\n").where == "p.toml, line 3");
    // What was written before there were other codecs.
    CHECK(error("name = \"x\"\n[video]\nquality = 19\n").where == "p.toml, line 3");
    CHECK(error("name = \"x\"\n[video]\nquality = 19\n").remedy == "write visual_quality = 80");
    CHECK(error("name = \"x\"\n[video]\ncodec = \"mpeg2\"\n").where == "p.toml, line 3");
    CHECK(error("name = \"x\"\n[video]\ncodec = \"vp9\"\nprofile = \"main\"\n").where == "p.toml, line 4");
    CHECK(error("name = \"x\"\n[[audio]]\ncodec = \"as-source\"\nchannels = \"5.1\"\n").where == "p.toml, line 4");
    CHECK(error("name = \"x\"\n[audio]\ncodec = \"flac\"\nbitrate = \"1 Mbit/s\"\n").where == "p.toml, line 4");
    CHECK(error("name = \"x\"\n[video]\npeak_bitrate = \"fast\"\n").where == "p.toml, line 3");
    CHECK(error("name = \"x\"\n[audio]\nbitrate = \"9 Mbit/s\"\n").where == "p.toml, line 3");
    CHECK(error("name = \"x\"\n[video]\nkeyframe_interval = \"0 s\"\n").where == "p.toml, line 3");
    CHECK(error("name = \"x\"\n[video]\nframe_rate = \"fast\"\n").where == "p.toml, line 3");
    CHECK(profile::parse("name = \"x\"\n[video]\nframe_rate = \"29.97\"\n", "p")->video.frame_rate ==
          Ratio{30000, 1001});
    CHECK(profile::parse("name = \"x\"\n[video]\nframe_rate = \"25\"\n", "p")->video.constant_rate);
    CHECK_FALSE(profile::parse("name = \"x\"\n", "p")->video.constant_rate);
    CHECK(error("name = \"x\"\n[video]\nbuffer = \"0 s\"\n").where == "p.toml, line 3");
    CHECK(error("name = \"x\"\ncontainer = \"mkv\"\n").where == "p.toml, line 2");
    CHECK(error("name = \"x\n").what.find("TOML") != std::string::npos);
}

TEST_CASE("profiles are found by name or file", "[profile]") {
    CHECK(profile::find("full-picture"));
    const auto near = profile::find("full-pictures");
    REQUIRE_FALSE(near);
    CHECK(near.error().remedy == "did you mean \"full-picture\"?");
    const TempDir dir;
    write_all(dir / "own.toml", profile::source_text("small-screen").value());
    const auto own = profile::find((dir / "own.toml").string());
    REQUIRE(own);
    CHECK(own->video.level == "3.0");
    CHECK_FALSE(profile::find((dir / "missing.toml").string()));
}
