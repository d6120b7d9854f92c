// Video of 10 bits through encoders and decoders of different libraries; and what of high dynamic range is told in the
// bytes, read here by hand.
#include <catch2/catch.hpp>

#include <algorithm>

#include "bitstream/headers.hpp"
#include "codec/video_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "measure/picture_quality.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

constexpr Codec kCodecs[] = {Codec::h265, Codec::vp9, Codec::av1};

codec::VideoEncoderSettings settings_for(Codec codec) {
    codec::VideoEncoderSettings settings;
    settings.codec = codec;
    settings.width = 320;
    settings.height = 240;
    settings.frame_rate = {24, 1};
    settings.bit_depth = 10;
    settings.colour = {9, 16, 9, false};
    settings.mastering_display = sample::kCardDisplay;
    settings.content_light = sample::kCardLight;
    settings.effort = 2;
    settings.quality = 85;
    return settings;
}

Picture draw(int frame) {
    sample::CardSettings settings;
    settings.width = 320;
    settings.height = 240;
    settings.frame_rate = {24, 1};
    static const sample::TestCard card(settings);
    static const filter::SdrInHdr hdr({9, 16, 9, false});
    return sample::draw_hdr_card(hdr, card.draw(frame));
}

std::uint32_t number(ByteSpan bytes, std::size_t at, std::size_t size) {
    std::uint32_t value = 0;
    for (std::size_t i = 0; i < size; ++i) value = value << 8 | bytes[at + i];
    return value;
}
// Where these bytes begin.
std::size_t find(ByteSpan bytes, std::initializer_list<std::uint8_t> what) {
    return static_cast<std::size_t>(std::search(bytes.begin(), bytes.end(), what.begin(), what.end()) - bytes.begin());
}

}  // namespace

TEST_CASE("video of 10 bits comes back as it was, in each codec that has them", "[encoders][video][depth]") {
    for (const Codec codec : kCodecs) {
        INFO(media::short_name(codec));
        auto encoder = codec::make_video_encoder(settings_for(codec));
        REQUIRE(encoder);
        std::vector<Packet> packets;
        std::vector<Picture> pictures;
        for (int i = 0; i < 30; ++i) {
            pictures.push_back(draw(i));
            REQUIRE((*encoder)->encode(pictures.back(), packets));
        }
        REQUIRE((*encoder)->flush(packets));
        REQUIRE(packets.size() == 30);
        const Track& track = (*encoder)->track();
        CHECK(track.bit_depth == 10);
        CHECK(track.mastering_display == sample::kCardDisplay);
        CHECK(track.content_light == sample::kCardLight);
        CHECK(track.profile == (codec == Codec::h265 ? "Main 10" : codec == Codec::vp9 ? "2" : "Main"));
        // What the stream itself says.
        Track told = track;
        told.bit_depth = 0;
        told.colour = {};
        bitstream::describe_headers(told, packets.front().data.view());
        CHECK(told.bit_depth == 10);
        CHECK(told.colour.matrix == 9);
        auto decoder = codec::make_video_decoder(track);
        REQUIRE(decoder);
        std::vector<Picture> decoded;
        for (const Packet& packet : packets) REQUIRE((*decoder)->decode(packet, decoded));
        REQUIRE((*decoder)->flush(decoded));
        REQUIRE(decoded.size() == 30);
        for (std::size_t i = 0; i < 30; ++i) {
            CHECK(decoded[i].bit_depth == 10);
            CHECK(decoded[i].pts == pictures[i].pts);
            const auto quality = measure::compare(pictures[i], decoded[i]);
            REQUIRE(quality);
            CHECK(measure::psnr(quality->mean_squared_error()) > 34);
            const auto code = sample::read_card_code(decoded[i]);
            REQUIRE(code);
            CHECK(code->frame == static_cast<std::int64_t>(i));
        }
    }
}

