// The sample disc's bytes, parsed here field by field after the structure's description, apart from the writer and
// the reader: numbers are written out as offsets on purpose.
#include <catch2/catch.hpp>

#include <deque>
#include <map>
#include <set>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

constexpr std::size_t kSector = 2048;

struct Disc {
    ByteVector vmg, vmg_twin, vts, vts_twin, vob;
};

const Disc& disc() {
    static const Disc loaded = [] {
        const base::Path folder = sample_disc() / "VIDEO_TS";
        return Disc{read_all(folder / "VIDEO_TS.IFO"), read_all(folder / "VIDEO_TS.BUP"),
                    read_all(folder / "VTS_01_0.IFO"), read_all(folder / "VTS_01_0.BUP"),
                    read_all(folder / "VTS_01_1.VOB")};
    }();
    return loaded;
}

std::uint32_t u8(const ByteVector& b, std::size_t at) {
    return b.at(at);
}
std::uint32_t u16(const ByteVector& b, std::size_t at) {
    return u8(b, at) << 8 | u8(b, at + 1);
}
std::uint32_t u32(const ByteVector& b, std::size_t at) {
    return u16(b, at) << 16 | u16(b, at + 2);
}
std::string text(const ByteVector& b, std::size_t at, std::size_t n) {
    return {b.begin() + static_cast<std::ptrdiff_t>(at), b.begin() + static_cast<std::ptrdiff_t>(at + n)};
}

// 33-bit timestamps and the 42-bit clock, bit by bit.
std::int64_t bits_at(const ByteVector& b, std::size_t byte, int first, int count) {
    std::int64_t value = 0;
    for (int i = first; i < first + count; ++i)
        value = value << 1 | (b.at(byte + static_cast<std::size_t>(i / 8)) >> (7 - i % 8) & 1);
    return value;
}
std::int64_t timestamp(const ByteVector& b, std::size_t at) {
    CHECK(bits_at(b, at, 7, 1) == 1);
    CHECK(bits_at(b, at, 23, 1) == 1);
    CHECK(bits_at(b, at, 39, 1) == 1);
    return bits_at(b, at, 4, 3) << 30 | bits_at(b, at, 8, 15) << 15 | bits_at(b, at, 24, 15);
}
std::int64_t clock_27mhz(const ByteVector& b, std::size_t pack) {
    const std::size_t at = pack + 4;
    CHECK(bits_at(b, at, 0, 2) == 1);
    const std::int64_t base = bits_at(b, at, 2, 3) << 30 | bits_at(b, at, 6, 15) << 15 | bits_at(b, at, 22, 15);
    return base * 300 + bits_at(b, at, 38, 9);
}

// Frames of 1001/30000 s from BCD hours, minutes, seconds, frames.
std::int64_t bcd_frames(std::uint32_t v) {
    const auto two = [&](int shift) { return (v >> (shift + 4) & 15) * 10 + (v >> shift & 15); };
    CHECK((v >> 6 & 3) == 3);
    return ((two(24) * 60 + two(16)) * 60 + two(8)) * 30 + (v >> 4 & 3) * 10 + (v & 15);
}

// Sectors of navigation packs: they have a system header.
const std::vector<std::uint32_t>& navigation() {
    static const std::vector<std::uint32_t> sectors = [] {
        std::vector<std::uint32_t> found;
        for (std::uint32_t s = 0; s < disc().vob.size() / kSector; ++s) {
            if (u32(disc().vob, s * kSector + 14) == 0x1BB) found.push_back(s);
        }
        return found;
    }();
    return sectors;
}

constexpr std::size_t kPci = 45, kDsi = 1031;  // within a navigation pack

}  // namespace

