// The rich DVD's bytes, parsed here apart from the writer and the reader: streams side by side, and angles.
#include <catch2/catch.hpp>

#include <deque>
#include <map>

#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

constexpr std::size_t kSector = 2048;

std::uint64_t at(const ByteVector& b, std::size_t from, int count) {
    std::uint64_t value = 0;
    for (int i = 0; i < count; ++i) value = value << 8 | b.at(from + static_cast<std::size_t>(i));
    return value;
}
std::int64_t timestamp(const ByteVector& b, std::size_t from) {
    return static_cast<std::int64_t>((at(b, from, 1) >> 1 & 7) << 30 | (at(b, from + 1, 2) >> 1) << 15 |
                                     at(b, from + 3, 2) >> 1);
}
std::int64_t clock_of(const ByteVector& b, std::size_t pack) {
    const std::uint64_t v = at(b, pack + 4, 6);
    const auto base = (v >> 43 & 7) << 30 | (v >> 27 & 0x7FFF) << 15 | (v >> 11 & 0x7FFF);
    return static_cast<std::int64_t>(base * 300 + (v >> 1 & 0x1FF));
}

const ByteVector& vob() {
    static const ByteVector bytes = read_all(rich_dvd() / "VIDEO_TS/VTS_01_1.VOB");
    return bytes;
}

}  // namespace

TEST_CASE("AC-3 packs: counts, pointers and timestamps name the frames that begin in them", "[richdvd]") {
    std::map<int, ByteVector> carried;           // bytes of the frame that goes on from the pack before
    std::map<int, std::int64_t> next_timestamp;  // of each stream's next frame
    int packs = 0, last_vob = 0;
    for (std::size_t sector = 0; sector + kSector <= vob().size(); sector += kSector) {
        const ByteVector& b = vob();
        if (at(b, sector + 14, 4) == 0x1BB) {
            const int number = static_cast<int>(at(b, sector + 1031 + 0x18, 2));
            if (number != last_vob) {
                carried.clear();
                next_timestamp.clear();
            }
            if (number >= 6) break;  // angles are interleaved: looked at below
            last_vob = number;
            continue;
        }
        const std::size_t pes = sector + 14;
        if (at(b, pes, 4) != 0x1BD) continue;
        const std::size_t body = pes + 9 + b[pes + 8];
        const int stream = b[body];
        if (stream < 0x80 || stream > 0x87) continue;
        ++packs;
        const std::size_t begin = body + 4, end = pes + 6 + at(b, pes + 4, 2);
        const auto count = b[body + 1];
        const auto pointer = at(b, body + 2, 2);
        // Frames by their own sizes: 1792 bytes at 448 kbit/s, 768 at 192.
        const std::size_t size = stream == 0x80 ? 1792 : 768;
        const std::size_t owed = carried[stream].empty() ? 0 : size - carried[stream].size();
        std::size_t frame = begin + owed;
        int found = 0;
        for (; frame < end; frame += size) {
            REQUIRE(at(b, frame, 2) == 0x0B77);
            ++found;
        }
        CHECK(count == found);
        if (found > 0) {
            CHECK(pointer == owed + 1);
            CHECK((b[pes + 7] & 0x80) != 0);
            const std::int64_t pts = timestamp(b, pes + 9);
            if (next_timestamp.contains(stream)) CHECK(pts == next_timestamp[stream]);
            next_timestamp[stream] = pts + 2880 * found;
        } else {
            CHECK(pointer == 0);
        }
        ByteVector& rest = carried[stream];
        rest.insert(rest.end(), b.begin() + static_cast<std::ptrdiff_t>(begin),
                    b.begin() + static_cast<std::ptrdiff_t>(end));
        rest.erase(rest.begin(), rest.begin() + static_cast<std::ptrdiff_t>(rest.size() / size * size));
    }
    CHECK(packs > 300);
}

