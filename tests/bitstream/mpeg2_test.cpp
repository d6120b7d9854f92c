#include "bitstream/mpeg2.hpp"

#include <catch2/catch.hpp>

#include "base/bits.hpp"
#include "bitstream/lpcm.hpp"

using namespace wavecrest;
using namespace wavecrest::bitstream;
using base::BitWriter;

namespace {

void start_code(BitWriter& out, std::uint32_t code) {
    out.align();
    out.bits(0x000001, 24);
    out.bits(code, 8);
}

struct PictureFlags {
    int temporal = 0, type = 1, structure = 3;
    bool top_first = true, repeat = false, progressive = true;
};

// Written from the syntax tables 6.2.2.1 and 6.2.2.3, apart from the encoder.
void sequence(BitWriter& out, bool with_colour = true, std::uint32_t aspect = 3) {
    start_code(out, 0xB3);
    out.bits(720, 12);
    out.bits(480, 12);
    out.bits(aspect, 4);
    out.bits(4, 4);
    out.bits(20000, 18);
    out.bits(1, 1);
    out.bits(112, 10);
    out.bits(0, 3);
    start_code(out, 0xB5);
    out.bits(1, 4);
    out.bits(0x48, 8);
    out.bits(0, 1);
    out.bits(1, 2);
    out.bits(0, 4);
    out.bits(0, 12);
    out.bits(1, 1);
    out.bits(0, 8);
    out.bits(0, 8);
    if (with_colour) {
        start_code(out, 0xB5);
        out.bits(2, 4);
        out.bits(2, 3);
        out.bits(1, 1);
        out.bits(6, 8);
        out.bits(6, 8);
        out.bits(6, 8);
        out.bits(720, 14);
        out.bits(1, 1);
        out.bits(480, 14);
    }
}

void group(BitWriter& out) {
    start_code(out, 0xB8);
    out.bits(0, 25);
    out.bits(1, 1);
    out.bits(0, 1);
}

void picture(BitWriter& out, const PictureFlags& flags) {
    start_code(out, 0x00);
    out.bits(static_cast<std::uint32_t>(flags.temporal), 10);
    out.bits(static_cast<std::uint32_t>(flags.type), 3);
    out.bits(0xFFFF, 16);
    if (flags.type > 1) out.bits(7, 4);
    if (flags.type > 2) out.bits(7, 4);
    out.bits(0, 1);
    start_code(out, 0xB5);
    out.bits(8, 4);
    out.bits(0xFFFF, 16);
    out.bits(0, 2);
    out.bits(static_cast<std::uint32_t>(flags.structure), 2);
    out.bits(flags.top_first ? 1 : 0, 1);
    out.bits(0, 5);
    out.bits(flags.repeat ? 1 : 0, 1);
    out.bits(1, 1);
    out.bits(flags.progressive ? 1 : 0, 1);
    out.bits(0, 1);
    start_code(out, 0x01);
    for (int i = 0; i < 40; ++i) out.bits(0xA5, 8);
}

std::vector<mpeg2::AccessUnit> split(const ByteVector& stream, std::size_t piece_size) {
    mpeg2::AccessUnitSplitter splitter;
    std::vector<mpeg2::AccessUnit> units;
    for (std::size_t at = 0; at < stream.size(); at += piece_size) {
        splitter.push(ByteSpan(stream).subspan(at, std::min(piece_size, stream.size() - at)), {}, {}, at, units);
    }
    splitter.flush(units);
    return units;
}

}  // namespace

TEST_CASE("start codes are found wherever they lie", "[mpeg2]") {
    const ByteVector bytes = {0, 0, 0, 1, 0xB3, 1, 0, 1, 0, 0, 1};
    CHECK(mpeg2::find_start_code(bytes, 0) == 1);
    CHECK(mpeg2::find_start_code(bytes, 2) == 8);
    CHECK(mpeg2::find_start_code(bytes, 9) == bytes.size());
    CHECK(mpeg2::find_start_code({}, 0) == 0);
}

