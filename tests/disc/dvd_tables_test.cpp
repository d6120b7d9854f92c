// DVD tables put together here after the structure's description: what the sample discs don't have.
#include "disc/dvd_tables.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using namespace wavecrest::disc::dvd;

namespace {

void put(ByteVector& b, std::size_t at, std::uint64_t value, int count) {
    if (b.size() < at + static_cast<std::size_t>(count)) b.resize(at + static_cast<std::size_t>(count));
    for (int i = 0; i < count; ++i)
        b[at + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(value >> (8 * (count - 1 - i)));
}
void text(ByteVector& b, std::size_t at, const char* t) {
    for (; *t != 0; ++t) put(b, at++, static_cast<std::uint8_t>(*t), 1);
}

constexpr std::size_t kChapters = 2048, kChains = 2 * 2048, kMap = 3 * 2048;

// A program chain with cells of (category, BCD time, first, last).
struct CellWords {
    std::uint32_t category, time, first, last;
};
std::size_t put_chain(ByteVector& b, std::size_t at, const std::vector<int>& programs,
                      const std::vector<CellWords>& cells, int next) {
    put(b, at + 2, programs.size(), 1);
    put(b, at + 3, cells.size(), 1);
    put(b, at + 4, 0x00010040, 4);  // one minute at 25
    put(b, at + 0x0C, 0x8200, 2);   // stream 2
    put(b, at + 0x1C, 0x80010203, 4);
    put(b, at + 0x9C, static_cast<std::uint64_t>(next), 2);
    put(b, at + 0xA4, 0x00EB8080, 4);
    put(b, at + 0xE6, 0xEC, 2);
    put(b, at + 0xE8, 0xF0, 2);
    put(b, at + 0xEA, 0xF0 + 24 * cells.size(), 2);
    for (std::size_t i = 0; i < programs.size(); ++i) put(b, at + 0xEC + i, static_cast<std::uint64_t>(programs[i]), 1);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const std::size_t cell = at + 0xF0 + 24 * i;
        put(b, cell, cells[i].category, 4);
        put(b, cell + 4, cells[i].time, 4);
        put(b, cell + 8, cells[i].first, 4);
        put(b, cell + 16, cells[i].last - 3, 4);
        put(b, cell + 20, cells[i].last, 4);
        put(b, at + 0xF0 + 24 * cells.size() + 4 * i, 7, 2);
        put(b, at + 0xF0 + 24 * cells.size() + 4 * i + 3, i + 1, 1);
    }
    return at + 0xF0 + 28 * cells.size();
}

ByteVector title_set() {
    ByteVector b(kMap);
    text(b, 0, "DVDVIDEO-VTS");
    put(b, 0xC8, kChapters / 2048, 4);
    put(b, 0xCC, kChains / 2048, 4);
    put(b, 0xE4, kMap / 2048, 4);
    put(b, 0x200, 0x5C00, 2);  // MPEG-2, PAL, 16:9
    put(b, 0x202, 1, 2);
    put(b, 0x204, 0x04, 1);  // AC-3, language given
    put(b, 0x205, 0xC5, 1);  // six channels
    text(b, 0x206, "no");
    put(b, 0x209, 3, 1);  // director's comments
    put(b, 0x254, 1, 2);
    put(b, 0x256, 0x0100, 2);
    text(b, 0x258, "sv");
    put(b, 0x25B, 9, 1);  // forced
    // Title 1 has chapters in both chains; title 2 one in the second.
    put(b, kChapters, 2, 2);
    put(b, kChapters + 4, 16 + 12 + 4 - 1, 4);
    put(b, kChapters + 8, 16, 4);
    put(b, kChapters + 12, 28, 4);
    for (const auto& [at, chain, program] : {std::array{16, 1, 1}, {20, 1, 2}, {24, 2, 1}, {28, 2, 1}}) {
        put(b, kChapters + static_cast<std::size_t>(at), static_cast<std::uint64_t>(chain), 2);
        put(b, kChapters + static_cast<std::size_t>(at) + 2, static_cast<std::uint64_t>(program), 2);
    }
    put(b, kChains, 2, 2);
    put(b, kChains + 8, 0x81000000, 4);
    put(b, kChains + 12, 0x20, 4);
    put(b, kChains + 16, 0x82000000, 4);
    put(b, kChains + 20, 0x300, 4);
    // Chain 1: a cell, then a block of two angles, the second interleaved with the first.
    put_chain(b, kChains + 0x20, {1, 2},
              {{0x02000000, 0x00003040, 0, 99}, {0x56000000, 0x00003040, 100, 199}, {0xD4000000, 0x00003040, 105, 204}},
              2);
    put_chain(b, kChains + 0x300, {1}, {{0x02000000, 0x00001252, 500, 520}}, 0);
    put(b, kMap, 3 + 4 * 3, 4);
    put(b, kMap + 4, 0, 4);
    put(b, kMap + 8, 50, 4);
    put(b, kMap + 12, 100, 4);
    return b;
}

}  // namespace

