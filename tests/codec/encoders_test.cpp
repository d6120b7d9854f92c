#include <malloc.h>

#include <catch2/catch.hpp>

#include <cmath>

#include "bitstream/aac.hpp"
#include "bitstream/lpcm.hpp"
#include "codec/aac_encoder.hpp"
#include "codec/audio_decoder.hpp"
#include "codec/video_encoder.hpp"
#include "sample/test_card.hpp"

using namespace wavecrest;

namespace {

codec::VideoEncoderSettings small_settings() {
    codec::VideoEncoderSettings settings;
    settings.width = 320;
    settings.height = 240;
    settings.frame_rate = {24000, 1001};
    return settings;
}

sample::TestCard small_card() {
    sample::CardSettings settings;
    settings.width = 320;
    settings.height = 240;
    return sample::TestCard(settings);
}

std::vector<Packet> encode_h264(codec::VideoEncoderSettings settings, int frames, Time start, int irregular_at = -1) {
    auto encoder = codec::make_video_encoder(settings);
    REQUIRE(encoder);
    const sample::TestCard card = small_card();
    std::vector<Packet> packets;
    for (int i = 0; i < frames; ++i) {
        Picture picture = card.draw(i);
        picture.pts += start;
        if (irregular_at >= 0 && i >= irregular_at) picture.pts += base::from_seconds(1);
        REQUIRE((*encoder)->encode(picture, packets));
    }
    REQUIRE((*encoder)->flush(packets));
    return packets;
}

}  // namespace

TEST_CASE("H.264 packets keep the pictures' own times", "[encoders]") {
    const Time start = base::from_seconds(7);
    const auto packets = encode_h264(small_settings(), 100, start);
    REQUIRE(packets.size() == 100);
    std::vector<Time> times;
    Time last_dts = Time::min();
    for (const Packet& packet : packets) {
        times.push_back(packet.pts);
        CHECK(packet.dts > last_dts);
        CHECK(packet.pts >= packet.dts);
        last_dts = packet.dts;
    }
    std::sort(times.begin(), times.end());
    for (int i = 0; i < 100; ++i)
        CHECK(times[static_cast<std::size_t>(i)] == start + base::frames_to_time(i, {24000, 1001}));
    CHECK(packets.front().key);
}

TEST_CASE("an encoder looks ahead no further than it is let", "[encoders]") {
    const auto pictures_before_the_first = [](Codec codec, Time lookahead) {
        codec::VideoEncoderSettings settings = small_settings();
        settings.codec = codec;
        settings.lookahead = lookahead;
        settings.threads = 1;
        auto encoder = codec::make_video_encoder(settings);
        REQUIRE(encoder);
        const sample::TestCard card = small_card();
        std::vector<Packet> packets;
        int put = 0;
        while (packets.empty() && put < 100) REQUIRE((*encoder)->encode(card.draw(put++), packets));
        return put;
    };
    for (const Codec codec : {Codec::h264, Codec::h265}) {
        const int usual = pictures_before_the_first(codec, Time{});
        const int less = pictures_before_the_first(codec, std::chrono::milliseconds(400));
        // Nine pictures, and what B pictures and the encoder's own pipeline hold.
        CHECK(less <= 9 + 8);
        CHECK(less < usual);
    }
}

