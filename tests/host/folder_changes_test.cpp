// Changes below folders are told at once.
#include "host/folder_changes.hpp"

#include <catch2/catch.hpp>

#include "base/clock.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

TEST_CASE("what changes below a folder is told, and nothing else", "[host]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "films/Lake");
    host::FolderChanges changes({dir / "films"});
    changes.renew();
    CHECK(changes.tells_all());
    CHECK_FALSE(changes.wait(0s));
    write_all(dir / "beside.txt", std::string("x"));
    CHECK_FALSE(changes.wait(0s));
    write_all(dir / "films/Lake/film.mkv", std::string("x"));
    CHECK(changes.wait(10s));
    CHECK_FALSE(changes.wait(0s));
    // What is read isn't changed.
    (void)read_text(dir / "films/Lake/film.mkv");
    CHECK_FALSE(changes.wait(0s));
    // A folder that is new is watched from the next time on.
    std::filesystem::create_directories(dir / "films/Rip");
    CHECK(changes.wait(10s));
    changes.renew();
    write_all(dir / "films/Rip/title.vob", std::string("x"));
    CHECK(changes.wait(10s));
    std::filesystem::remove(dir / "films/Rip/title.vob");
    CHECK(changes.wait(10s));
}

TEST_CASE("where not all is told, that is known, and waiting can be ended", "[host]") {
    const TempDir dir;
    host::FolderChanges gone({dir / "missing"});
    gone.renew();
    CHECK_FALSE(gone.tells_all());
    host::FolderChanges share({dir.path(), "smb://nas/films"});
    share.renew();
    CHECK_FALSE(share.tells_all());
    share.wake();
    const base::RealClock clock;
    CHECK_FALSE(share.wait(60s));
    CHECK(clock.now() < 30s);
}