TEST_CASE("every stream's buffer in a model decoder holds", "[richdvd]") {
    // ISO/IEC 13818-1, 2.5.2, with DVD-Video's sizes: audio leaves when it is heard, at the latest with the next
    // timestamp.
    struct Part {
        std::int64_t leaves;
        std::size_t bytes;
    };
    std::map<int, std::deque<Part>> held;
    std::map<int, std::size_t> fullness, highest;
    int last_vob = 0, late = 0;
    for (std::size_t sector = 0; sector + kSector <= vob().size(); sector += kSector) {
        const ByteVector& b = vob();
        if (at(b, sector + 14, 4) == 0x1BB) {
            const int number = static_cast<int>(at(b, sector + 1031 + 0x18, 2));
            if (number != last_vob) {
                held.clear();
                fullness.clear();
            }
            if (number >= 6) break;
            last_vob = number;
            continue;
        }
        const std::size_t pes = sector + 14;
        if (at(b, pes, 4) != 0x1BD) continue;
        const std::size_t body = pes + 9 + b[pes + 8];
        const int stream = b[body];
        const std::int64_t arrives = clock_of(b, sector) + 27'000'000LL * 2048 * 8 / 10'080'000;
        auto& parts = held[stream];
        while (!parts.empty() && parts.front().leaves <= arrives) {
            fullness[stream] -= parts.front().bytes;
            parts.pop_front();
        }
        const std::size_t bytes = pes + 6 + at(b, pes + 4, 2) - body;
        const bool stamped = (b[pes + 7] & 0x80) != 0;
        const std::int64_t due = stamped ? timestamp(b, pes + 9) * 300 : parts.empty() ? arrives : parts.back().leaves;
        if (stamped && arrives > due + 27'000) ++late;
        parts.push_back({std::max(due, arrives), bytes});
        fullness[stream] += bytes;
        highest[stream] = std::max(highest[stream], fullness[stream]);
    }
    CHECK(late == 0);
    for (const auto& [stream, most] : highest) {
        INFO("stream " << std::hex << stream);
        const std::size_t limit = stream >= 0xA0 ? 58 * 1024 : stream >= 0x80 ? 4096 + 2048 : 52 * 1024;
        CHECK(most <= limit);
    }
    CHECK(highest.size() == 7);  // three AC-3, one LPCM, three subtitles
}

TEST_CASE("angles lie in turns, and every unit names the next of its own", "[richdvd]") {
    // The last two VOBs of the set are the angles.
    std::map<int, std::vector<std::uint32_t>> units;
    std::vector<int> order;
    for (std::size_t sector = 0; sector + kSector <= vob().size(); sector += kSector) {
        const ByteVector& b = vob();
        if (at(b, sector + 14, 4) != 0x1BB || at(b, sector + 1031 + 0x20, 2) == 0) continue;
        const int number = static_cast<int>(at(b, sector + 1031 + 0x18, 2));
        units[number].push_back(static_cast<std::uint32_t>(sector / kSector));
        order.push_back(number);
    }
    REQUIRE(units.size() == 2);
    for (std::size_t i = 1; i < order.size(); ++i) CHECK(order[i] != order[i - 1]);
    for (const auto& [number, sectors] : units) {
        for (std::size_t i = 0; i < sectors.size(); ++i) {
            const std::size_t dsi = sectors[i] * kSector + 1031;
            CHECK(at(vob(), dsi + 0x20, 2) == 0x7000);
            const auto next = at(vob(), dsi + 0x26, 4);
            if (i + 1 < sectors.size()) {
                CHECK(sectors[i] + next == sectors[i + 1]);
            } else {
                CHECK(next == 0xFFFFFFFF);
            }
            // Where each angle goes on.
            std::size_t angle = 0;
            for (const auto& [other, others] : units) {
                if (i + 1 < sectors.size()) CHECK(sectors[i] + at(vob(), dsi + 0xB4 + 6 * angle, 4) == others[i + 1]);
                ++angle;
            }
        }
    }
}

TEST_CASE("the same description gives the same bytes", "[richdvd]") {
    auto description = rich_description(standin::DiscDescription::Kind::dvd);
    description.parts.resize(1);
    description.parts[0].length = base::from_seconds(1);
    description.titles.clear();
    const TempDir dir;
    const Cancel cancel;
    REQUIRE(standin::make_disc(dir / "a", description, {}, cancel));
    REQUIRE(standin::make_disc(dir / "b", description, {}, cancel));
    CHECK((read_all(dir / "a/VIDEO_TS/VTS_01_1.VOB") == read_all(dir / "b/VIDEO_TS/VTS_01_1.VOB")));
    description.seed = 2;
    REQUIRE(standin::make_disc(dir / "c", description, {}, cancel));
    CHECK_FALSE((read_all(dir / "a/VIDEO_TS/VTS_01_1.VOB") == read_all(dir / "c/VIDEO_TS/VTS_01_1.VOB")));
    // Cancelled: nothing is left.
    Cancel now;
    now.request();
    CHECK(standin::make_disc(dir / "d", description, {}, now).error().kind == ErrorKind::interrupted);
    CHECK_FALSE(std::filesystem::exists(dir / "d"));
    CHECK(standin::make_disc(dir / "e.iso", description, {}, now).error().kind == ErrorKind::interrupted);
    CHECK(std::distance(std::filesystem::directory_iterator(dir.path()), {}) == 3);
}