TEST_CASE("the video manager: identifier, sizes, title table", "[dvd]") {
    const ByteVector& vmg = disc().vmg;
    CHECK(vmg == disc().vmg_twin);
    REQUIRE(vmg.size() % kSector == 0);
    CHECK(text(vmg, 0, 12) == "DVDVIDEO-VMG");
    CHECK(u32(vmg, 0x1C) == vmg.size() / kSector - 1);
    CHECK(u32(vmg, 0x0C) == 2 * vmg.size() / kSector - 1);
    CHECK(u16(vmg, 0x26) == 1);
    CHECK(u16(vmg, 0x28) == 1);
    CHECK(u16(vmg, 0x3E) == 2);  // title sets
    const std::size_t table = u32(vmg, 0xC4) * kSector;
    REQUIRE(table > 0);
    REQUIRE(u16(vmg, table) == 2);
    CHECK(u32(vmg, table + 4) == 8 + 2 * 12 - 1);
    CHECK(u8(vmg, table + 8 + 1) == 1);   // angles
    CHECK(u16(vmg, table + 8 + 2) == 5);  // chapters
    CHECK(u8(vmg, table + 8 + 6) == 1);
    CHECK(u8(vmg, table + 8 + 7) == 1);
    CHECK(u16(vmg, table + 20 + 2) == 1);
    CHECK(u8(vmg, table + 20 + 6) == 2);
    // Title sets follow one another on the disc: IFO, VOBs, BUP.
    CHECK(u32(vmg, table + 8 + 8) == 2 * vmg.size() / kSector);
    CHECK(u32(vmg, table + 20 + 8) == u32(vmg, table + 8 + 8) + u32(disc().vts, 0x0C) + 1);
}

TEST_CASE("the attributes in the manager are those of the title sets", "[dvd]") {
    const ByteVector& vmg = disc().vmg;
    const std::size_t table = u32(vmg, 0xD0) * kSector;
    REQUIRE(u16(vmg, table) == 2);
    for (std::size_t i = 0; i < 2; ++i) {
        const std::size_t entry = table + u32(vmg, table + 8 + 4 * i);
        CHECK(u32(vmg, entry) + 1 >= 0x300);
        // A copy of VTSI_MAT from 0x100 on, after 8 bytes.
        CHECK(text(vmg, entry + 8 + 0x100, 12) == text(disc().vts, 0x200, 12));
    }
    const std::size_t first_play = u32(vmg, 0x84);
    REQUIRE(first_play > 0);
    const std::size_t commands = first_play + u16(vmg, first_play + 0xE4);
    CHECK(u16(vmg, commands) == 1);
    CHECK(u16(vmg, commands + 8) == 0x3002);  // jump to title
}

TEST_CASE("the title set: sizes, attributes", "[dvd]") {
    const ByteVector& vts = disc().vts;
    CHECK(vts == disc().vts_twin);
    REQUIRE(vts.size() % kSector == 0);
    CHECK(text(vts, 0, 12) == "DVDVIDEO-VTS");
    CHECK(u32(vts, 0x1C) == vts.size() / kSector - 1);
    CHECK(u32(vts, 0xC4) == vts.size() / kSector);
    CHECK(u32(vts, 0x0C) == (2 * vts.size() + disc().vob.size()) / kSector - 1);
    CHECK(u32(vts, 0x80) == 0x3D7);
    CHECK(u8(vts, 0x200) == 0x4C);  // MPEG-2, NTSC, 16:9
    CHECK(u16(vts, 0x202) == 1);
    CHECK(u8(vts, 0x204) == 0x84);  // LPCM, language given
    CHECK(u8(vts, 0x205) == 0x01);  // 16 bits, 48 kHz, stereo
    CHECK(text(vts, 0x206, 2) == "en");
    CHECK(u16(vts, 0x254) == 0);
}

