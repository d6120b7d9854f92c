// Every video encoder through a decoder: pictures come out whole, in order, at their own times.
#include <catch2/catch.hpp>

#include <cmath>

#include "bitstream/headers.hpp"
#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

constexpr Codec kCodecs[] = {Codec::h264, Codec::h265, Codec::vp9, Codec::av1};
constexpr int kWidth = 320, kHeight = 240;

codec::VideoEncoderSettings settings_for(Codec codec) {
    codec::VideoEncoderSettings settings;
    settings.codec = codec;
    settings.width = kWidth;
    settings.height = kHeight;
    settings.frame_rate = {24000, 1001};
    settings.colour = {6, 6, 6, false};
    settings.effort = 2;
    return settings;
}

struct Coded {
    Track track;
    std::vector<Picture> pictures;
    std::vector<Packet> packets;
};

// The card at `start`; from picture `gap_at` on a second and a bit later.
Coded encode(const codec::VideoEncoderSettings& settings, int count, Time start, int gap_at = 1 << 20) {
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    sample::CardSettings card_settings;
    card_settings.width = settings.width;
    card_settings.height = settings.height;
    const sample::TestCard card(card_settings);
    Coded coded;
    for (int i = 0; i < count; ++i) {
        Picture picture = card.draw(i);
        picture.pts += start + (i >= gap_at ? base::from_seconds(1.017) : Time{});
        REQUIRE((*encoder)->encode(picture, coded.packets));
        coded.pictures.push_back(std::move(picture));
    }
    REQUIRE((*encoder)->flush(coded.packets));
    coded.track = (*encoder)->track();
    return coded;
}

double psnr(const Picture& a, const Picture& b) {
    double sum = 0;
    for (int y = 0; y < a.height; ++y) {
        for (int x = 0; x < a.width; ++x) {
            const double d = a.planes[0][y * a.strides[0] + x] - b.planes[0][y * b.strides[0] + x];
            sum += d * d;
        }
    }
    return 10 * std::log10(255 * 255 / std::max(sum / (a.width * a.height), 1e-9));
}

}  // namespace

TEST_CASE("each video codec gives every picture back, at its own time", "[encoders][video]") {
    for (const Codec codec : kCodecs) {
        for (const bool variable : {false, true}) {
            INFO(media::short_name(codec) << (variable ? ", variable rate" : ""));
            CHECK(codec::can_encode_video(codec));
            auto settings = settings_for(codec);
            settings.variable_rate = variable;
            settings.keyframe_distance = base::from_seconds(1);
            const Time start = base::from_seconds(7);
            const Coded coded = encode(settings, 80, start, 30);
            REQUIRE(coded.packets.size() == 80);
            CHECK(coded.track.codec == codec);
            CHECK(coded.packets.front().key);
            Time last = Time::min(), key{};
            for (const Packet& packet : coded.packets) {
                CHECK(packet.dts > last);
                CHECK(packet.pts >= packet.dts);
                last = packet.dts;
                if (packet.key) key = packet.pts;
                // The gap comes on top where frames are counted.
                CHECK(packet.pts - key < base::from_seconds(2.1));
            }
            // What containers and players are told is what is in the stream.
            CHECK(bitstream::missing_configuration(coded.track).empty());
            Track told = coded.track;
            told.width = told.height = 0;
            told.profile.clear();
            told.level.clear();
            told.frame_rate = {0, 1};
            bitstream::describe_headers(told, coded.packets.front().data.view());
            CHECK(told.width == kWidth);
            CHECK(told.height == kHeight);
            CHECK(told.profile == coded.track.profile);
            CHECK(told.level == coded.track.level);
            CHECK(told.frame_rate.value() <= 30);  // (not the ticks of a clock)
            auto decoder = codec::make_video_decoder(coded.track);
            REQUIRE(decoder);
            std::vector<Picture> decoded;
            for (const Packet& packet : coded.packets) REQUIRE((*decoder)->decode(packet, decoded));
            REQUIRE((*decoder)->flush(decoded));
            REQUIRE(decoded.size() == 80);
            for (std::size_t i = 0; i < 80; ++i) {
                INFO(i);
                CHECK(decoded[i].pts == coded.pictures[i].pts);
                CHECK(psnr(decoded[i], coded.pictures[i]) > 28);
            }
        }
    }
}

