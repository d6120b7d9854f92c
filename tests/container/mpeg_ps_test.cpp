#include "container/mpeg_ps.hpp"

#include <catch2/catch.hpp>

#include <random>

using namespace wavecrest;
namespace ps = wavecrest::container::ps;

TEST_CASE("a pack written by hand is parsed", "[ps]") {
    // ISO/IEC 13818-1, tables 2-33 and 2-17, by hand: SCR base 1, extension 2; rate 25200 x 50 bytes/s.
    const ByteVector bytes = {
        0,    0,    1,    0xBA, 0x44, 0x00, 0x04, 0x00, 0x0C, 0x05, 0x01, 0x89, 0xC3, 0xF8,  // pack header
        0,    0,    1,    0xE0, 0,    13,   0x81, 0xC0, 0x0A,                                // PES, PTS and DTS
        0x31, 0x00, 0x01, 0x00, 0x05,                                                        // PTS 2
        0x11, 0x00, 0x01, 0x00, 0x03,                                                        // DTS 1
    };
    ps::PackContents contents;
    ps::parse_packs(bytes, contents);
    CHECK(contents.scr_27mhz == 302);
    REQUIRE(contents.packets.size() == 1);
    CHECK(contents.packets[0].stream_id == 0xE0);
    CHECK(contents.packets[0].pts == 2);
    CHECK(contents.packets[0].dts == 1);
    CHECK(contents.packets[0].payload.empty());
    CHECK_FALSE(contents.packets[0].scrambled);
    CHECK(contents.skipped_bytes == 0);
}

TEST_CASE("what is written is read back, at the borders of the clocks", "[ps]") {
    for (const std::int64_t timestamp :
         {std::int64_t{0}, std::int64_t{1}, std::int64_t{0x7FFF}, std::int64_t{0x8000}, std::int64_t{0x3FFFFFFF},
          std::int64_t{0x1'2345'6789}, std::int64_t{0x1'FFFF'FFFF}}) {
        INFO(timestamp);
        base::ByteWriter out;
        ps::write_pack_header(out, timestamp * 300 + 299, 10'080'000);
        CHECK(out.size() == ps::kPackHeaderSize);
        const ps::PesHeader header{ps::kPrivate1, timestamp, timestamp, 0x2000 | 58, 3};
        ps::write_pes_header(out, header, 5);
        CHECK(out.size() == ps::kPackHeaderSize + ps::pes_header_size(header));
        out.text("hello");
        ps::write_padding(out, 40);
        ps::PackContents contents;
        ps::parse_packs(out.bytes(), contents);
        CHECK(contents.scr_27mhz == timestamp * 300 + 299);
        REQUIRE(contents.packets.size() == 1);
        CHECK(contents.packets[0].pts == timestamp);
        CHECK(contents.packets[0].dts == timestamp);
        CHECK(std::string(contents.packets[0].payload.begin(), contents.packets[0].payload.end()) == "hello");
        CHECK(contents.skipped_bytes == 0);
    }
}

TEST_CASE("scrambling bits are seen", "[ps]") {
    base::ByteWriter out;
    ps::write_pes_header(out, {0xE0, 5, {}, {}, 0}, 4);
    out.fill(4, 7);
    ByteVector bytes = out.release();
    bytes[6] |= 0x10;
    ps::PackContents contents;
    ps::parse_packs(bytes, contents);
    REQUIRE(contents.packets.size() == 1);
    CHECK(contents.packets[0].scrambled);
}

TEST_CASE("a packet cut short is given as far as it goes, and said to be cut", "[ps]") {
    base::ByteWriter out;
    ps::write_pes_header(out, {0xE0, 5, {}, {}, 0}, 100);
    out.fill(100, 7);
    ps::PackContents contents;
    ps::parse_packs(ByteSpan(out.bytes()).first(60), contents);
    REQUIRE(contents.packets.size() == 1);
    CHECK(contents.packets[0].cut);
    CHECK(contents.packets[0].payload.size() == 60 - 14);
}

TEST_CASE("rubbish between packets is passed over and counted", "[ps]") {
    base::ByteWriter out;
    out.fill(30, 0x55);
    ps::write_pes_header(out, {0xE0, {}, {}, {}, 0}, 1);
    out.u8(9);
    out.fill(20, 0x55);
    ps::PackContents contents;
    ps::parse_packs(out.bytes(), contents);
    REQUIRE(contents.packets.size() == 1);
    CHECK(contents.packets[0].payload[0] == 9);
    CHECK(contents.skipped_bytes == 50);
}

TEST_CASE("random bytes and every cut of a good pack never crash", "[ps]") {
    std::mt19937 random(3);
    ps::PackContents contents;
    for (int i = 0; i < 2000; ++i) {
        ByteVector bytes(random() % 300);
        for (auto& b : bytes) b = static_cast<std::uint8_t>(random() % 4 == 0 ? random() : random() % 2);
        if (bytes.size() > 4) {
            bytes[0] = bytes[1] = 0;
            bytes[2] = 1;
            bytes[3] = static_cast<std::uint8_t>(0xB9 + random() % 60);
        }
        ps::parse_packs(bytes, contents);
        for (const auto& packet : contents.packets) {
            if (packet.payload.empty()) continue;
            REQUIRE(packet.payload.data() >= bytes.data());
            REQUIRE(packet.payload.data() + packet.payload.size() <= bytes.data() + bytes.size());
        }
    }
}