TEST_CASE("a sequence header with its extensions", "[mpeg2]") {
    BitWriter out;
    sequence(out);
    const auto parsed = mpeg2::parse_sequence(out.release());
    REQUIRE(parsed);
    CHECK(parsed->width == 720);
    CHECK(parsed->height == 480);
    CHECK(parsed->profile_name() == "Main");
    CHECK(parsed->level_name() == "Main");
    CHECK(parsed->frame_rate == Ratio{30000, 1001});
    CHECK(parsed->bitrate_bps == 8'000'000);
    CHECK(parsed->vbv_bits == 112 * 16384);
    CHECK_FALSE(parsed->progressive);
    CHECK(parsed->low_delay == false);
    CHECK(parsed->colour == ColourDescription{6, 6, 6, false});
    // 16:9 over 720x480.
    CHECK(parsed->pixel_aspect() == Ratio{32, 27});
}

TEST_CASE("pixel aspects of 4:3 and of square samples", "[mpeg2]") {
    BitWriter narrow;
    sequence(narrow, false, 2);
    const auto parsed = mpeg2::parse_sequence(narrow.release());
    REQUIRE(parsed);
    CHECK(parsed->pixel_aspect() == Ratio{8, 9});
    CHECK(parsed->colour.matrix == 2);
    BitWriter square;
    sequence(square, false, 1);
    CHECK(mpeg2::parse_sequence(square.release())->pixel_aspect() == Ratio{1, 1});
}

TEST_CASE("sequence headers cut anywhere never crash", "[mpeg2]") {
    BitWriter out;
    sequence(out);
    const ByteVector bytes = out.release();
    for (std::size_t size = 0; size < bytes.size(); ++size) {
        (void)mpeg2::parse_sequence(ByteSpan(bytes).first(size));
        (void)mpeg2::parse_picture(ByteSpan(bytes).first(size));
    }
    SUCCEED();
}

TEST_CASE("access units are the same however the stream is cut up", "[mpeg2]") {
    BitWriter out;
    sequence(out);
    group(out);
    picture(out, {0, 1});
    picture(out, {1, 2});
    picture(out, {2, 2});
    sequence(out);
    group(out);
    picture(out, {0, 1});
    picture(out, {1, 2});
    const ByteVector stream = out.release();
    const auto whole = split(stream, stream.size());
    REQUIRE(whole.size() == 5);
    CHECK(whole[0].has_sequence);
    CHECK(whole[0].starts_group);
    CHECK(whole[0].closed_group);
    CHECK_FALSE(whole[1].starts_group);
    CHECK(whole[3].has_sequence);
    std::size_t total = 0;
    for (const auto& unit : whole) total += unit.data.size();
    CHECK(total == stream.size());
    for (const std::size_t piece : {1, 2, 3, 7, 64, 188}) {
        INFO("pieces of " << piece);
        const auto units = split(stream, piece);
        REQUIRE(units.size() == whole.size());
        for (std::size_t i = 0; i < units.size(); ++i) {
            CHECK(units[i].data == whole[i].data);
            CHECK(units[i].picture.coding_type == whole[i].picture.coding_type);
            CHECK(units[i].picture.temporal_reference == whole[i].picture.temporal_reference);
        }
    }
}

TEST_CASE("two field pictures make one access unit", "[mpeg2]") {
    BitWriter out;
    sequence(out);
    picture(out, {0, 1, 1, true, false, false});
    picture(out, {0, 2, 2, true, false, false});
    picture(out, {1, 2, 1, true, false, false});
    picture(out, {1, 2, 2, true, false, false});
    CHECK(split(out.release(), 50).size() == 2);
}