TEST_CASE("chapters, program chain and cells agree with one another and with the data", "[dvd]") {
    const ByteVector& vts = disc().vts;
    const std::size_t chapters = u32(vts, 0xC8) * kSector, chains = u32(vts, 0xCC) * kSector,
                      cells = u32(vts, 0xE0) * kSector;
    REQUIRE(u16(vts, chapters) == 1);
    const std::size_t first = chapters + u32(vts, chapters + 8);
    CHECK(u32(vts, chapters + 4) + 1 == u32(vts, chapters + 8) + 5 * 4);
    for (std::size_t i = 0; i < 5; ++i) {
        CHECK(u16(vts, first + 4 * i) == 1);
        CHECK(u16(vts, first + 4 * i + 2) == i + 1);
    }
    REQUIRE(u16(vts, chains) == 1);
    CHECK(u8(vts, chains + 8) == 0x81);  // entry of title 1
    const std::size_t chain = chains + u32(vts, chains + 12);
    CHECK(u8(vts, chain + 2) == 5);
    REQUIRE(u8(vts, chain + 3) == 5);
    CHECK(bcd_frames(u32(vts, chain + 4)) == kSampleFrames * 5 / 4);
    CHECK(u16(vts, chain + 0x0C) == 0x8000);
    const std::size_t map = chain + u16(vts, chain + 0xE6), playback = chain + u16(vts, chain + 0xE8),
                      position = chain + u16(vts, chain + 0xEA);
    std::int64_t frames = 0;
    std::uint32_t expected_sector = 0;
    std::set<std::uint32_t> starts(navigation().begin(), navigation().end());
    for (std::size_t i = 0; i < 5; ++i) {
        CHECK(u8(vts, map + i) == i + 1);
        const std::size_t cell = playback + 24 * i;
        frames += bcd_frames(u32(vts, cell + 4));
        CHECK(u32(vts, cell + 8) == expected_sector);
        CHECK(starts.contains(u32(vts, cell + 8)));
        CHECK(starts.contains(u32(vts, cell + 16)));
        expected_sector = u32(vts, cell + 20) + 1;
        CHECK(u16(vts, position + 4 * i) == 1);
        CHECK(u8(vts, position + 4 * i + 3) == i + 1);
        // The cell address table says the same.
        CHECK(u32(vts, cells + 8 + 12 * i + 4) == u32(vts, cell + 8));
        CHECK(u32(vts, cells + 8 + 12 * i + 8) == u32(vts, cell + 20));
    }
    CHECK(frames == kSampleFrames * 5 / 4);
    CHECK(expected_sector == disc().vob.size() / kSector);
}

TEST_CASE("the VOBU address map lists every navigation pack, the time map the right ones", "[dvd]") {
    const ByteVector& vts = disc().vts;
    const std::size_t map = u32(vts, 0xE4) * kSector;
    REQUIRE((u32(vts, map) + 1 - 4) / 4 == navigation().size());
    for (std::size_t i = 0; i < navigation().size(); ++i) CHECK(u32(vts, map + 4 + 4 * i) == navigation()[i]);

    const std::size_t times = u32(vts, 0xD4) * kSector;
    REQUIRE(u16(vts, times) == 1);
    const std::size_t table = times + u32(vts, times + 8);
    const std::uint32_t unit = u8(vts, table), entries = u16(vts, table + 2);
    CHECK(unit * entries == 12);
    const std::int64_t zero = u32(disc().vob, kPci + 0x0C);
    for (std::uint32_t i = 0; i < entries; ++i) {
        const std::uint32_t sector = u32(vts, table + 4 + 4 * i) & 0x7FFFFFFF;
        const std::int64_t time = std::int64_t{i + 1} * unit * 90000;
        // The VOBU there is being shown at that time.
        CHECK(std::int64_t{u32(disc().vob, sector * kSector + kPci + 0x0C)} - zero <= time);
        CHECK(std::int64_t{u32(disc().vob, sector * kSector + kPci + 0x10)} - zero > time - 2);
    }
}

TEST_CASE("every sector is a pack of 2048 bytes at a rate the channel carries", "[dvd]") {
    const ByteVector& vob = disc().vob;
    REQUIRE(vob.size() % kSector == 0);
    std::int64_t last = -1;
    for (std::size_t at = 0; at < vob.size(); at += kSector) {
        REQUIRE(u32(vob, at) == 0x1BA);
        CHECK(bits_at(vob, at + 10, 0, 22) * 50 * 8 == 10'080'000);
        const std::int64_t now = clock_27mhz(vob, at);
        // A pack takes its bytes' time: the next may not start earlier.
        if (last >= 0) REQUIRE(now - last >= 27'000'000LL * 2048 * 8 / 10'080'000);
        last = now;
        // Packets fill the pack exactly.
        std::size_t packet = at + 14 + (u8(vob, at + 13) & 7);
        while (packet < at + kSector) packet += 6 + u16(vob, packet + 4);
        REQUIRE(packet == at + kSector);
    }
}

