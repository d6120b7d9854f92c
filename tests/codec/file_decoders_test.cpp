// Decoders of file formats against the pictures that were coded, and FLAC to the bit.
#include <catch2/catch.hpp>
#include <cmath>

#include "codec/audio_decoder.hpp"
#include "codec/video_decoder.hpp"
#include "sample/test_card.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

TEST_CASE("pictures come out at their times and look like what went in", "[decoders]") {
    sample::CardSettings settings;
    settings.width = 320;
    settings.height = 180;
    const sample::TestCard card(settings);
    for (const Codec codec : {Codec::h265, Codec::vp9, Codec::vp8, Codec::mpeg4}) {
        INFO(media::short_name(codec));
        const TestTrack test_track = video_track(codec, 30);
        auto decoder = codec::make_video_decoder(test_track.track);
        REQUIRE(decoder);
        std::vector<Picture> pictures;
        for (const Packet& packet : test_track.packets) REQUIRE((*decoder)->decode(packet, pictures));
        REQUIRE((*decoder)->flush(pictures));
        REQUIRE(pictures.size() == 30);
        for (std::size_t i = 0; i < pictures.size(); ++i) {
            CHECK(pictures[i].pts == base::frames_to_time(static_cast<std::int64_t>(i), {24000, 1001}));
            CHECK(luma_psnr(pictures[i], card.draw(static_cast<std::int64_t>(i))) > 24);
        }
    }
}

TEST_CASE("AV1 of a browser's recording comes out whole", "[decoders]") {
    const base::Path file = base::Path(WAVECREST_SOURCE) / "../shared/interop/clip.mp4";
    if (!std::filesystem::exists(file)) return;
    const auto test_tracks = read_media(file);
    auto decoder = codec::make_video_decoder(test_tracks[0].track);
    REQUIRE(decoder);
    std::vector<Picture> pictures;
    for (const Packet& packet : test_tracks[0].packets) REQUIRE((*decoder)->decode(packet, pictures));
    REQUIRE((*decoder)->flush(pictures));
    CHECK(pictures.size() == test_tracks[0].packets.size());
    CHECK(pictures.back().width == 640);
    CHECK(pictures.back().pts == test_tracks[0].packets.back().pts);
}

TEST_CASE("FLAC gives back every bit", "[decoders]") {
    const TestTrack coded = audio_track(Codec::flac, 2), plain = audio_track(Codec::lpcm, 2);
    auto decoder = codec::make_audio_decoder(coded.track);
    REQUIRE(decoder);
    std::vector<AudioFrames> audio_frames;
    for (const Packet& packet : coded.packets) REQUIRE((*decoder)->decode(packet, audio_frames));
    std::vector<int> decoded, expected;
    for (const AudioFrames& audio : audio_frames) {
        for (const float v : audio.samples) decoded.push_back(static_cast<int>(std::lround(v * 32768)));
    }
    for (const Packet& packet : plain.packets) {
        const ByteSpan data = packet.data.view();
        for (std::size_t i = 0; i + 1 < data.size(); i += 2)
            expected.push_back(static_cast<std::int16_t>(data[i] << 8 | data[i + 1]));
    }
    CHECK(decoded == expected);
}

TEST_CASE("what can be kept but not decoded is known before work starts", "[decoders]") {
    Track track;
    track.kind = TrackKind::video;
    track.codec = Codec::vc1;
    CHECK(codec::why_no_pictures(track) == "VC-1 can't be decoded yet");
    track.codec = Codec::h265;
    track.bit_depth = 12;
    CHECK(codec::why_no_pictures(track) == "H.265 with 12 bits can be remuxed but not decoded");
    CHECK_FALSE(codec::make_video_decoder(track));
    for (const int depth : {8, 10}) {
        track.bit_depth = depth;
        CHECK(codec::can_decode_video(track));
    }
}

TEST_CASE("every speaker of 5.1 gets its own audio", "[decoders]") {
    for (const Codec codec : {Codec::aac, Codec::opus, Codec::vorbis, Codec::flac}) {
        INFO(media::short_name(codec));
        const TestTrack test_track = surround_track(codec, 2);
        CHECK(test_track.track.channels == 6);
        auto decoder = codec::make_audio_decoder(test_track.track);
        REQUIRE(decoder);
        std::vector<AudioFrames> audio_frames;
        for (const Packet& packet : test_track.packets) REQUIRE((*decoder)->decode(packet, audio_frames));
        std::vector<float> samples;
        for (const AudioFrames& audio : audio_frames) {
            REQUIRE(audio.channels == 6);
            CHECK(audio.speakers == media::speaker::kFiveOne);
            samples.insert(samples.end(), audio.samples.begin(), audio.samples.end());
        }
        REQUIRE(samples.size() >= 6 * 90'000);
        // Power of each tone in each channel over a whole second (Goertzel's sum, written out).
        for (std::size_t c = 0; c < 6; ++c) {
            for (std::size_t t = 0; t < 6; ++t) {
                double real = 0, imaginary = 0;
                for (std::size_t n = 0; n < 48'000; ++n) {
                    const double angle = 2 * M_PI * kSpeakerTones[t] * static_cast<double>(n) / 48'000;
                    const double sample = samples[(n + 24'000) * 6 + c];
                    real += sample * std::cos(angle);
                    imaginary += sample * std::sin(angle);
                }
                const double level = 2 * std::hypot(real, imaginary) / 48'000;
                INFO("channel " << c << ", tone " << t << ": " << level);
                if (c == t) {
                    CHECK(level == Approx(0.3).epsilon(0.25));
                } else {
                    CHECK(level < 0.01);
                }
            }
        }
    }
}
