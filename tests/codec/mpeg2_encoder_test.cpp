// The encoder against libmpeg2: what a decoder of other authors makes of its streams.
#include "codec/mpeg2_encoder.hpp"

#include <catch2/catch.hpp>
extern "C" {
#include <mpeg2.h>
}

#include <cmath>
#include <cstdlib>

#include "bitstream/mpeg2.hpp"
#include "codec/mpeg2_decoder.hpp"
#include "sample/test_card.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
namespace mpeg2_syntax = wavecrest::bitstream::mpeg2;

namespace {

struct Coded {
    std::vector<codec::Mpeg2Picture> pictures;
    std::vector<Picture> reconstructions;
    ByteVector stream;
};

Picture copy_of(const Picture& from) {
    Picture to = Picture::allocate(from.width, from.height);
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? from.height : from.height / 2;
        std::copy_n(from.planes[plane], from.strides[plane] * rows, to.planes[plane]);
    }
    return to;
}

Coded encode_card(int frames, const codec::Mpeg2Settings& settings = {}) {
    const sample::TestCard card({});
    codec::Mpeg2Encoder encoder(settings);
    Coded coded;
    for (int i = 0; i < frames; ++i) {
        coded.pictures.push_back(encoder.encode(card.draw(i), i + 1 == frames));
        coded.reconstructions.push_back(copy_of(encoder.reconstruction()));
        const auto& data = coded.pictures.back().data;
        coded.stream.insert(coded.stream.end(), data.begin(), data.end());
    }
    return coded;
}

int largest_difference(const Picture& a, const Picture& b) {
    int most = 0;
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? a.height : a.height / 2, columns = plane == 0 ? a.width : a.width / 2;
        for (int y = 0; y < rows; ++y) {
            for (int x = 0; x < columns; ++x) {
                most = std::max(most, std::abs(a.planes[plane][y * a.strides[plane] + x] -
                                               b.planes[plane][y * b.strides[plane] + x]));
            }
        }
    }
    return most;
}

std::vector<Picture> decode(const Coded& coded) {
    const auto decoder = codec::make_mpeg2_decoder({});
    std::vector<Picture> out;
    Time pts{};
    for (const codec::Mpeg2Picture& picture : coded.pictures) {
        Packet packet;
        packet.pts = pts;
        packet.duration = base::frames_to_time(picture.fields, {60000, 1001});
        packet.data = Bytes(picture.data);
        pts += packet.duration;
        REQUIRE(decoder->decode(packet, out));
    }
    REQUIRE(decoder->flush(out));
    return out;
}

}  // namespace

TEST_CASE("another decoder sees what the encoder meant", "[mpeg2-encoder]") {
    const Coded coded = encode_card(40);
    const auto decoded = decode(coded);
    REQUIRE(decoded.size() == 40);
    const sample::TestCard card({});
    for (int i = 0; i < 40; ++i) {
        INFO("picture " << i);
        const auto n = static_cast<std::size_t>(i);
        // Inverse transforms of different make differ by rounding, which adds up from one I picture to the next.
        CHECK(largest_difference(decoded[n], coded.reconstructions[n]) <= 12);
        CHECK(luma_psnr(decoded[n], coded.reconstructions[n]) > 50);
        CHECK(luma_psnr(decoded[n], card.draw(i)) > 34);
        const auto code = sample::read_card_code(decoded[n]);
        REQUIRE(code);
        CHECK(code->frame == i);
    }
}

TEST_CASE("pulldown flags give film its five fields for two pictures", "[mpeg2-encoder]") {
    const Coded coded = encode_card(24);
    const auto decoded = decode(coded);
    REQUIRE(decoded.size() == 24);
    Time expected{};
    for (std::size_t i = 0; i < 24; ++i) {
        CHECK(decoded[i].fields == (i % 2 == 0 ? 3 : 2));
        CHECK(decoded[i].progressive);
        CHECK(decoded[i].pts == expected);
        expected += decoded[i].duration;
    }
    CHECK(expected == base::frames_to_time(60, {60000, 1001}));
    // Field order alternates so that fields never repeat out of turn: T B T | B T | B T B | T B.
    std::vector<mpeg2_syntax::AccessUnit> units;
    mpeg2_syntax::AccessUnitSplitter splitter;
    splitter.push(coded.stream, {}, {}, 0, units);
    splitter.flush(units);
    REQUIRE(units.size() == 24);
    bool next_is_top = true;
    for (const auto& unit : units) {
        CHECK(unit.picture.top_field_first == next_is_top);
        if (unit.picture.repeat_first_field) next_is_top = !next_is_top;
    }
}