TEST_CASE("quality means less loss and more bytes in each video codec", "[encoders][video]") {
    for (const Codec codec : kCodecs) {
        INFO(media::short_name(codec));
        double last_psnr = 0;
        std::size_t last_bytes = 0;
        for (const double quality : {40.0, 65.0, 90.0}) {
            auto settings = settings_for(codec);
            settings.quality = quality;
            const Coded coded = encode(settings, 24, {});
            auto decoder = codec::make_video_decoder(coded.track);
            REQUIRE(decoder);
            std::vector<Picture> decoded;
            std::size_t bytes = 0;
            for (const Packet& packet : coded.packets) {
                bytes += packet.data.size();
                REQUIRE((*decoder)->decode(packet, decoded));
            }
            REQUIRE((*decoder)->flush(decoded));
            REQUIRE(decoded.size() == 24);
            double sum = 0;
            for (std::size_t i = 0; i < 24; ++i) sum += psnr(decoded[i], coded.pictures[i]) / 24;
            CHECK(sum > last_psnr + 2);
            CHECK(bytes > last_bytes * 11 / 10);
            last_psnr = sum;
            last_bytes = bytes;
        }
    }
}

TEST_CASE("a limited peak is kept over its buffer by each video codec", "[encoders][video]") {
    for (const Codec codec : kCodecs) {
        INFO(media::short_name(codec));
        auto settings = settings_for(codec);
        settings.peak_bps = 300'000;
        settings.buffer = base::from_seconds(1);
        settings.quality = 95;  // would be far above the limit
        const Coded coded = encode(settings, 240, {});
        // The bucket of the decoder's buffer: filled at the rate, emptied by each picture.
        double full = 300'000, lowest = full;
        for (const Packet& packet : coded.packets) {
            full = std::min(300'000.0, full + 300'000.0 * 1001 / 24000);
            full -= static_cast<double>(packet.data.size()) * 8;
            lowest = std::min(lowest, full);
        }
        INFO("lowest fill " << lowest);
        CHECK(lowest > -0.05 * 300'000);
    }
}

TEST_CASE("a video encoder is given up at once, at whatever moment", "[encoders][video]") {
    sample::CardSettings card_settings;
    card_settings.width = kWidth;
    card_settings.height = kHeight;
    const sample::TestCard card(card_settings);
    for (const Codec codec : kCodecs) {
        for (const int pictures : {0, 1, 40}) {
            INFO(media::short_name(codec) << " after " << pictures);
            auto encoder = codec::make_video_encoder(settings_for(codec));
            REQUIRE(encoder);
            std::vector<Packet> packets;
            for (int i = 0; i < pictures; ++i) REQUIRE((*encoder)->encode(card.draw(i), packets));
            encoder->reset();
            CHECK(packets.size() <= static_cast<std::size_t>(pictures));
        }
    }
}

TEST_CASE("settings a video encoder can't take are refused", "[encoders][video]") {
    for (const Codec codec : kCodecs) {
        INFO(media::short_name(codec));
        auto settings = settings_for(codec);
        settings.width = 0;
        CHECK_FALSE(codec::make_video_encoder(settings));
        settings.width = 321;
        CHECK_FALSE(codec::make_video_encoder(settings));
        settings = settings_for(codec);
        settings.frame_rate = {0, 1};
        const auto refused = codec::make_video_encoder(settings);
        REQUIRE_FALSE(refused);
        CHECK(refused.error().kind == ErrorKind::usage);
    }
    auto settings = settings_for(Codec::h265);
    settings.profile = "no such";
    CHECK_FALSE(codec::make_video_encoder(settings));
    settings = settings_for(Codec::h265);
    settings.level = "9.9";
    CHECK_FALSE(codec::make_video_encoder(settings));
    settings = settings_for(Codec::mpeg2);
    CHECK(codec::make_video_encoder(settings).error().what == "MPEG-2 video can't be encoded");
    CHECK_FALSE(codec::can_encode_video(Codec::mpeg2));
}
