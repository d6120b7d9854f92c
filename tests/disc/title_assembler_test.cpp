// The timeline of titles made of many clocks.
#include "disc/title_assembler.hpp"
#include "bitstream/h264.hpp"
#include "bitstream/nal.hpp"
#include "support/clips.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;

TEST_CASE("two hours of cells with clocks of their own: not a sample of drift", "[assembler]") {
    Track audio;
    audio.id = 0xA0;
    audio.kind = TrackKind::audio;
    audio.codec = Codec::lpcm;
    audio.channels = 2;
    audio.sample_rate = 48000;
    disc::TitleAssembler assembler({audio});
    // 1440 cells of 150 frames of 1001/30000 s, a little over five seconds each; their clocks begin anywhere.
    // Audio is exactly as long as the pictures: 240 240 samples a cell, stamped to the tick.
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

TEST_CASE("a hole in the audio is told once, an overlap is not", "[assembler]") {
    Track audio;
    audio.id = 0x80;
    audio.kind = TrackKind::audio;
    audio.codec = Codec::lpcm;
    audio.channels = 1;
    audio.sample_rate = 48000;
    disc::TitleAssembler assembler({audio});
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
    CHECK(assembler.problems()[0].what == "audio is missing");
    CHECK(assembler.problems()[0].from == base::from_seconds(0.2));
    CHECK(assembler.problems()[0].to == base::from_seconds(1));
}

TEST_CASE("33-bit timestamps that wrap stay on the timeline", "[assembler]") {
    disc::TitleAssembler assembler(std::vector<Track>{});
    constexpr std::int64_t kRange = 1ll << 33;
    assembler.start_clock(kRange - 90000, base::from_seconds(10));
    CHECK(assembler.time_of(90000) == base::from_seconds(12));
    CHECK(assembler.time_of(kRange - 180000) == base::from_seconds(9));
}

TEST_CASE("H.264 of Blu-ray discs is cut into access units with their times, across joins", "[assembler]") {
    const test::TestTrack coded = test::video_track(Codec::h264, 60);
    Track track;
    track.id = 0x1011;
    track.kind = TrackKind::video;
    track.codec = Codec::h264;
    disc::TitleAssembler assembler({track});
    // A clip whose clock starts anywhere; each access unit with a delimiter and its parameter sets in front.
    const auto sets = bitstream::h264::parameter_sets(coded.track.codec_config.view());
    REQUIRE(sets);
    constexpr std::int64_t kClock = 5'400'000;
    const auto feed = [&](std::int64_t clock) {
        for (const Packet& packet : coded.packets) {
            ByteVector stream = {0, 0, 0, 1, 9, 0xF0};
            const auto add = [&](ByteSpan unit) {
                stream.insert(stream.end(), {0, 0, 1});
                stream.insert(stream.end(), unit.begin(), unit.end());
            };
            if (packet.key) {
                for (const ByteSpan unit : sets->units) add(unit);
            }
            for (const ByteSpan unit : bitstream::nal::split_lengths(packet.data.view())) add(unit);
            // In pieces, as transport packets carry it.
            const std::int64_t pts = clock + base::to_ticks(packet.pts, 90000),
                               dts = clock + base::to_ticks(packet.dts, 90000);
            for (std::size_t at = 0; at < stream.size(); at += 184) {
                const ByteSpan piece = ByteSpan(stream).subspan(at, std::min<std::size_t>(184, stream.size() - at));
                assembler.push(0x1011, piece, at == 0 ? std::optional(pts) : std::nullopt,
                               at == 0 ? std::optional(dts) : std::nullopt);
            }
        }
    };
    const Time length = base::frames_to_time(60, {24000, 1001});
    assembler.start_clock(kClock, Time{});
    feed(kClock);
    assembler.finish();
    assembler.start_clock(77, length);
    feed(77);
    assembler.finish();
    REQUIRE(assembler.video_description() != nullptr);
    CHECK(assembler.video_description()->profile == "High");
    test::TestTrack first{coded.track, {}}, second{coded.track, {}};
    while (auto packet = assembler.take())
        (first.packets.size() < 60 ? first : second).packets.push_back(std::move(*packet));
    REQUIRE(second.packets.size() == 60);
    CHECK(test::payload_of(first) == test::payload_of(coded));
    CHECK(test::payload_of(second) == test::payload_of(coded));
    for (std::size_t i = 0; i < 60; ++i) {
        CHECK(first.packets[i].pts == coded.packets[i].pts);
        CHECK(second.packets[i].pts == coded.packets[i].pts + length);
        CHECK(first.packets[i].key == coded.packets[i].key);
    }
}
