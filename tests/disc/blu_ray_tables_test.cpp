// Playlists and clip information, on bytes put together here after the structures' description.
#include "disc/blu_ray_tables.hpp"

#include <catch2/catch.hpp>

#include "container/mpeg_ts.hpp"

using namespace wavecrest;
using namespace wavecrest::disc::blu_ray;

namespace {

// Bytes from numbers and texts, written out as they lie in the file.
struct Writer {
    ByteVector bytes;
    Writer& n(std::uint64_t value, int count) {
        for (int i = count - 1; i >= 0; --i) bytes.push_back(static_cast<std::uint8_t>(value >> (8 * i)));
        return *this;
    }
    Writer& t(const char* text) {
        while (*text != 0) bytes.push_back(static_cast<std::uint8_t>(*text++));
        return *this;
    }
    Writer& z(int count) {
        bytes.insert(bytes.end(), static_cast<std::size_t>(count), 0);
        return *this;
    }
    Writer& a(const Writer& other) {
        bytes.insert(bytes.end(), other.bytes.begin(), other.bytes.end());
        return *this;
    }
};

// One play item with two angles, an AVC picture, a DTS-HD Master Audio and a TrueHD track, one graphics track.
ByteVector playlist_bytes() {
    Writer streams;
    streams.z(2).n(1, 1).n(2, 1).n(1, 1).z(4).z(5);
    streams.n(9, 1).n(1, 1).n(0x1011, 2).z(6).n(5, 1).n(0x1B, 1).n(0x61, 1).z(3);
    streams.n(9, 1).n(1, 1).n(0x1100, 2).z(6).n(5, 1).n(0x86, 1).n(0x61, 1).t("eng");
    streams.n(9, 1).n(1, 1).n(0x1101, 2).z(6).n(5, 1).n(0x83, 1).n(0xC1, 1).t("fra");
    streams.n(9, 1).n(1, 1).n(0x1200, 2).z(6).n(5, 1).n(0x90, 1).t("deu").z(1);
    Writer item;
    item.t("00012")
        .t("M2TS")
        .n(0x0015, 2)
        .n(0, 1)
        .n(27'000'000, 4)
        .n(27'000'000 + 45'000 * 60, 4)
        .z(8)
        .n(0, 1)
        .n(0, 1)
        .z(2);
    item.n(2, 1).n(1, 1).t("00013").t("M2TS").n(0, 1);
    item.n(streams.bytes.size(), 2).a(streams);
    Writer list;
    list.z(2).n(1, 2).n(0, 2).n(item.bytes.size(), 2).a(item);
    Writer marks;
    marks.n(3, 2);
    marks.z(1).n(1, 1).n(0, 2).n(27'000'000, 4).n(0xFFFF, 2).z(4);
    marks.z(1).n(2, 1).n(0, 2).n(27'000'000 + 5, 4).n(0xFFFF, 2).z(4);  // a link point, no chapter
    marks.z(1).n(1, 1).n(0, 2).n(27'000'000 + 45'000 * 30, 4).n(0xFFFF, 2).z(4);
    Writer out;
    out.t("MPLS0200").n(58, 4).n(58 + 4 + list.bytes.size(), 4).n(0, 4).z(20);
    out.n(14, 4).z(14);
    out.n(list.bytes.size(), 4).a(list).n(marks.bytes.size(), 4).a(marks);
    return out.bytes;
}

ByteVector clip_bytes() {
    Writer info;
    info.z(2).n(1, 1).n(1, 1).n(0, 4).n(6'000'000, 4).n(400'000, 4).z(128).n(30, 2).n(0x80, 1).t("HDMV").z(25);
    Writer sequence;
    sequence.z(1).n(1, 1).n(0, 4).n(1, 1).n(0, 1).n(0x1001, 2).n(0, 4).n(27'000'000, 4).n(27'900'000, 4);
    Writer program;
    program.z(1).n(1, 1).n(0, 4).n(0x0100, 2).n(2, 1).n(0, 1);
    program.n(0x1011, 2).n(21, 1).n(0xEA, 1).n(0x62, 1).z(19);
    program.n(0x1100, 2).n(21, 1).n(0x84, 1).n(0x61, 1).t("ita").z(16);
    // Two coarse entries; the second at packet 0x20000 + 1000. Times: coarse 14 bits from bit 18 on, fine from bit 8
    // on.
    const std::uint64_t first = 27'000'000, later = first + 45'000 * 10;
    Writer map;
    map.n(1, 2);
    map.z(1).n(1, 1).n(0x1011, 2);
    // 10 reserved bits, type 1 in 4, 2 coarse in 16, 3 fine in 18.
    map.n(1ull << 34 | 2ull << 18 | 3, 6).n(14, 4);
    map.n(4 + 16, 4);
    map.n(0ull << 14 | (first >> 18), 4).n(0, 4);
    map.n(2ull << 14 | (later >> 18), 4).n(0x20000 + 1000, 4);
    map.n(1ull << 28 | (first >> 8 & 0x7FF) << 17 | 6, 4);
    map.n(1ull << 28 | ((first + 22'500) >> 8 & 0x7FF) << 17 | 5000, 4);
    map.n(1ull << 28 | (later >> 8 & 0x7FF) << 17 | 1000, 4);
    Writer out;
    out.t("HDMV0200");
    std::uint64_t at = 40 + 4 + info.bytes.size();
    out.n(at, 4);
    out.n(at += 4 + sequence.bytes.size(), 4);
    out.n(at += 4 + program.bytes.size(), 4);
    out.n(at += 4 + map.bytes.size(), 4).z(16);
    out.n(info.bytes.size(), 4).a(info).n(sequence.bytes.size(), 4).a(sequence);
    out.n(program.bytes.size(), 4).a(program).n(map.bytes.size(), 4).a(map).n(0, 4);
    return out.bytes;
}

}  // namespace

TEST_CASE("a playlist built by hand", "[blu-ray]") {
    const auto playlist = parse_playlist(playlist_bytes(), "00800.mpls");
    REQUIRE(playlist);
    REQUIRE(playlist->items.size() == 1);
    const auto& item = playlist->items[0];
    CHECK(item.clips == std::vector<std::string>{"00012", "00013"});
    CHECK(item.seamless);
    CHECK(item.in_time == 27'000'000);
    CHECK(item.out_time == 27'000'000 + 45'000 * 60);
    REQUIRE(item.video.size() == 1);
    const Track video = describe(item.video[0]);
    CHECK(video.codec == Codec::h264);
    CHECK(video.height == 1080);
    CHECK(video.frame_rate == Ratio{24000, 1001});
    CHECK(video.scan == Scan::progressive);
    REQUIRE(item.audio.size() == 2);
    const Track audio = describe(item.audio[0]);
    CHECK(audio.codec == Codec::dts);
    CHECK(audio.profile == "HD Master Audio");
    CHECK(audio.language == "eng");
    CHECK(audio.channels == 6);
    CHECK(describe(item.audio[1]).codec == Codec::truehd);
    CHECK(describe(item.audio[1]).language == "fra");
    REQUIRE(item.graphics.size() == 1);
    CHECK(describe(item.graphics[0]).codec == Codec::pgs);
    CHECK(item.graphics[0].language == "deu");
    REQUIRE(playlist->chapters.size() == 2);
    CHECK(playlist->chapters[1].time == 27'000'000 + 45'000 * 30);
}

TEST_CASE("clip information built by hand: streams, clock and entry points", "[blu-ray]") {
    const auto clip = parse_clip_info(clip_bytes(), "00012.clpi");
    REQUIRE(clip);
    CHECK(clip->packets == 400'000);
    CHECK(clip->start_time == 27'000'000);
    CHECK(clip->end_time == 27'900'000);
    REQUIRE(clip->streams.size() == 2);
    CHECK(describe(clip->streams[0]).codec == Codec::vc1);
    CHECK(describe(clip->streams[0]).frame_rate == Ratio{24, 1});
    CHECK(describe(clip->streams[1]).codec == Codec::eac3);
    CHECK(clip->streams[1].language == "ita");
    REQUIRE(clip->entries.size() == 3);
    const auto near = [](std::uint32_t a, std::uint64_t b) { return a <= b && b - a < 256; };
    CHECK(near(clip->entries[0].time, 27'000'000));
    CHECK(clip->entries[0].packet == 6);
    CHECK(near(clip->entries[1].time, 27'022'500));
    CHECK(clip->entries[1].packet == 5000);
    CHECK(near(clip->entries[2].time, 27'450'000));
    CHECK(clip->entries[2].packet == 0x20000 + 1000);
}

TEST_CASE("tables that are cut or point outside are errors with a place", "[blu-ray]") {
    const ByteVector playlist = playlist_bytes(), clip = clip_bytes();
    for (std::size_t size = 0; size < playlist.size(); size += 3) {
        const auto parsed = parse_playlist(ByteSpan(playlist).first(size), "x");
        if (!parsed) CHECK(parsed.error().where.find("x, byte") != std::string::npos);
    }
    for (std::size_t size = 0; size < clip.size(); size += 5) (void)parse_clip_info(ByteSpan(clip).first(size), "x");
    CHECK_FALSE(parse_playlist(clip, "x"));
    CHECK_FALSE(parse_clip_info(playlist, "x"));
    ByteVector far = playlist;
    far[8] = 0x7F;
    CHECK(parse_playlist(far, "x").error().what.find("outside") != std::string::npos);
}

TEST_CASE("what is written is read back", "[blu-ray]") {
    ClipInfo clip;
    clip.packets = 3'000'000;
    clip.start_time = 27'000'000;
    clip.end_time = 40'000'000;
    clip.streams = {{0x1011, 2, 6, 1, ""}, {0x1100, 0x81, 6, 1, "eng"}, {0x1200, 0x90, 0, 0, "deu"}};
    for (std::uint32_t i = 0; i < 500; ++i) clip.entries.push_back({27'000'000 + i * 22'523, i * 5987});
    const auto again = parse_clip_info(write_clip_info(clip, 0x100, 0x1001, 6'000'000), "x");
    REQUIRE(again);
    CHECK(again->packets == clip.packets);
    CHECK(again->streams.size() == 3);
    CHECK(again->streams[2].language == "deu");
    REQUIRE(again->entries.size() == 500);
    for (std::size_t i = 0; i < 500; ++i) {
        CHECK(again->entries[i].packet == clip.entries[i].packet);
        CHECK(clip.entries[i].time - again->entries[i].time < 256);
    }
}

TEST_CASE("transport packets and tables built by hand", "[ts]") {
    namespace ts = container::ts;
    // A packet with a clock and two bytes of payload: base 0x123456789, extension 0x0AB.
    ByteVector packet(188, 0xFF);
    const std::uint64_t base = 0x123456789, extension = 0x0AB;
    const ByteVector head = {0x47,
                             0x50,
                             0x11,
                             0x3C,
                             181,
                             0x90,
                             static_cast<std::uint8_t>(base >> 25),
                             static_cast<std::uint8_t>(base >> 17),
                             static_cast<std::uint8_t>(base >> 9),
                             static_cast<std::uint8_t>(base >> 1),
                             static_cast<std::uint8_t>((base & 1) << 7 | 0x7E | extension >> 8),
                             static_cast<std::uint8_t>(extension)};
    std::copy(head.begin(), head.end(), packet.begin());
    packet[186] = 0xAA;
    packet[187] = 0x55;
    const auto parsed = ts::parse_packet(packet);
    REQUIRE(parsed);
    CHECK(parsed->pid == 0x1011);
    CHECK(parsed->starts);
    CHECK(parsed->continuity == 12);
    CHECK(parsed->discontinuity);
    CHECK(parsed->pcr_27mhz == static_cast<std::int64_t>(base * 300 + extension));
    REQUIRE(parsed->payload.size() == 2);
    CHECK(parsed->payload[0] == 0xAA);
    packet[4] = 184;
    CHECK_FALSE(ts::parse_packet(packet));

    // The check sum of annex A: that of "123456789" is known.
    CHECK(ts::crc32(base::as_bytes("123456789")) == 0x0376E6E7);
    const ByteVector pat = ts::write_pat(7, 0x123);
    CHECK(ts::crc32(pat) == 0);
    CHECK(ts::parse_pat(pat) == std::map<int, int>{{7, 0x123}});
    ByteVector broken = pat;
    broken[8] ^= 1;
    CHECK(ts::parse_pat(broken).empty());

    ts::Program program;
    program.number = 7;
    program.pcr_pid = 0x1001;
    program.streams.resize(2);
    program.streams[0].type = 2;
    program.streams[0].pid = 0x1011;
    program.streams[1].type = 0x81;
    program.streams[1].pid = 0x1100;
    program.streams[1].language = "eng";
    const auto free = ts::parse_pmt(ts::write_pmt(program, ByteVector{0x88, 4, 0x0F, 0xFF, 0xFC, 0xFC}));
    REQUIRE(free);
    CHECK(free->copy_control == 0);
    REQUIRE(free->streams.size() == 2);
    CHECK(free->streams[1].language == "eng");
    CHECK(ts::parse_pmt(ts::write_pmt(program, ByteVector{0x88, 4, 0x0F, 0xFF, 0xFF, 0xFC}))->copy_control == 3);
    CHECK(ts::parse_pmt(ts::write_pmt(program, ByteVector{0x09, 4, 0x12, 0x34, 0xE1, 0x00}))->access_control);

    // A PES header with both timestamps and an extension that names TrueHD's core.
    ByteVector pes = ts::write_pes(0xFD, 0x1'2345'6789, 0x1'2345'0000, 4, 0x76);
    pes.insert(pes.end(), {1, 2, 3, 4});
    const auto start = ts::parse_pes(pes);
    REQUIRE(start);
    CHECK(start->pts == 0x1'2345'6789);
    CHECK(start->dts == 0x1'2345'0000);
    CHECK(start->stream_id_extension == 0x76);
    CHECK(start->payload.size() == 4);
}
