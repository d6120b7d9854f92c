// What arrives on a shelf is told when it is whole, and not while it is copied.
#include "job/arrivals.hpp"

#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

TEST_CASE("a film is told when its copy is complete", "[job][arrivals]") {
    const TempDir dir;
    job::Arrivals arrivals({dir.path()}, 10s);
    const ByteVector film = read_all(sample_film());
    const base::Path copy = dir / "Lake.mp4";
    // Half of it, and a while nothing: its index leads beyond the end, or isn't there yet.
    write_all(copy, ByteSpan(film).subspan(0, film.size() / 2));
    CHECK(arrivals.look(0s).waiting == 1);
    CHECK(arrivals.look(5s).whole.empty());
    write_all(copy, ByteSpan(film).subspan(0, film.size() * 3 / 4));
    CHECK(arrivals.look(12s).waiting == 1);
    write_all(copy, ByteSpan(film));
    CHECK(arrivals.look(20s).whole.empty());
    CHECK(arrivals.look(29s).whole.empty());
    CHECK(arrivals.look(30s).whole == std::vector<base::Path>{copy});
    // Once; and again when it is another.
    CHECK(arrivals.look(60s).whole.empty());
    std::filesystem::remove(copy);
    CHECK(arrivals.look(70s).whole.empty());
    write_all(copy, ByteSpan(film));
    CHECK(arrivals.look(80s).whole.empty());
    CHECK(arrivals.look(90s).whole.size() == 1);
}

TEST_CASE("what stays broken is told once, with why, and taken when it was mended", "[job][arrivals]") {
    const TempDir dir;
    job::Arrivals arrivals({dir.path()}, 10s);
    copy_disc(dir / "Disc");
    base::Path vob;
    for (const auto& entry : std::filesystem::recursive_directory_iterator(dir / "Disc")) {
        if (entry.path().filename() == "VTS_01_1.VOB") vob = entry.path();
    }
    REQUIRE_FALSE(vob.empty());
    const ByteVector whole = read_all(vob);
    write_all(vob, ByteSpan(whole).subspan(0, whole.size() / 2));
    write_all(dir / "notes.mkv", std::string("no film at all"));
    CHECK(arrivals.look(0s).waiting == 2);
    const auto looked = arrivals.look(10s);
    CHECK(looked.whole.empty());
    REQUIRE(looked.broken.size() == 2);
    CHECK(looked.broken[0].second.find("sectors missing") != std::string::npos);
    CHECK(arrivals.look(20s).broken.empty());
    write_all(vob, ByteSpan(whole));
    CHECK(arrivals.look(30s).whole.empty());
    CHECK(arrivals.look(40s).whole == std::vector<base::Path>{dir / "Disc"});
}

TEST_CASE("a folder that is away for a while is told, and its films aren't told again", "[job][arrivals]") {
    const TempDir dir;
    std::filesystem::create_directory(dir / "rips");
    std::filesystem::copy_file(sample_film(), dir / "rips" / "Lake.mp4");
    job::Arrivals arrivals({dir / "rips"}, 10s);
    (void)arrivals.look(0s);
    CHECK(arrivals.look(10s).whole.size() == 1);
    std::filesystem::rename(dir / "rips", dir / "away");
    CHECK(arrivals.look(20s).unreadable.size() == 1);
    CHECK(arrivals.look(30s).unreadable.empty());
    std::filesystem::rename(dir / "away", dir / "rips");
    const auto back = arrivals.look(40s);
    CHECK(back.whole.empty());
    CHECK(back.waiting == 0);
}