TEST_CASE("navigation packs tell what their VOBU holds", "[dvd]") {
    const ByteVector& vob = disc().vob;
    const auto& nav = navigation();
    REQUIRE(nav.size() == kSampleFrames / 12);
    for (std::size_t i = 0; i < nav.size(); ++i) {
        INFO("VOBU " << i);
        const std::size_t at = nav[i] * kSector, pci = at + kPci, dsi = at + kDsi;
        CHECK(u32(vob, pci - 7) == 0x1BF);
        CHECK(u16(vob, pci - 3) == 980);
        CHECK(u8(vob, pci - 1) == 0);
        CHECK(u32(vob, dsi - 7) == 0x1BF);
        CHECK(u16(vob, dsi - 3) == 1018);
        CHECK(u8(vob, dsi - 1) == 1);
        CHECK(u32(vob, pci) == nav[i]);
        CHECK(u32(vob, dsi + 4) == nav[i]);
        CHECK(u32(vob, dsi) == clock_27mhz(vob, at) / 300);
        const std::uint32_t start = u32(vob, pci + 0x0C), end = u32(vob, pci + 0x10);
        CHECK(end - start == Approx(30 * 1501.5).margin(1));
        if (i > 0) CHECK(start == u32(vob, nav[i - 1] * kSector + kPci + 0x10));
        const std::uint32_t next = i + 1 < nav.size() ? nav[i + 1] : static_cast<std::uint32_t>(vob.size() / kSector);
        CHECK(u32(vob, dsi + 8) == next - nav[i] - 1);
        // The pack after it starts the group of pictures, stamped with the VOBU's start.
        const std::size_t video = at + kSector + 14;
        bool found = false;
        for (std::uint32_t s = nav[i] + 1; s < next && !found; ++s) {
            const std::size_t pes = s * kSector + 14;
            if (u32(vob, pes) != 0x1E0) continue;
            found = true;
            CHECK((u8(vob, pes + 7) & 0xC0) == 0xC0);
            CHECK(timestamp(vob, pes + 9) == start);
            CHECK(u32(vob, pes + 9 + u8(vob, pes + 8)) == 0x1B3);
        }
        CHECK(found);
        (void)video;
        // Ends of the first three reference pictures: growing, within the VOBU.
        const std::uint32_t a = u32(vob, dsi + 0x0C), b = u32(vob, dsi + 0x10), c = u32(vob, dsi + 0x14);
        CHECK(a > 0);
        CHECK(a <= b);
        CHECK(b <= c);
        CHECK(c <= u32(vob, dsi + 8));
        // Search addresses name navigation packs, forward and back.
        constexpr std::uint32_t kNone = 0x3FFFFFFF;
        for (std::size_t k = 0; k < 42; ++k) {
            const std::uint32_t value = u32(vob, dsi + 0xEA + 4 * k);
            if (value == kNone) continue;
            const std::uint32_t distance = value & 0x3FFFFFFF;
            const std::uint32_t target = k <= 20 ? nav[i] + distance : nav[i] - distance;
            CHECK(std::find(nav.begin(), nav.end(), target) != nav.end());
        }
        // The audio pack that goes with it holds audio for its start.
        const std::uint32_t sync = u16(vob, dsi + 0x192);
        const std::int64_t audio =
            (sync & 0x8000) != 0 ? static_cast<std::int64_t>(nav[i]) - (sync & 0x7FFF) : nav[i] + sync;
        const auto pes = static_cast<std::size_t>(audio) * kSector + 14;
        CHECK(u32(vob, pes) == 0x1BD);
        CHECK(std::abs(timestamp(vob, pes + 9) - static_cast<std::int64_t>(start)) < 90000 / 50);
    }
}

