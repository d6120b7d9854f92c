// Files written to shares of real file servers: whole under their names, or not at all.
#include "share/upload.hpp"

#include <catch2/catch.hpp>
#include <chrono>
#include <future>
#include <random>
#include <thread>

#include "base/atomic_file.hpp"
#include "support/file_servers.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

const share::Account kOwner = share::account_of("root", "lantern");

ByteVector noise(std::size_t size) {
    ByteVector bytes(size);
    std::mt19937_64 random(11);
    for (auto& byte : bytes) byte = static_cast<std::uint8_t>(random());
    return bytes;
}

std::shared_ptr<share::Share> opened(const std::string& address, const Cancel* cancel = nullptr) {
    share::Limits limits{base::from_seconds(5), base::from_seconds(20), cancel};
    auto made = share::Share::open(*share::parse_location(address), kOwner, limits);
    REQUIRE(made);
    return *made;
}

// Lets something happen when half of it has been handed over.
class Watched : public base::MemorySource {
  public:
    Watched(ByteVector bytes, std::function<void()> half)
        : MemorySource(std::move(bytes), "film.mkv"), half_(std::move(half)) {}
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        if (offset >= size() / 2 && half_) std::exchange(half_, {})();
        return MemorySource::read_at(offset, buffer);
    }

  private:
    std::function<void()> half_;
};

std::size_t count_in(const base::Path& folder) {
    return static_cast<std::size_t>(std::distance(std::filesystem::recursive_directory_iterator(folder), {}));
}

struct Servers {
    TempDir dir;
    SmbServer smb{{{"films", dir.path(), "read only = no"}}};
    NfsServer nfs{{{"films", dir.path(), "Access_Type = RW;"}}};
};

}  // namespace

TEST_CASE("a file is written to a share whole, in folders that are made for it, and replaces nothing", "[share]") {
    const Servers servers;
    const ByteVector bytes = noise(5'300'017);
    for (const bool smb : {true, false}) {
        const auto share = opened(smb ? servers.smb.address("films") : servers.nfs.address(""));
        const std::string front = smb ? "" : "films/", name = smb ? "Übung am See (2021)" : "Lake side (2019)";
        CAPTURE(name);
        base::MemorySource film(bytes, "film.mkv");
        std::uint64_t told = 0;
        const Status done = share::upload(*share, film, front + "New films/" + name + "/" + name + ".mkv",
                                          [&](std::uint64_t so_far) { told = so_far; });
        INFO((done ? "" : done.error().what + " " + done.error().where));
        REQUIRE(done);
        CHECK(told == bytes.size());
        CHECK(read_all(servers.dir / "New films" / name / (name + ".mkv")) == bytes);
        CHECK(count_in(servers.dir / "New films" / name) == 1);
        // Once more: what is there stays.
        base::MemorySource other(noise(10), "other");
        const Status again = share::upload(*share, other, front + "New films/" + name + "/" + name + ".mkv");
        REQUIRE_FALSE(again);
        CHECK(again.error().kind == ErrorKind::machine);
        CHECK(again.error().what.find("isn't overwritten") != std::string::npos);
        CHECK(read_all(servers.dir / "New films" / name / (name + ".mkv")) == bytes);
        // What an earlier run copied is taken for it, but not another file that is just as large.
        const std::string path = front + "New films/" + name + "/" + name + ".mkv";
        CHECK(share::upload(*share, film, path, {}, share::IfThere::take));
        ByteVector changed = bytes;
        changed.back() ^= 1;
        base::MemorySource twin(changed, "twin.mkv");
        const Status refused = share::upload(*share, twin, path, {}, share::IfThere::take);
        REQUIRE_FALSE(refused);
        CHECK(refused.error().what.find("isn't overwritten") != std::string::npos);
        CHECK(count_in(servers.dir / "New films" / name) == 1);
        // A file of no bytes is one, too.
        base::MemorySource empty(ByteVector{}, "empty");
        CHECK(share::upload(*share, empty, front + (smb ? "a.txt" : "b.txt")));
        const auto free = share->free_space(front.empty() ? "" : "films");
        REQUIRE(free);
        CHECK(free->has_value() == smb);
        const auto here = std::filesystem::space(servers.dir.path()).available;
        if (smb) CHECK(static_cast<double>(**free) == Approx(static_cast<double>(here)).epsilon(0.05));
    }
}

