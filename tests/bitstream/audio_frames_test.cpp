// Headers of coded audio, put together here bit by bit, and streams cut into frames.
#include "bitstream/audio_frames.hpp"

#include <catch2/catch.hpp>

#include "base/bits.hpp"
#include "media/language.hpp"

using namespace wavecrest;
using namespace wavecrest::media::speaker;
using bitstream::parse_audio_header;

namespace {

ByteVector dts_frame(std::size_t bytes, int arrangement, int low) {
    base::BitWriter w;
    w.bits(0x7FFE8001, 32);
    w.bits(1, 1);   // normal
    w.bits(31, 5);  // no samples missing
    w.bits(0, 1);   // no CRC
    w.bits(15, 7);  // 16 blocks: 512 samples
    w.bits(static_cast<std::uint32_t>(bytes - 1), 14);
    w.bits(static_cast<std::uint32_t>(arrangement), 6);
    w.bits(13, 4);  // 48 kHz
    w.bits(24, 5);  // 1536 kbit/s
    w.bits(0, 10);
    w.bits(static_cast<std::uint32_t>(low), 2);
    ByteVector frame = w.release();
    frame.resize(bytes, 0x11);
    return frame;
}

ByteVector eac3_frame(std::size_t bytes, int type) {
    base::BitWriter w;
    w.bits(0x0B77, 16);
    w.bits(static_cast<std::uint32_t>(type), 2);
    w.bits(0, 3);
    w.bits(static_cast<std::uint32_t>(bytes / 2 - 1), 11);
    w.bits(0, 2);   // 48 kHz
    w.bits(3, 2);   // six blocks
    w.bits(7, 3);   // 3/2
    w.bits(1, 1);   // low frequency
    w.bits(16, 5);  // E-AC-3
    ByteVector frame = w.release();
    frame.resize(bytes, 0x22);
    return frame;
}

void append(ByteVector& to, const ByteVector& from) {
    to.insert(to.end(), from.begin(), from.end());
}

}  // namespace

TEST_CASE("AC-3 headers: rates, modes, sizes at 44.1 kHz", "[audioframes]") {
    // 44.1 kHz, 192 kbit/s: 417 or 418 words (table 4.13); mode 2/0.
    for (const auto& [code, words] : {std::pair{20, 417}, std::pair{21, 418}}) {
        const ByteVector bytes = {0x0B, 0x77, 0, 0, static_cast<std::uint8_t>(1 << 6 | code), 8 << 3, 0x40, 0, 0};
        const auto header = parse_audio_header(Codec::ac3, bytes);
        REQUIRE(header);
        CHECK(header->bytes == static_cast<std::size_t>(words) * 2);
        CHECK(header->sample_rate == 44100);
        CHECK(header->channels == 2);
        CHECK(header->bitrate_bps == 192'000);
    }
    // 3/2 with low frequency: acmod 7, both mix levels, lfeon.
    const ByteVector surround = {0x0B, 0x77, 0, 0, 30, 8 << 3, 0xE1, 0, 0};
    CHECK(parse_audio_header(Codec::ac3, surround)->speakers == kFiveOne);
    CHECK(parse_audio_header(Codec::ac3, surround)->bytes == 1792);
    CHECK_FALSE(parse_audio_header(Codec::ac3, ByteVector{0x0B, 0x77, 0, 0, 0xC0, 8 << 3, 0, 0, 0}));
    CHECK_FALSE(parse_audio_header(Codec::ac3, ByteVector{0x0B, 0x77, 0, 0, 30, 17 << 3, 0, 0, 0}));
}

TEST_CASE("DTS and MPEG audio headers", "[audioframes]") {
    const auto dts = parse_audio_header(Codec::dts, dts_frame(1006, 9, 2));
    REQUIRE(dts);
    CHECK(dts->bytes == 1006);
    CHECK(dts->samples == 512);
    CHECK(dts->sample_rate == 48000);
    CHECK(dts->speakers == kFiveOne);
    CHECK(dts->bitrate_bps == 1'536'000);
    // An extension substream: 0x64582025, short header of 16 bytes, 512 bytes in all.
    base::BitWriter w;
    w.bits(0x64582025, 32);
    w.bits(0, 10);
    w.bits(0, 1);
    w.bits(15, 8);
    w.bits(511, 16);
    ByteVector extension = w.release();
    extension.resize(512);
    const auto header = parse_audio_header(Codec::dts, extension);
    REQUIRE(header);
    CHECK(header->dependent);
    CHECK(header->bytes == 512);

    // Layer II, 48 kHz, 224 kbit/s: 672 bytes. Layer III, 44.1 kHz, 128 kbit/s, padded: 418.
    const auto two = parse_audio_header(Codec::mp2, ByteVector{0xFF, 0xFD, 0xB4, 0x00});
    REQUIRE(two);
    CHECK(two->codec == Codec::mp2);
    CHECK(two->bytes == 672);
    CHECK(two->samples == 1152);
    const auto three = parse_audio_header(Codec::mp3, ByteVector{0xFF, 0xFB, 0x92, 0xC0});
    REQUIRE(three);
    CHECK(three->codec == Codec::mp3);
    CHECK(three->bytes == 418);
    CHECK(three->channels == 1);
}

TEST_CASE("frames are found behind chance bytes, with their timestamps, in pieces of any size", "[audioframes]") {
    ByteVector stream = {0xFF, 0x0B, 0x77, 0x00, 0x12};
    for (int i = 0; i < 5; ++i) append(stream, dts_frame(960, 2, 0));
    for (const std::size_t piece : {1u, 7u, 100u, 5000u}) {
        bitstream::AudioFrameSplitter splitter(Codec::dts);
        std::vector<bitstream::AudioFrame> frames;
        for (std::size_t at = 0; at < stream.size(); at += piece) {
            const auto part = ByteSpan(stream).subspan(at, std::min(piece, stream.size() - at));
            // A timestamp with every piece: it belongs to the first frame that starts there.
            splitter.push(part, Time{static_cast<std::int64_t>(at)}, frames);
        }
        splitter.flush(frames);
        REQUIRE(frames.size() == 5);
        for (std::size_t i = 0; i < 5; ++i) {
            CHECK(frames[i].data.size() == 960);
            const std::size_t begin = 5 + 960 * i, owner = begin / piece * piece;
            const bool first_there = i == 0 || (begin - 960) / piece * piece != owner;
            if (first_there) CHECK(frames[i].pts == Time{static_cast<std::int64_t>(owner)});
            if (!first_there) CHECK_FALSE(frames[i].pts);
        }
    }
}

TEST_CASE("dependent frames belong to the one before: a core and its extensions are one packet", "[audioframes]") {
    ByteVector stream;
    for (int i = 0; i < 3; ++i) {
        append(stream, eac3_frame(1024, 0));
        append(stream, eac3_frame(512, 1));
    }
    bitstream::AudioFrameSplitter splitter(Codec::eac3);
    std::vector<bitstream::AudioFrame> frames;
    splitter.push(stream, Time{}, frames);
    splitter.flush(frames);
    REQUIRE(frames.size() == 3);
    CHECK(frames[2].data.size() == 1536);
    CHECK(frames[0].header.channels == 6);
    CHECK(frames[0].header.samples == 1536);
    // What is cut at the end is no frame.
    splitter.push(ByteSpan(stream).first(1500), Time{}, frames);
    splitter.flush(frames);
    CHECK(frames.back().data.size() == 1024);
}