TEST_CASE("audio packs: header, pointer and timestamps run without a gap", "[dvd]") {
    const ByteVector& vob = disc().vob;
    std::int64_t bytes = 0;
    int packs = 0;
    for (std::size_t at = 0; at < vob.size(); at += kSector) {
        const std::size_t pes = at + 14;
        if (u32(vob, pes) != 0x1BD) continue;
        ++packs;
        const std::size_t header = pes + 9 + u8(vob, pes + 8);
        REQUIRE(u8(vob, header) == 0xA0);
        const std::int64_t size = static_cast<std::int64_t>(pes + 6 + u16(vob, pes + 4) - header - 7);
        const std::int64_t first = (bytes + 319) / 320;
        CHECK(u16(vob, header + 2) == first * 320 - bytes + 4);
        CHECK(u8(vob, header + 1) == (bytes + size + 319) / 320 - first);
        CHECK((u8(vob, header + 4) & 31) == first % 20);
        CHECK(u8(vob, header + 5) == 1);
        CHECK(timestamp(vob, pes + 9) == 27000 + first * 150);
        bytes += size;
    }
    CHECK(packs > 100);
    // 12.012 s at 192 000 bytes a second, filled up to whole frames.
    CHECK(bytes == (kSampleFrames * 2002 * 4 + 319) / 320 * 320);
}

TEST_CASE("a model decoder's buffers neither run over nor dry", "[dvd]") {
    // ISO/IEC 13818-1, 2.5.2: bytes arrive during their pack; a picture leaves at its decoding time, audio as it plays.
    const ByteVector& vob = disc().vob;
    struct Unit {
        std::int64_t decoded;  // 27 MHz
        std::int64_t complete = 0;
        std::size_t bytes = 0;
    };
    std::deque<Unit> pictures;
    std::int64_t fields = 0;
    std::size_t held = 0, highest = 0;
    std::vector<std::pair<std::int64_t, std::size_t>> arrivals;  // end of the pack, video bytes
    ByteVector stream;
    std::vector<std::int64_t> arrival_of_byte_block;
    std::vector<std::size_t> block_end;
    for (std::size_t at = 0; at < vob.size(); at += kSector) {
        const std::size_t pes = at + 14;
        if (u32(vob, pes) != 0x1E0) continue;
        const std::size_t from = pes + 9 + u8(vob, pes + 8), to = pes + 6 + u16(vob, pes + 4);
        stream.insert(stream.end(), vob.begin() + static_cast<std::ptrdiff_t>(from),
                      vob.begin() + static_cast<std::ptrdiff_t>(to));
        arrival_of_byte_block.push_back(clock_27mhz(vob, at) + 27'000'000LL * 2048 * 8 / 10'080'000);
        block_end.push_back(stream.size());
    }
    // Pictures start at sequence headers or, within a group, at picture headers.
    std::vector<std::size_t> starts;
    bool in_headers = false;
    for (std::size_t i = 0; i + 3 < stream.size(); ++i) {
        if (stream[i] != 0 || stream[i + 1] != 0 || stream[i + 2] != 1) continue;
        if (stream[i + 3] == 0xB3) {
            starts.push_back(i);
            in_headers = true;
        } else if (stream[i + 3] == 0x00) {
            if (!in_headers) starts.push_back(i);
            in_headers = false;
        }
    }
    REQUIRE(starts.size() == kSampleFrames);
    std::size_t block = 0;
    for (std::size_t n = 0; n < starts.size(); ++n) {
        const std::size_t end = n + 1 < starts.size() ? starts[n + 1] : stream.size();
        while (block_end[block] < end) ++block;
        // Decoded when the picture before is shown: one frame before its own time for the first.
        const std::int64_t shown = fields - (n == 0 ? 2 : n % 2 == 1 ? 3 : 2);
        const auto decoded = static_cast<std::int64_t>((27000 + static_cast<double>(shown) * 1501.5) * 300);
        CHECK(arrival_of_byte_block[block] <= decoded + 300);
        pictures.push_back({decoded, arrival_of_byte_block[block], end - starts[n]});
        fields += n % 2 == 0 ? 3 : 2;
    }
    std::size_t previous_end = 0;
    for (std::size_t b = 0; b < block_end.size(); ++b) {
        const std::int64_t now = arrival_of_byte_block[b];
        while (!pictures.empty() && pictures.front().decoded <= now) {
            held -= std::min(held, pictures.front().bytes);
            pictures.pop_front();
        }
        held += block_end[b] - previous_end;
        previous_end = block_end[b];
        highest = std::max(highest, held);
    }
    CHECK(highest <= 232 * 1024 + 2048);
    CHECK(highest > 100 * 1024);
}