TEST_CASE("what appears under the name meanwhile isn't replaced, and nothing else is left", "[share]") {
    const Servers servers;
    for (const bool smb : {true, false}) {
        const auto share = opened(smb ? servers.smb.address("films") : servers.nfs.address(""));
        const std::string name = smb ? "a.mkv" : "b.mkv";
        Watched film(noise(4'000'000), [&] { write_all(servers.dir / name, std::string("somebody's")); });
        const Status done = share::upload(*share, film, (smb ? "" : "films/") + name);
        REQUIRE_FALSE(done);
        CHECK(done.error().what.find("isn't overwritten") != std::string::npos);
        CHECK(read_text(servers.dir / name) == "somebody's");
    }
    CHECK(count_in(servers.dir.path()) == 2);
}

TEST_CASE("a server that is restarted meanwhile gets the whole file", "[share][waits]") {
    Servers servers;
    const ByteVector bytes = noise(6'000'000);
    const auto check = [&](auto& server, const std::string& address, const std::string& path, const char* name) {
        const auto share = opened(address);
        Watched film(bytes, [&] { server.stop(); });
        auto uploading = std::async(std::launch::async, [&] { return share::upload(*share, film, path); });
        std::this_thread::sleep_for(1s);
        CHECK_FALSE(std::filesystem::exists(servers.dir / name));
        server.start();
        const Status done = uploading.get();
        INFO((done ? "" : done.error().what + " " + done.error().where));
        REQUIRE(done);
        CHECK(read_all(servers.dir / name) == bytes);
    };
    check(servers.smb, servers.smb.address("films"), "smb.mkv", "smb.mkv");
    check(servers.nfs, servers.nfs.address(""), "films/nfs.mkv", "nfs.mkv");
}

TEST_CASE("an upload that is cancelled or refused leaves nothing, and says why", "[share]") {
    const Servers servers;
    Cancel cancel;
    const auto share = opened(servers.smb.address("films"), &cancel);
    Watched film(noise(4'000'000), [&] { cancel.request(); });
    const Status done = share::upload(*share, film, "Lake/Lake.mkv");
    REQUIRE_FALSE(done);
    CHECK(done.error().kind == ErrorKind::interrupted);
    CHECK(count_in(servers.dir.path()) == 0);

    const TempDir fixed;
    const SmbServer read_only({{"films", fixed.path(), "read only = yes"}});
    base::MemorySource small(noise(1000), "film.mkv");
    const Status refused = share::upload(*opened(read_only.address("films")), small, "film.mkv");
    REQUIRE_FALSE(refused);
    INFO(refused.error().what);
    CHECK(refused.error().what == "no permission to write here");
    CHECK(share::try_writing(*opened(read_only.address("films")), "").error().what == refused.error().what);
    CHECK(share::try_writing(*opened(servers.smb.address("films")), "not there yet"));
    CHECK(count_in(servers.dir.path()) == 0);
}

TEST_CASE("leftovers of uploads that were killed go after a day, other files stay", "[share]") {
    const Servers servers;
    const auto day = std::chrono::hours(25);
    const std::string left = base::temporary_name("old.mkv"), young = base::temporary_name("young.mkv");
    for (const std::string& name : {left, young, std::string(".notes.part")})
        write_all(servers.dir / name, std::string("x"));
    for (const std::string& name : {left, std::string(".notes.part")})
        std::filesystem::last_write_time(servers.dir / name, std::filesystem::file_time_type::clock::now() - day);
    base::MemorySource small(noise(1000), "film.mkv");
    REQUIRE(share::upload(*opened(servers.nfs.address("")), small, "films/film.mkv"));
    CHECK_FALSE(std::filesystem::exists(servers.dir / left));
    CHECK(std::filesystem::exists(servers.dir / young));
    CHECK(std::filesystem::exists(servers.dir / ".notes.part"));
}
