#include "bitstream/frame_packing.hpp"

#include <catch2/catch.hpp>
#include <cstdint>

extern "C" {
#include <x264.h>
}

#include "bitstream/headers.hpp"
#include "bitstream/nal.hpp"

using namespace wavecrest;
namespace nal = bitstream::nal;
using Arrangement = FramePacking::Arrangement;
using View = FramePacking::View;

namespace {

// The only message of a unit.
ByteVector only_payload(ByteSpan unit) {
    nal::Messages messages(Codec::h264, unit);
    const auto message = messages.next();
    REQUIRE(message);
    CHECK(message->type == bitstream::kFramePackingMessage);
    const ByteVector payload(message->payload.begin(), message->payload.end());
    CHECK_FALSE(messages.next());
    return payload;
}

// The unit that x264 writes of an arrangement, with each of the pictures that have one.
std::vector<ByteVector> by_x264(int arrangement) {
    x264_param_t param;
    x264_param_default_preset(&param, "ultrafast", "zerolatency");
    param.i_width = param.i_height = 32;
    param.i_csp = X264_CSP_I420;
    param.i_log_level = X264_LOG_NONE;
    param.i_threads = 1;
    param.i_keyint_max = 3;
    param.i_frame_packing = arrangement;
    param.b_annexb = 0;
    x264_t* const encoder = x264_encoder_open(&param);
    REQUIRE(encoder != nullptr);
    x264_picture_t picture, coded;
    REQUIRE(x264_picture_alloc(&picture, X264_CSP_I420, 32, 32) == 0);
    std::vector<ByteVector> units;
    for (int i = 0; i < 6; ++i) {
        picture.i_pts = i;
        x264_nal_t* nals = nullptr;
        int count = 0;
        REQUIRE(x264_encoder_encode(encoder, &nals, &count, &picture, &coded) > 0);
        for (int n = 0; n < count; ++n) {
            const ByteSpan unit(nals[n].p_payload + 4, static_cast<std::size_t>(nals[n].i_payload) - 4);
            nal::Messages messages(Codec::h264, unit);
            const auto message = messages.next();
            if (message && message->type == bitstream::kFramePackingMessage)
                units.emplace_back(unit.begin(), unit.end());
        }
    }
    x264_picture_clean(&picture);
    x264_encoder_close(encoder);
    return units;
}

}  // namespace

TEST_CASE("frame packing: the bits of the standard", "[frame-packing]") {
    // Side by side, the left view first, until further notice: by hand from D.1.26.
    const ByteVector payload = {0x81, 0x81, 0x00, 0x00, 0x00, 0x01, 0x20};
    const ByteVector unit = {0x06, 0x2D, 0x07, 0x81, 0x81, 0x00, 0x00, 0x03, 0x00, 0x01, 0x20, 0x80};
    const FramePacking side_by_side{Arrangement::side_by_side, View::left};
    CHECK(only_payload(unit) == payload);
    CHECK(bitstream::frame_packing_unit({side_by_side, true}) == unit);
    const auto parsed = bitstream::parse_frame_packing(Codec::h264, payload);
    REQUIRE(parsed);
    CHECK(parsed->packing == side_by_side);
    CHECK(parsed->stays);
    // H.265 (D.2.16) has a flag in place of the period, and one more behind it.
    const auto persists = bitstream::parse_frame_packing(Codec::h265, ByteVector{0x81, 0x81, 0, 0, 0, 0x02});
    REQUIRE(persists);
    CHECK(persists->packing == side_by_side);
    CHECK(persists->stays);
    const auto once = bitstream::parse_frame_packing(Codec::h265, ByteVector{0x81, 0x81, 0, 0, 0, 0x01});
    REQUIRE(once);
    CHECK_FALSE(once->stays);
    // Cancelled.
    const auto cancels = bitstream::parse_frame_packing(Codec::h264, ByteVector{0xD0});
    REQUIRE(cancels);
    CHECK_FALSE(cancels->packing);
    // Cut short, and an arrangement of 8.
    for (std::size_t size = 0; size + 1 < payload.size(); ++size)
        CHECK_FALSE(bitstream::parse_frame_packing(Codec::h264, ByteSpan(payload).first(size)));
    CHECK_FALSE(bitstream::parse_frame_packing(Codec::h264, ByteVector{0x84, 0x01, 0, 0, 0, 1, 0x20}));
}

TEST_CASE("frame packing: what is written is read again", "[frame-packing]") {
    for (int arrangement = 0; arrangement < 8; ++arrangement) {
        for (unsigned bits = 0; bits < 64; ++bits) {
            FramePacking packing{static_cast<Arrangement>(arrangement), static_cast<View>(bits % 3)};
            packing.quincunx = (bits & 1) != 0;
            packing.flipped = (bits & 2) != 0;
            packing.first_flipped = (bits & 4) != 0;
            packing.fields = (bits & 8) != 0;
            packing.is_first = (bits & 16) != 0;
            if (!packing.quincunx && packing.arrangement != Arrangement::alternating)
                for (std::uint8_t i = 0; i < 4; ++i) packing.grid[i] = static_cast<std::uint8_t>((bits + 5u * i) % 16);
            const ByteVector unit = bitstream::frame_packing_unit({packing, (bits & 32) != 0});
            const auto parsed = bitstream::parse_frame_packing(Codec::h264, only_payload(unit));
            REQUIRE(parsed);
            CHECK(parsed->packing == packing);
            CHECK(parsed->stays == ((bits & 32) != 0));
        }
    }
    const auto parsed = bitstream::parse_frame_packing(Codec::h264, only_payload(bitstream::frame_packing_unit({})));
    REQUIRE(parsed);
    CHECK_FALSE(parsed->packing);
}