TEST_CASE("the same pictures give the same bytes, whatever lay in memory before", "[encoders]") {
    for (const int width : {160, 176, 256}) {
        for (const int threads : {1, 3}) {
            codec::VideoEncoderSettings settings;
            settings.width = width;
            settings.height = 144;
            settings.frame_rate = {24, 1};
            settings.threads = threads;
            settings.effort = 3;
            const auto encoded = [&](int fill) {
                ::mallopt(M_PERTURB, fill);  // of what is allocated from now on
                auto encoder = codec::make_video_encoder(settings);
                REQUIRE(encoder);
                std::vector<Packet> packets;
                for (int i = 0; i < 40; ++i) {
                    Picture picture = Picture::allocate(width, 144);
                    for (int plane = 0; plane < 3; ++plane) {
                        for (int y = 0; y < picture.plane_height(plane); ++y) {
                            auto* const row = picture.row<std::uint8_t>(plane, y);
                            for (int x = 0; x < picture.plane_width(plane); ++x)
                                row[x] =
                                    static_cast<std::uint8_t>(60 + ((x + 2 * i) / 16 + y / 16) % 2 * 120 + x * y % 7);
                        }
                    }
                    picture.pts = base::frames_to_time(i, {24, 1});
                    picture.duration = base::frames_to_time(1, {24, 1});
                    REQUIRE((*encoder)->encode(picture, packets));
                }
                REQUIRE((*encoder)->flush(packets));
                ::mallopt(M_PERTURB, 0);
                ByteVector all;
                for (const Packet& packet : packets)
                    all.insert(all.end(), packet.data.view().begin(), packet.data.view().end());
                return all;
            };
            INFO(width << " " << threads);
            const ByteVector first = encoded(1);
            REQUIRE(first.size() > 5000);
            for (const int fill : {85, 170, 254}) CHECK((encoded(fill) == first));
        }
    }
}

TEST_CASE("a gap in the pictures' times stays a gap", "[encoders]") {
    const auto packets = encode_h264(small_settings(), 60, {}, 30);
    Time end{};
    for (const Packet& packet : packets) end = std::max(end, packet.pts);
    CHECK(end == base::frames_to_time(59, {24000, 1001}) + base::from_seconds(1));
}

TEST_CASE("keyframes come as often as asked and packets are length-prefixed units", "[encoders]") {
    auto settings = small_settings();
    settings.keyframe_distance = base::from_seconds(1);
    const auto packets = encode_h264(settings, 100, {});
    int since = 0;
    for (const Packet& packet : packets) {
        since = packet.key ? 0 : since + 1;
        CHECK(since < 24);
        std::size_t at = 0;
        const ByteSpan data = packet.data.view();
        while (at + 4 <= data.size()) {
            at += 4 + (std::size_t{data[at]} << 24 | std::size_t{data[at + 1]} << 16 | std::size_t{data[at + 2]} << 8 |
                       data[at + 3]);
        }
        CHECK(at == data.size());
    }
}

TEST_CASE("a limited peak is kept over its buffer", "[encoders]") {
    auto settings = small_settings();
    settings.peak_bps = 300'000;
    settings.buffer = base::from_seconds(1);
    settings.quality = 100;  // would be far above the limit
    const auto packets = encode_h264(settings, 240, {});
    std::uint64_t bits = 0;
    for (const Packet& packet : packets) bits += packet.data.size() * 8;
    // Rate times length plus one full buffer.
    CHECK(static_cast<double>(bits) <= 300'000 * (240 * 1001.0 / 24000) + 300'000 * 1.05);
}