TEST_CASE("a timestamp belongs to the first unit that starts in its piece", "[mpeg2]") {
    BitWriter first;
    sequence(first);
    picture(first, {0, 1});
    const ByteVector a = first.release();
    BitWriter second;
    picture(second, {1, 2});
    const ByteVector b = second.release();
    BitWriter third;
    picture(third, {2, 2});
    const ByteVector c = third.release();

    mpeg2::AccessUnitSplitter splitter;
    std::vector<mpeg2::AccessUnit> units;
    // Piece 2 begins with the end of unit 1; its timestamp is unit 2's. Piece 3 holds only an end: its timestamp is
    // nobody's.
    const std::size_t cut = a.size() - 10;
    splitter.push(ByteSpan(a).first(cut), Time{1000}, Time{900}, 1, units);
    ByteVector piece(a.begin() + static_cast<std::ptrdiff_t>(cut), a.end());
    piece.insert(piece.end(), b.begin(), b.begin() + 30);
    splitter.push(piece, Time{2000}, {}, 2, units);
    ByteVector rest(b.begin() + 30, b.end());
    splitter.push(rest, {}, {}, 3, units);
    splitter.push(c, Time{4000}, {}, 4, units);
    splitter.flush(units);
    REQUIRE(units.size() == 3);
    CHECK(units[0].pts == Time{1000});
    CHECK(units[0].dts == Time{900});
    CHECK(units[1].pts == Time{2000});
    CHECK_FALSE(units[1].dts);
    CHECK(units[2].pts == Time{4000});
    CHECK(units[2].tag == 4);
}

TEST_CASE("bytes before the first header are dropped", "[mpeg2]") {
    BitWriter out;
    for (int i = 0; i < 100; ++i) out.bits(0x5A, 8);
    sequence(out);
    picture(out, {0, 1});
    const auto units = split(out.release(), 33);
    REQUIRE(units.size() == 1);
    CHECK(units[0].has_sequence);
    CHECK(units[0].data[3] == 0xB3);
}