TEST_CASE("a title set built by hand: two chains, angles, attributes", "[dvdtables]") {
    const auto parsed = parse_title_set(title_set(), "VTS_01_0.IFO");
    REQUIRE(parsed);
    REQUIRE(parsed->titles.size() == 2);
    REQUIRE(parsed->titles[0].size() == 3);
    CHECK(parsed->titles[0][2].chain == 2);
    CHECK(parsed->titles[1].size() == 1);
    REQUIRE(parsed->chains.size() == 2);
    const auto& chain = parsed->chains[0];
    CHECK(chain.next == 2);
    CHECK(chain.duration == base::from_seconds(60));
    CHECK(chain.programs == std::vector<int>{1, 2});
    CHECK(chain.audio[0] == 0x8200);
    CHECK(chain.palette[1] == 0xEB);
    REQUIRE(chain.cells.size() == 3);
    CHECK(chain.cells[0].block_mode == 0);
    CHECK(chain.cells[0].new_clock);
    CHECK(chain.cells[0].duration == base::from_seconds(30));
    CHECK(chain.cells[1].block_mode == 1);
    CHECK(chain.cells[1].angle_block);
    CHECK(chain.cells[1].interleaved);
    CHECK(chain.cells[2].block_mode == 3);
    CHECK_FALSE(chain.cells[2].new_clock);
    CHECK(chain.cells[2].first_sector == 105);
    CHECK(chain.cells[2].last_vobu == 201);
    CHECK(chain.cells[2].vob == 7);
    CHECK(chain.cells[2].cell == 3);
    // 12 frames at 25 after 12 seconds of BCD: 0x00001252 is 12 s and 12 frames.
    CHECK(parsed->chains[1].cells[0].duration == base::from_seconds(12) + base::frames_to_time(12, {25, 1}));
    CHECK((parsed->video >> 12 & 3) == 1);
    REQUIRE(parsed->audio.size() == 1);
    CHECK(parsed->audio[0].language == "no");
    CHECK(parsed->audio[0].channels == 6);
    CHECK(parsed->audio[0].purpose_code == 3);
    REQUIRE(parsed->subpictures.size() == 1);
    CHECK(parsed->subpictures[0].language == "sv");
    CHECK(parsed->subpictures[0].purpose_code == 9);
    CHECK(parsed->vobus == std::vector<std::uint32_t>{0, 50, 100});
    CHECK(parsed->notes.size() == 1);  // there is no time map
}

TEST_CASE("a broken chain costs only itself, cut tables are errors", "[dvdtables]") {
    ByteVector bytes = title_set();
    put(bytes, kChains + 0x20 + 0xE8, 0xFFFF, 2);
    const auto parsed = parse_title_set(bytes, "x");
    REQUIRE(parsed);
    CHECK(parsed->chains[0].cells.empty());
    CHECK(parsed->chains[1].cells.size() == 1);
    const ByteVector good = title_set();
    for (std::size_t size = 0; size < good.size(); size += 13) (void)parse_title_set(ByteSpan(good).first(size), "x");
    CHECK_FALSE(parse_title_set(ByteSpan(good).first(kChains), "x"));
    CHECK_FALSE(parse_manager(good, "x"));
}

TEST_CASE("a manager built by hand", "[dvdtables]") {
    ByteVector b(2048);
    text(b, 0, "DVDVIDEO-VMG");
    put(b, 0xC4, 1, 4);
    put(b, 2048, 2, 2);
    for (std::size_t i = 0; i < 2; ++i) {
        put(b, 2056 + 12 * i, 0x3C, 1);
        put(b, 2057 + 12 * i, i == 0 ? 1 : 3, 1);
        put(b, 2058 + 12 * i, 14, 2);
        put(b, 2062 + 12 * i, 5, 1);
        put(b, 2063 + 12 * i, i + 1, 1);
        put(b, 2064 + 12 * i, 0, 4);
    }
    const auto parsed = parse_manager(b, "VIDEO_TS.IFO");
    REQUIRE(parsed);
    REQUIRE(parsed->titles.size() == 2);
    CHECK(parsed->titles[1].angles == 3);
    CHECK(parsed->titles[1].title_set == 5);
    CHECK(parsed->titles[1].title_in_set == 2);
    CHECK(parsed->titles[0].chapters == 14);
    put(b, 2048, 120, 2);
    CHECK(parse_manager(b, "x").error().what.find("120 titles") != std::string::npos);
}
