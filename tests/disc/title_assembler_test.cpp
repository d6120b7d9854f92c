// The timeline of titles made of many clocks.
#include "disc/title_assembler.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;

TEST_CASE("two hours of cells with clocks of their own: not a sample of drift", "[assembler]") {
    Track sound;
    sound.id = 0xA0;
    sound.kind = TrackKind::audio;
    sound.codec = Codec::lpcm;
    sound.channels = 2;
    sound.sample_rate = 48000;
    disc::TitleAssembler assembler({sound});
    // 1440 cells of 150 frames of 1001/30000 s, a little over five seconds each; their clocks begin anywhere. Sound is
    // exactly as long as the pictures: 240 240 samples a cell, stamped to the tick.
    constexpr std::int64_t kCells = 1440, kSamples = 240'240, kPiece = 1001;
    Time start{};
    std::uint32_t state = 5;
    std::int64_t last = -1;
    double farthest = 0;
    for (std::int64_t cell = 0; cell < kCells; ++cell) {
        state = state * 1664525u + 1013904223u;
        const std::int64_t clock = state >> 4;
        assembler.start_clock(clock, start);
        for (std::int64_t at = 0; at < kSamples; at += kPiece) {
            const std::int64_t pts = clock + base::rescale(at, 90000, 48000);
            assembler.samples(0xA0, ByteVector(4), kPiece, 48000, pts);
            const auto packet = assembler.take();
            REQUIRE(packet);
            const double sample = base::to_seconds(packet->pts) * 48000;
            farthest = std::max(farthest, std::abs(sample - static_cast<double>(cell * kSamples + at)));
            last = cell * kSamples + at;
        }
        start += base::frames_to_time(150, {30000, 1001});
    }
    CHECK(last > 7'200LL * 48000 - 2 * kSamples);
    CHECK(farthest < 1);
    CHECK(assembler.problems().empty());
}

TEST_CASE("a hole in the sound is told once, an overlap is not", "[assembler]") {
    Track sound;
    sound.id = 0x80;
    sound.kind = TrackKind::audio;
    sound.codec = Codec::lpcm;
    sound.channels = 1;
    sound.sample_rate = 48000;
    disc::TitleAssembler assembler({sound});
    assembler.start_clock(1000, {});
    assembler.samples(0x80, ByteVector(2), 4800, 48000, 1000);
    assembler.samples(0x80, ByteVector(2), 4800, 48000, 1000 + 9000);
    assembler.samples(0x80, ByteVector(2), 4800, 48000, 1000 + 90000);
    assembler.samples(0x80, ByteVector(2), 4800, 48000, 1000 + 94500);
    std::vector<Packet> packets;
    while (auto packet = assembler.take()) packets.push_back(std::move(*packet));
    REQUIRE(packets.size() == 4);
    CHECK(packets[2].pts == base::from_seconds(1));
    CHECK(packets[3].pts == base::from_seconds(1.05));
    REQUIRE(assembler.problems().size() == 1);
    CHECK(assembler.problems()[0].what == "sound is missing");
    CHECK(assembler.problems()[0].from == base::from_seconds(0.2));
    CHECK(assembler.problems()[0].to == base::from_seconds(1));
}

TEST_CASE("33-bit stamps that wrap stay on the timeline", "[assembler]") {
    disc::TitleAssembler assembler(std::vector<Track>{});
    constexpr std::int64_t kRange = 1ll << 33;
    assembler.start_clock(kRange - 90000, base::from_seconds(10));
    CHECK(assembler.time_of(90000) == base::from_seconds(12));
    CHECK(assembler.time_of(kRange - 180000) == base::from_seconds(9));
}
