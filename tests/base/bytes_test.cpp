#include "base/bytes.hpp"

#include <catch2/catch.hpp>

#include "base/bits.hpp"

using namespace wavecrest;
using base::BitReader;
using base::BitWriter;
using base::ByteReader;
using base::ByteWriter;

TEST_CASE("big-endian numbers are read and written", "[bytes]") {
    ByteWriter out;
    out.u8(0x12);
    out.u16(0x3456);
    out.u24(0x789ABC);
    out.u32(0xDEF01234);
    out.u64(0x56789ABCDEF01234);
    const ByteVector expected = {0x12, 0x34, 0x56, 0x78, 0x9A, 0xBC, 0xDE, 0xF0, 0x12,
                                 0x34, 0x56, 0x78, 0x9A, 0xBC, 0xDE, 0xF0, 0x12, 0x34};
    CHECK(out.bytes() == expected);
    ByteReader in{ByteSpan(expected)};
    CHECK(in.u8() == 0x12);
    CHECK(in.u16() == 0x3456);
    CHECK(in.u24() == 0x789ABC);
    CHECK(in.u32() == 0xDEF01234);
    CHECK(in.u64() == 0x56789ABCDEF01234);
    CHECK(in.ok());
    CHECK(in.remaining() == 0);
}

TEST_CASE("reading past the end gives zeros and is remembered", "[bytes]") {
    const ByteVector three = {1, 2, 3};
    ByteReader in{ByteSpan(three)};
    CHECK(in.u32() == 0);
    CHECK_FALSE(in.ok());
    CHECK(in.u8() == 0);
    ByteReader other{ByteSpan(three)};
    other.seek(4);
    CHECK_FALSE(other.ok());
    ByteReader skipping{ByteSpan(three)};
    skipping.skip(3);
    CHECK(skipping.ok());
    skipping.skip(1);
    CHECK_FALSE(skipping.ok());
    CHECK(ByteReader{ByteSpan(three)}.take(4).empty());
    CHECK(ByteReader{ByteSpan{}}.u8() == 0);
}

TEST_CASE("written bytes can be overwritten, never beyond the end", "[bytes]") {
    ByteWriter out;
    out.fill(6);
    out.put_u32(1, 0xA1B2C3D4);
    CHECK(out.bytes() == ByteVector{0, 0xA1, 0xB2, 0xC3, 0xD4, 0});
    CHECK_THROWS(out.put_u32(3, 1));
    out.pad_to(8);
    CHECK(out.size() == 8);
    out.pad_to(2);
    CHECK(out.size() == 8);
}

TEST_CASE("shared bytes keep their buffer alive", "[bytes]") {
    Bytes copy;
    {
        const Bytes original(ByteVector{7, 8, 9});
        copy = original;
    }
    CHECK(copy.size() == 3);
    CHECK(copy.view()[2] == 9);
}

TEST_CASE("bit fields cross byte borders", "[bits]") {
    BitWriter out;
    out.bits(0b101, 3);
    out.bits(0x1FF, 9);
    out.bits(0, 1);
    out.bits(0xDEADBEEF, 32);
    CHECK(out.bit_count() == 45);
    const ByteVector bytes = out.release();
    CHECK(bytes.size() == 6);
    BitReader in(bytes);
    CHECK(in.bits(3) == 0b101);
    CHECK(in.bits(9) == 0x1FF);
    CHECK_FALSE(in.flag());
    CHECK(in.bits(32) == 0xDEADBEEF);
    CHECK(in.bits(0) == 0);
    CHECK(in.bits_left() == 3);
    CHECK(in.bits(4) == 0);
    CHECK_FALSE(in.ok());
}

TEST_CASE("Exp-Golomb codes of H.264, table 9-2", "[bits]") {
    // 1, 010, 011, 00100, 00101, 00110, 00111, 0001000 are 0 to 7.
    const ByteVector bytes = {0b10100110, 0b01000010, 0b10011000, 0b11100010, 0b00000000};
    BitReader in(bytes);
    for (std::uint32_t expected = 0; expected <= 7; ++expected) CHECK(in.ue() == expected);
    // Signed mapping of table 9-3: 0, 1, -1, 2, -2, 3, -3, 4.
    BitReader signed_in(bytes);
    for (const int expected : {0, 1, -1, 2, -2, 3, -3, 4}) CHECK(signed_in.se() == expected);
}

TEST_CASE("Exp-Golomb codes that never end are errors", "[bits]") {
    const ByteVector zeros(16, 0);
    BitReader in(zeros);
    CHECK(in.ue() == 0);
    CHECK_FALSE(in.ok());
    BitReader cut(ByteSpan(zeros).first(1));
    cut.se();
    CHECK_FALSE(cut.ok());
}