TEST_CASE("H.265 tells HDR10 at each keyframe", "[encoders][video][depth]") {
    auto settings = settings_for(Codec::h265);
    settings.keyframe_distance = base::from_seconds(0.5);
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    std::vector<Packet> packets;
    for (int i = 0; i < 30; ++i) REQUIRE((*encoder)->encode(draw(i), packets));
    REQUIRE((*encoder)->flush(packets));
    int keys = 0;
    for (const Packet& packet : packets) {
        const ByteSpan bytes = packet.data.view();
        // A prefix SEI unit (type 39: 0x4E 0x01) with payload 137 of 24 bytes, and one with 144 of 4 (D.2.28, D.2.35).
        const std::size_t display = find(bytes, {0x4E, 0x01, 137, 24}), light = find(bytes, {0x4E, 0x01, 144, 4});
        CHECK((display < bytes.size()) == packet.key);
        CHECK((light < bytes.size()) == packet.key);
        if (!packet.key) continue;
        ++keys;
        // No emulation prevention is due in these values but one: 00 00 00 32 has none, its neighbours have none.
        ByteVector plain;
        for (std::size_t i = display + 4; i < std::min(bytes.size(), display + 40); ++i) {
            const std::size_t n = plain.size();
            if (bytes[i] == 3 && n >= 2 && plain[n - 1] == 0 && plain[n - 2] == 0) continue;
            plain.push_back(bytes[i]);
        }
        REQUIRE(plain.size() >= 24);
        // Green, blue, red; then white.
        CHECK(number(plain, 0, 2) == 8500);
        CHECK(number(plain, 2, 2) == 39850);
        CHECK(number(plain, 4, 2) == 6550);
        CHECK(number(plain, 8, 2) == 35400);
        CHECK(number(plain, 12, 2) == 15635);
        CHECK(number(plain, 14, 2) == 16450);
        CHECK(number(plain, 16, 4) == 10'000'000);
        CHECK(number(plain, 20, 4) == 50);
        CHECK(number(bytes, light + 4, 2) == 1000);
        CHECK(number(bytes, light + 6, 2) == 203);
    }
    CHECK(keys >= 2);
}

TEST_CASE("AV1 tells HDR10 in metadata units", "[encoders][video][depth]") {
    auto encoder = codec::make_video_encoder(settings_for(Codec::av1));
    REQUIRE(encoder);
    std::vector<Packet> packets;
    for (int i = 0; i < 10; ++i) REQUIRE((*encoder)->encode(draw(i), packets));
    REQUIRE((*encoder)->flush(packets));
    REQUIRE_FALSE(packets.empty());
    // Units: header (type in bits 6 to 3, a size follows), size, body (5.3.2, 5.8).
    const ByteSpan bytes = packets.front().data.view();
    bool display = false, light = false;
    for (std::size_t at = 0; at + 2 < bytes.size();) {
        const int type = bytes[at] >> 3 & 15;
        REQUIRE((bytes[at] & 2) != 0);
        at += (bytes[at] & 4) != 0 ? 2 : 1;
        std::size_t size = 0;
        for (unsigned shift = 0;; shift += 7) {
            size |= std::size_t{bytes[at] & 0x7Fu} << shift;
            if ((bytes[at++] & 0x80) == 0) break;
        }
        if (type == 5 && bytes[at] == 1) {  // METADATA_TYPE_HDR_CLL
            light = true;
            CHECK(number(bytes, at + 1, 2) == 1000);
            CHECK(number(bytes, at + 3, 2) == 203);
        }
        if (type == 5 && bytes[at] == 2) {  // METADATA_TYPE_HDR_MDCV: red, green, blue, white in 0.16
            display = true;
            CHECK(number(bytes, at + 1, 2) / 65536.0 == Approx(0.708).margin(0.0001));
            CHECK(number(bytes, at + 3, 2) / 65536.0 == Approx(0.292).margin(0.0001));
            CHECK(number(bytes, at + 17, 4) / 256.0 == Approx(1000).margin(0.01));
            CHECK(number(bytes, at + 21, 4) / 16384.0 == Approx(0.005).margin(0.0001));
        }
        at += size;
    }
    CHECK(display);
    CHECK(light);
}

TEST_CASE("10 bits are refused where there are none", "[encoders][video][depth]") {
    auto settings = settings_for(Codec::h264);
    CHECK_FALSE(codec::make_video_encoder(settings));
    settings = settings_for(Codec::h265);
    settings.profile = "main";
    const auto refused = codec::make_video_encoder(settings);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::usage);
}