TEST_CASE("the declared buffer never runs empty", "[mpeg2-encoder]") {
    codec::Mpeg2Settings settings;
    settings.mean_bps = 6'000'000;
    settings.peak_bps = 7'000'000;
    const Coded coded = encode_card(120, settings);
    // ISO/IEC 13818-2, annex C, variable rate: filled at the peak rate, never above its size, emptied picture by
    // picture.
    double fullness = codec::kDvdVbvBits;
    std::int64_t total = 0;
    for (const auto& picture : coded.pictures) {
        const double bits = static_cast<double>(picture.data.size()) * 8;
        REQUIRE(bits <= fullness);
        fullness = std::min<double>(fullness - bits + 7e6 * picture.fields * 1001 / 60000, codec::kDvdVbvBits);
        total += static_cast<std::int64_t>(picture.data.size()) * 8;
    }
    const auto headers = mpeg2_syntax::parse_sequence(coded.stream);
    REQUIRE(headers);
    CHECK(headers->bitrate_bps == 7'000'000);
    CHECK(headers->vbv_bits == codec::kDvdVbvBits);
    CHECK(headers->colour == ColourDescription{6, 6, 6, false});
    CHECK(static_cast<double>(total) / (120 * 1001.0 / 24000) < 6.3e6);
}

TEST_CASE("the same pictures give the same bytes", "[mpeg2-encoder]") {
    CHECK(encode_card(14).stream == encode_card(14).stream);
}

TEST_CASE("a cut to noise is intra coded within the rate", "[mpeg2-encoder]") {
    codec::Mpeg2Settings settings;
    settings.width = 320;
    settings.height = 240;
    settings.pictures = codec::Mpeg2Settings::Pictures::whole;
    codec::Mpeg2Encoder encoder(settings);
    Picture flat = Picture::allocate(320, 240), noise = Picture::allocate(320, 240);
    std::uint32_t state = 1;
    for (int plane = 0; plane < 3; ++plane) {
        const int rows = plane == 0 ? 240 : 120;
        for (int i = 0; i < flat.strides[plane] * rows; ++i) {
            flat.planes[plane][i] = 128;
            state = state * 1664525u + 1013904223u;
            noise.planes[plane][i] = static_cast<std::uint8_t>(state >> 24);
        }
    }
    Coded coded;
    for (const Picture* picture : {&flat, &flat, &noise, &noise, &flat}) {
        coded.pictures.push_back(encoder.encode(*picture, false));
        coded.reconstructions.push_back(copy_of(encoder.reconstruction()));
        CHECK(static_cast<std::int64_t>(coded.pictures.back().data.size()) * 8 <= coded.pictures.back().buffer_bits);
    }
    const auto decoded = decode(coded);
    REQUIRE(decoded.size() == 5);
    for (std::size_t i = 0; i < 5; ++i) CHECK(luma_psnr(decoded[i], coded.reconstructions[i]) > 44);
}

TEST_CASE("damaged video is decoded without a crash", "[mpeg2-encoder]") {
    Coded coded = encode_card(13);
    std::uint32_t state = 5;
    for (auto& picture : coded.pictures) {
        for (int k = 0; k < 20; ++k) {
            state = state * 1664525u + 1013904223u;
            picture.data[40 + state % (picture.data.size() - 40)] ^= static_cast<std::uint8_t>(state >> 16);
        }
    }
    const auto decoder = codec::make_mpeg2_decoder({});
    std::vector<Picture> out;
    for (const auto& picture : coded.pictures) {
        Packet packet;
        packet.data = Bytes(picture.data);
        (void)decoder->decode(packet, out);
    }
    (void)decoder->flush(out);
    CHECK(out.size() <= 14);
}