TEST_CASE("endless rubbish does not pile up, and the stream is found after it", "[mpeg2]") {
    mpeg2::AccessUnitSplitter splitter;
    std::vector<mpeg2::AccessUnit> units;
    const ByteVector rubbish(100'000, 0x5A);
    for (int i = 0; i < 200; ++i) splitter.push(rubbish, {}, {}, 0, units);
    CHECK(units.empty());
    BitWriter out;
    sequence(out);
    picture(out, {0, 1});
    splitter.push(out.release(), base::from_seconds(1), {}, 7, units);
    splitter.flush(units);
    REQUIRE(units.size() == 1);
    CHECK(units[0].pts == base::from_seconds(1));
    CHECK(units[0].tag == 7);
}

TEST_CASE("display time of a frame in fields", "[mpeg2]") {
    mpeg2::Sequence interlaced;
    mpeg2::PictureHeader picture;
    picture.progressive_frame = true;
    CHECK(mpeg2::display_fields(interlaced, picture) == 2);
    picture.repeat_first_field = true;
    CHECK(mpeg2::display_fields(interlaced, picture) == 3);
    mpeg2::Sequence progressive;
    progressive.progressive = true;
    picture.top_field_first = false;
    CHECK(mpeg2::display_fields(progressive, picture) == 4);
    picture.top_field_first = true;
    CHECK(mpeg2::display_fields(progressive, picture) == 6);
}

namespace {

mpeg2::AccessUnit unit(int temporal, int type, bool repeat, bool starts, std::optional<Time> pts = {}) {
    mpeg2::AccessUnit u;
    u.picture.temporal_reference = temporal;
    u.picture.coding_type = type;
    u.picture.repeat_first_field = repeat;
    u.picture.top_field_first = true;
    u.starts_group = starts;
    u.pts = pts;
    return u;
}

}  // namespace

TEST_CASE("picture times follow display order and repeat flags, exactly and without drift", "[mpeg2]") {
    mpeg2::Sequence video;
    video.frame_rate = {30000, 1001};
    mpeg2::PictureTimer timer;
    std::vector<mpeg2::TimedUnit> timed;
    const Time field = base::frames_to_time(1, {60000, 1001});
    // I2 B0 B1 P5 B3 B4 with pulldown 3:2 in display order; only the I picture is stamped, rounded to 90 kHz.
    constexpr int kGroups = 4000;
    std::int64_t fields = 0;
    for (int g = 0; g < kGroups; ++g) {
        const std::int64_t i_start = fields + 3 + 2;  // after B0 (3 fields) and B1 (2)
        const Time pts = base::from_ticks(base::to_ticks(i_start * field, 90000), 90000);
        timer.push(unit(2, 1, true, true, pts), video, timed);
        timer.push(unit(0, 3, true, false), video, timed);
        timer.push(unit(1, 3, false, false), video, timed);
        timer.push(unit(5, 2, false, false), video, timed);
        timer.push(unit(3, 3, false, false), video, timed);
        timer.push(unit(4, 3, true, false), video, timed);
        fields += 15;
    }
    timer.flush(timed);
    REQUIRE(timed.size() == 6 * kGroups);
    // The first timestamp was rounded, too: all times share its error of at most half a tick, and nothing adds to it.
    const Time start = timed[1].pts;
    CHECK(std::chrono::abs(start) <= base::from_ticks(1, 180000));
    CHECK(timed[0].pts - start == 5 * field);
    CHECK(timed[2].pts - start == 3 * field);
    CHECK(timed[3].pts - start == 13 * field);
    CHECK(timed[4].pts - start == 8 * field);
    CHECK(timed[5].pts - start == 10 * field);
    CHECK(timed[6 * (kGroups - 1) + 1].pts - start == 15 * (kGroups - 1) * field);
    // Decoding times never decrease and never exceed presentation.
    for (std::size_t i = 1; i < timed.size(); ++i) {
        REQUIRE(timed[i].dts >= timed[i - 1].dts);
        REQUIRE(timed[i].dts <= timed[i].pts);
    }
}

TEST_CASE("a timestamp that jumps makes a new anchor", "[mpeg2]") {
    mpeg2::Sequence video;
    video.frame_rate = {25, 1};
    mpeg2::PictureTimer timer;
    std::vector<mpeg2::TimedUnit> timed;
    timer.push(unit(0, 1, false, true, Time{}), video, timed);
    timer.push(unit(0, 1, false, true, base::from_seconds(0.04)), video, timed);
    timer.push(unit(0, 1, false, true, base::from_seconds(1)), video, timed);
    timer.push(unit(0, 1, false, true), video, timed);
    timer.flush(timed);
    REQUIRE(timed.size() == 4);
    CHECK(timed[1].pts == base::from_seconds(0.04));
    CHECK(timed[2].pts == base::from_seconds(1));
    CHECK(timed[3].pts == base::from_seconds(1.04));
}

TEST_CASE("the LPCM header of DVD-Video", "[lpcm]") {
    // 7 frames, first one 4 bytes on; 20 bits, 96 kHz, 5 channels.
    const ByteVector bytes = {7, 0, 8, 0, 0b01010100, 0x80};
    const auto header = parse_dvd_lpcm_header(bytes);
    REQUIRE(header);
    CHECK(header->frames == 7);
    CHECK(header->first_frame_at == 4);
    CHECK(header->bits == 20);
    CHECK(header->sample_rate == 96000);
    CHECK(header->channels == 5);
    CHECK_FALSE(parse_dvd_lpcm_header(ByteSpan(bytes).first(5)));
    const ByteVector reserved = {7, 0, 8, 0, 0b11000000, 0x80};
    CHECK_FALSE(parse_dvd_lpcm_header(reserved));
}

TEST_CASE("start codes are found wherever they begin, whatever the length behind them", "[mpeg2]") {
    // Against a plain search, on bytes full of zeros and ones.
    std::uint32_t state = 1;
    const auto random = [&] { return (state = state * 1664525u + 1013904223u) >> 16; };
    std::size_t wrong = 0;
    for (int round = 0; round < 2000; ++round) {
        wavecrest::ByteVector bytes(random() % 70);
        for (auto& byte : bytes) byte = static_cast<std::uint8_t>(random() % 5 == 0 ? random() : random() % 3 / 2);
        for (std::size_t from = 0; from <= bytes.size() + 3; ++from) {
            std::size_t expected = from;
            while (expected + 3 <= bytes.size() &&
                   !(bytes[expected] == 0 && bytes[expected + 1] == 0 && bytes[expected + 2] == 1))
                ++expected;
            if (expected + 3 > bytes.size()) expected = bytes.size();
            wrong += wavecrest::bitstream::mpeg2::find_start_code(bytes, from) == expected ? 0 : 1;
        }
    }
    CHECK(wrong == 0);
}