TEST_CASE("frame packing: as another encoder writes it", "[frame-packing]") {
    // It has no tiles.
    for (int arrangement = 0; arrangement < static_cast<int>(Arrangement::tiles); ++arrangement) {
        INFO(arrangement);
        const auto units = by_x264(arrangement);
        const bool alternating = arrangement == static_cast<int>(Arrangement::alternating);
        REQUIRE(units.size() == (alternating ? 6 : 2));  // with keyframes, of which every third picture is one
        for (std::size_t i = 0; i < units.size(); ++i) {
            const auto parsed = bitstream::parse_frame_packing(Codec::h264, only_payload(units[i]));
            REQUIRE(parsed);
            REQUIRE(parsed->packing);
            CHECK(parsed->packing->arrangement == static_cast<Arrangement>(arrangement));
            CHECK(parsed->packing->first ==
                  (parsed->packing->arrangement == Arrangement::single ? View::unknown : View::left));
            CHECK(parsed->packing->is_first == (alternating && i % 2 == 0));
            CHECK(parsed->stays != alternating);
            CHECK(bitstream::frame_packing_unit(*parsed) == units[i]);
        }
    }
}

TEST_CASE("SEI units: message by message", "[frame-packing]") {
    // 300 bytes of user data (type 5), then type 260 with a byte, both numbers in more than one byte; bytes that have
    // to be escaped.
    ByteVector rbsp = {5, 0xFF, 45};
    rbsp.resize(3 + 300);
    for (const std::uint8_t byte : {0xFF, 5, 1, 0x77, 0x80}) rbsp.push_back(byte);
    ByteVector unit = {0x06};
    nal::append_escaped(unit, rbsp);
    CHECK(unit.size() > 1 + rbsp.size() + 100);
    CHECK(nal::unescape(ByteSpan(unit).subspan(1)) == rbsp);
    nal::Messages messages(Codec::h264, unit);
    const auto first = messages.next();
    REQUIRE(first);
    CHECK(first->type == 5);
    CHECK(first->payload.size() == 300);
    const auto second = messages.next();
    REQUIRE(second);
    CHECK(second->type == 260);
    REQUIRE(second->payload.size() == 1);
    CHECK(second->payload[0] == 0x77);
    CHECK_FALSE(messages.next());
    // Cut short anywhere: what is whole.
    for (std::size_t size = 0; size < unit.size(); ++size) {
        nal::Messages cut(Codec::h264, ByteSpan(unit).first(size));
        int whole = 0;
        while (cut.next()) ++whole;
        CHECK(whole <= (size + 2 < unit.size() ? 1 : 2));
    }
    // No SEI.
    CHECK_FALSE(nal::Messages(Codec::h264, ByteVector{0x65, 5, 1, 0, 0x80}).next());
    CHECK_FALSE(nal::Messages(Codec::h265, ByteVector{0x06, 5, 1, 0, 0x80}).next());
    // H.265 has two bytes in front.
    CHECK(nal::Messages(Codec::h265, ByteVector{0x4E, 0x01, 5, 1, 0, 0x80}).next());
}

TEST_CASE("layers on top of a stream are told apart", "[frame-packing]") {
    using media::Layers;
    const auto with = [](ByteVector unit) {
        Track track;
        track.kind = TrackKind::video;
        track.codec = Codec::h264;
        // Baseline, level 1, 16x16, as short as can be.
        const ByteVector sps = {0x67, 66, 0, 10, 0xDD, 0xC4};
        const ByteVector pps = {0x68, 0xCE, 0x38, 0x80};
        ByteVector packet;
        for (const ByteSpan one : {ByteSpan(sps), ByteSpan(pps), ByteSpan(unit)}) nal::append(packet, one);
        bitstream::describe_headers(track, packet);
        CHECK(track.width == 16);
        return track.layers;
    };
    CHECK(with({0x65, 0x88}) == Layers::none);
    CHECK(with({0x6E, 0x80, 0, 0x07}) == Layers::none);  // a prefix alone: pictures may be left out, none are added
    CHECK(with({0x6F, 83, 0, 10}) == Layers::scalable);
    CHECK(with({0x6F, 86, 0, 10}) == Layers::scalable);
    CHECK(with({0x6F, 118, 0, 10}) == Layers::second_view);
    CHECK(with({0x6F, 128, 0, 10}) == Layers::second_view);
    CHECK(with({0x74, 0x80, 0, 7}) == Layers::scalable);
    CHECK(with({0x74, 0x40, 0, 7}) == Layers::second_view);
}
