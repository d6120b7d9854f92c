// Paths and addresses told apart by their schemes.
#include "base/address.hpp"

#include <catch2/catch.hpp>

#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using base::Address;
using base::Scheme;

TEST_CASE("an address has a scheme, and everything else is a path", "[address]") {
    CHECK(Address("http://lake.local/a.mp4").scheme() == Scheme::http);
    CHECK(Address("HTTPS://lake.local/a.mp4").scheme() == Scheme::https);
    CHECK(Address("smb://lake/films").is_share());
    CHECK(Address("nfs://lake/films").is_share());
    CHECK(Address("udp://239.0.0.1:5004").is_datagrams());
    CHECK(Address("rtmp://lake/live/a").is_live());
    CHECK_FALSE(Address("rtmp://lake/live/a").is_datagrams());
    CHECK(Address("-").scheme() == Scheme::standard_input);
    CHECK(Address("ftp://lake/a").scheme() == Scheme::unknown);
    CHECK_FALSE(Address("ftp://lake/a").is_local());
    for (const char* path : {"film.mp4", "/films/a: b://c.mp4", "://x", "1a://x", "Film (2019)://x", "", "smb:/x"}) {
        CHECK(Address(path).scheme() == Scheme::path);
        CHECK(Address(path).path() == path);
    }
    CHECK(Address("smb://lake/films").path().empty());
    for (const auto& one : base::schemes()) CHECK(base::scheme_names().find(one.name) != std::string::npos);
}

TEST_CASE("an address is named by its last part, a path without its links", "[address]") {
    CHECK(Address("/films/Lanterns.mp4").name() == "Lanterns.mp4");
    CHECK(Address("/films/Lanterns/").name() == "Lanterns");
    CHECK(Address("smb://lake/films/Lanterns.mp4").name() == "Lanterns.mp4");
    CHECK(Address("http://lake/films/Lanterns.mp4").name() == "http://lake/films/Lanterns.mp4");
    CHECK(Address("http://lake/Lanterns.mp4?key=a.b").extension() == ".mp4");
    CHECK(Address("/films/Who?.mkv").extension() == ".mkv");
    CHECK(Address("udp://239.0.0.1:5004").behind_scheme() == "239.0.0.1:5004");
    const TempDir dir;
    write_all(dir / "real.mp4", std::string("x"));
    std::filesystem::create_symlink(dir / "real.mp4", dir / "link.mp4");
    CHECK(base::without_links(dir / "link.mp4").path().filename() == "real.mp4");
    CHECK(base::without_links("smb://lake/link.mp4") == Address("smb://lake/link.mp4"));
}
