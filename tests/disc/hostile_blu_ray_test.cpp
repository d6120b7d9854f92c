// Blu-ray folders with a bit flipped, or named by hand. Each stood for a crash once.
#include <catch2/catch.hpp>

#include "source/input.hpp"
#include "support/discs.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::size_t packets_of(const base::Path& disc) {
    auto input = source::open_input(disc);
    if (!input) FAIL(input.error().what << ": " << input.error().where);
    auto source = (*input)->open((*input)->titles().front().number, 1);
    if (!source) FAIL(source.error().what);
    std::size_t count = 0;
    while (true) {
        auto packet = (*source)->read();
        if (!packet) FAIL(packet.error().what);
        if (!*packet) return count;
        ++count;
    }
}

}  // namespace

TEST_CASE("a flipped bit above a PID in a playlist changes nothing", "[hostile][blu-ray]") {
    const TempDir dir;
    const base::Path disc = dir / "disc";
    std::filesystem::copy(rich_blu_ray(), disc, std::filesystem::copy_options::recursive);
    const std::size_t whole = packets_of(disc);
    int changed = 0;
    for (const auto& entry : std::filesystem::directory_iterator(disc / "BDMV" / "PLAYLIST")) {
        ByteVector bytes = read_all(entry.path());
        // The entry of a stream in the table: its length, type 1, and PID 0x1011.
        for (std::size_t i = 0; i + 4 < bytes.size(); ++i) {
            if (bytes[i] == 1 && bytes[i + 1] == 0x10 && bytes[i + 2] == 0x11) {
                bytes[i + 1] |= 0x80;
                ++changed;
            }
        }
        write_all(entry.path(), bytes);
    }
    REQUIRE(changed > 0);
    CHECK(packets_of(disc) == whole);
}

TEST_CASE("a clip with a name of letters, without playlists, is a title", "[hostile][blu-ray]") {
    const TempDir dir;
    const base::Path disc = dir / "disc", stream = disc / "BDMV" / "STREAM";
    std::filesystem::create_directories(stream);
    for (const auto& entry : std::filesystem::directory_iterator(rich_blu_ray() / "BDMV" / "STREAM")) {
        std::filesystem::copy(entry.path(), stream / "abcde.m2ts");
        break;
    }
    CHECK(packets_of(disc) > 0);
}