TEST_CASE("settings the encoder can't take are refused", "[encoders]") {
    auto settings = small_settings();
    settings.profile = "no such";
    const auto refused = codec::make_video_encoder(settings);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::usage);
    settings = small_settings();
    settings.width = 0;
    CHECK_FALSE(codec::make_video_encoder(settings));
    CHECK_FALSE(codec::make_aac_encoder(48000, 6, 320'000));
    CHECK_FALSE(codec::make_aac_encoder(47000, 2, 128'000));
}

TEST_CASE("AAC packets cover the audio, with its priming before it", "[encoders]") {
    auto encoder = codec::make_aac_encoder(48000, 2, 128'000);
    REQUIRE(encoder);
    const auto config = bitstream::aac::parse_config((*encoder)->track().codec_config.view());
    REQUIRE(config);
    CHECK(config->channels == 2);
    std::vector<Packet> packets;
    const Time start = base::from_seconds(3);
    std::int64_t fed = 0;
    for (int block = 0; block < 50; ++block) {
        AudioFrames audio;
        audio.pts = start + base::from_ticks(fed, 48000);
        audio.sample_rate = 48000;
        audio.channels = 2;
        for (int i = 0; i < 503; ++i, ++fed) {
            const auto v = static_cast<float>(0.3 * std::sin(0.05 * static_cast<double>(fed)));
            audio.samples.insert(audio.samples.end(), {v, -v});
        }
        REQUIRE((*encoder)->encode(audio, packets));
    }
    REQUIRE((*encoder)->flush(packets));
    CHECK(packets.front().pts == start - base::from_ticks(codec::kAacPriming, 48000));
    for (std::size_t i = 1; i < packets.size(); ++i) {
        CHECK(packets[i].pts - packets[i - 1].pts == base::from_ticks(1024, 48000));
    }
    // The last audio lies within the last packet's interval or before.
    CHECK(packets.back().pts + packets.back().duration >= start + base::from_ticks(fed, 48000));
    std::uint64_t bytes = 0;
    for (const Packet& packet : packets) bytes += packet.data.size();
    const double rate = static_cast<double>(bytes) * 8 / (static_cast<double>(packets.size()) * 1024 / 48000);
    CHECK(rate == Approx(128'000).epsilon(0.15));
}

TEST_CASE("LPCM samples come out as they went in: 16 and 24 bits", "[codec]") {
    Track track;
    track.kind = TrackKind::audio;
    track.codec = Codec::lpcm;
    track.channels = 2;
    track.sample_rate = 48000;
    const auto decode = [&](ByteVector bytes) {
        Packet packet;
        packet.data = Bytes(std::move(bytes));
        const auto decoder = codec::make_audio_decoder(track);
        std::vector<AudioFrames> out;
        REQUIRE(decoder);
        REQUIRE((*decoder)->decode(packet, out));
        REQUIRE(out.size() == 1);
        return out[0].samples;
    };
    track.bit_depth = 16;
    CHECK(decode({0x40, 0x00, 0xC0, 0x00}) == std::vector<float>{0.5f, -0.5f});
    track.bit_depth = 24;
    CHECK(decode({0x40, 0x00, 0x00, 0xC0, 0x00, 0x00, 0x00, 0x00, 0x01}) ==
          std::vector<float>{0.5f, -0.5f, 1.0f / 8388608.0f});
}

TEST_CASE("LPCM of discs becomes plain samples", "[codec]") {
    // 24 bits: the upper parts of two sample frames, then their lowest bytes.
    bitstream::DvdLpcmHeader header;
    header.bits = 24;
    CHECK(bitstream::plain_dvd_lpcm(header, ByteVector{1, 2, 4, 5, 7, 8, 10, 11, 3, 6, 9, 12, 99}) ==
          ByteVector{1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12});
    // 20 bits: nibbles in the same order.
    header.bits = 20;
    CHECK(bitstream::plain_dvd_lpcm(header, ByteVector{1, 2, 4, 5, 7, 8, 10, 11, 0x36, 0x9C}) ==
          ByteVector{1, 2, 0x30, 4, 5, 0x60, 7, 8, 0x90, 10, 11, 0xC0});
    // Blu-ray: low frequency is coded last, and comes fourth.
    const auto five_one = bitstream::parse_blu_ray_lpcm_header(ByteVector{0, 12, 0x91, 0x40});
    REQUIRE(five_one);
    CHECK(five_one->channels == 6);
    CHECK(bitstream::plain_blu_ray_lpcm(*five_one, ByteVector{0, 1, 0, 2, 0, 3, 0, 4, 0, 5, 0, 6}) ==
          ByteVector{0, 1, 0, 2, 0, 3, 0, 6, 0, 4, 0, 5});
    // Mono fills its pair up.
    const auto mono = bitstream::parse_blu_ray_lpcm_header(ByteVector{0, 12, 0x11, 0xC0});
    REQUIRE(mono);
    CHECK(mono->bits == 24);
    CHECK(bitstream::plain_blu_ray_lpcm(*mono, ByteVector{1, 2, 3, 0, 0, 0}) == ByteVector{1, 2, 3});
    CHECK_FALSE(bitstream::parse_blu_ray_lpcm_header(ByteVector{0, 12, 0x21, 0x40}));
}
