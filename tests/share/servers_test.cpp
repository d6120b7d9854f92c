// Shares of real file servers: read, proved, lost and found again.
#include <unistd.h>

#include <catch2/catch.hpp>
#include <future>
#include <random>
#include <thread>

#include "share/prove.hpp"
#include "share/share.hpp"
#include "support/file_servers.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using share::ProofStep;

namespace {

const share::Account kOwner = share::account_of("root", "lantern");
constexpr const char* kGuests = "guest ok = yes\nread only = yes";

ByteVector noise(std::size_t size) {
    ByteVector bytes(size);
    std::mt19937_64 random(7);
    for (auto& byte : bytes) byte = static_cast<std::uint8_t>(random());
    return bytes;
}

share::Limits quick() {
    share::Limits limits;
    limits.answer = base::from_seconds(5);
    limits.reconnect = base::from_seconds(20);
    return limits;
}

std::shared_ptr<share::Share> opened(const std::string& address, const share::Account& account = {}) {
    auto made = share::Share::open(*share::parse_location(address), account, quick());
    REQUIRE(made);
    return *made;
}

// The last step, and what it says.
struct Verdict {
    std::string step, found, remedy;
    ProofStep::State state = ProofStep::State::not_tried;
};
Verdict proved(const std::string& address, const share::Account& account = {}, bool write = false) {
    share::ProofSettings settings;
    settings.length = base::from_seconds(0.2);
    settings.readers = 2;
    settings.write = write;
    settings.rate_of = [](const std::string&) { return std::optional<std::int64_t>(4'000'000); };
    const Cancel never;
    const auto location = share::parse_location(address);
    REQUIRE(location);
    const auto proof = share::prove(*location, account, settings, {}, never);
    REQUIRE(proof);
    const ProofStep& last = proof->failure() != nullptr ? *proof->failure() : proof->steps.back();
    return {last.name, last.found, last.remedy, last.state};
}

}  // namespace

TEST_CASE("folders of an SMB share are listed and files read, under any name", "[share]") {
    const TempDir dir;
    const ByteVector bytes = noise(5'000'000);
    const std::string odd =
        "Lake & S\xC3\xBC"
        "d #1 100%";
    std::filesystem::create_directories(dir / odd);
    write_all(dir / odd / "Lanterns (2019).mkv", ByteSpan(bytes));
    for (int i = 0; i < 3000; ++i) write_all(dir / ("f" + std::to_string(i)), std::string("x"));
    const SmbServer server({{"Films of 2019", dir.path(), kGuests}});
    const auto share = opened(server.address("Films of 2019"));
    const auto top = share->list("");
    REQUIRE(top);
    CHECK(top->size() == 3001);
    const auto entry = share->look(odd + "/Lanterns (2019).mkv");
    REQUIRE(entry);
    CHECK(entry->size == bytes.size());
    CHECK_FALSE(entry->folder);
    const auto file = share->read(odd + "/Lanterns (2019).mkv");
    REQUIRE(file);
    CHECK((*file)->size() == bytes.size());
    CHECK(*base::read_exactly(**file, 0, bytes.size()) == bytes);
    // Here and there, over the ends of what is read at once.
    std::mt19937_64 random(3);
    for (int i = 0; i < 200; ++i) {
        const std::size_t at = random() % bytes.size(),
                          count = std::min<std::size_t>(random() % 300'000, bytes.size() - at);
        const auto part = base::read_exactly(**file, at, count);
        REQUIRE(part);
        CHECK(std::equal(part->begin(), part->end(), bytes.begin() + static_cast<std::ptrdiff_t>(at)));
    }
    ByteVector beyond(10);
    CHECK(*(*file)->read_at(bytes.size(), beyond) == 0);
    CHECK(share->read("none").error().kind == ErrorKind::input);
    CHECK_FALSE(share->read(odd));
}

TEST_CASE("several threads read an SMB share at once", "[share]") {
    const TempDir dir;
    const ByteVector bytes = noise(3'000'000);
    write_all(dir / "film.mkv", ByteSpan(bytes));
    const SmbServer server({{"films", dir.path(), kGuests}},
                           "server signing = mandatory\nserver smb encrypt = required");
    const auto common = opened(server.address("films"), kOwner);
    std::vector<std::thread> threads;
    std::atomic<int> whole = 0;
    for (int i = 0; i < 6; ++i)
        threads.emplace_back([&, i] {
            // Half of them over a connection of their own.
            const auto own = share::Share::open(*share::parse_location(server.address("films")), kOwner, quick());
            const auto file = (i % 2 == 0 ? common : *own)->read("film.mkv");
            if (!file) return;
            const auto all = base::read_exactly(**file, 0, bytes.size());
            if (all && *all == bytes) ++whole;
        });
    for (std::thread& thread : threads) thread.join();
    CHECK(whole == 6);
}

TEST_CASE("a file is read on when its server was restarted, and not when it is another", "[share][waits]") {
    const TempDir dir;
    const ByteVector bytes = noise(8'000'000);
    write_all(dir / "film.mkv", ByteSpan(bytes));
    SmbServer smb({{"films", dir.path(), kGuests}});
    NfsServer nfs({{"films", dir.path(), "Access_Type = RO;"}});
    const auto check = [&](auto& server, const std::string& share_address, const std::string& path) {
        const auto share = opened(share_address);
        const auto file = share->read(path);
        REQUIRE(file);
        REQUIRE(*base::read_exactly(**file, 0, 1'000'000) == ByteVector(bytes.begin(), bytes.begin() + 1'000'000));
        server.stop();
        // (Servers end with the thread that began them.)
        auto reading = std::async(std::launch::async,
                                  [&] { return base::read_exactly(**file, 1'000'000, bytes.size() - 1'000'000); });
        std::this_thread::sleep_for(std::chrono::seconds(1));
        server.start();
        const auto rest = reading.get();
        INFO((rest ? "" : rest.error().what));
        REQUIRE(rest);
        CHECK(std::equal(rest->begin(), rest->end(), bytes.begin() + 1'000'000));
        // Meanwhile somebody puts another in its place.
        server.stop();
        const ByteVector other = noise(7'000'000);
        std::filesystem::remove(dir / "film.mkv");
        write_all(dir / "film.mkv", ByteSpan(other));
        server.start();
        const auto mixed = base::read_exactly(**file, 0, bytes.size());
        REQUIRE_FALSE(mixed);
        CHECK(mixed.error().what.find("replaced") != std::string::npos);
        write_all(dir / "film.mkv", ByteSpan(bytes));
    };
    check(smb, smb.address("films"), "film.mkv");
    check(nfs, nfs.address("films"), "films/film.mkv");
}

TEST_CASE("a reader of a server that is gone ends when it is cancelled", "[share]") {
    const TempDir dir;
    const ByteVector bytes = noise(3'000'000);
    write_all(dir / "film.mkv", ByteSpan(bytes));
    SmbServer server({{"films", dir.path(), kGuests}});
    Cancel cancel;
    share::Limits limits = quick();
    limits.cancel = &cancel;
    const auto share = share::Share::open(*share::parse_location(server.address("films")), {}, limits);
    REQUIRE(share);
    const auto file = (*share)->read("film.mkv");
    REQUIRE(file);
    server.stop();
    std::thread later([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(200));
        cancel.request();
    });
    const auto begun = std::chrono::steady_clock::now();
    const auto got = base::read_exactly(**file, 0, bytes.size());
    later.join();
    REQUIRE_FALSE(got);
    CHECK(got.error().kind == ErrorKind::interrupted);
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(3));
}

TEST_CASE("a server that hangs is an error in the stated time, and holds up no other", "[share][waits]") {
    const TempDir dir;
    const ByteVector bytes = noise(300'000);
    write_all(dir / "film.mkv", ByteSpan(bytes));
    const SmbServer hanging({{"films", dir.path(), kGuests}}), good({{"films", dir.path(), kGuests}});
    const NfsServer nfs({{"films", dir.path(), "Access_Type = RO;"}});
    share::Limits limits;
    limits.answer = base::from_seconds(1);
    limits.reconnect = base::from_seconds(1);
    const auto share_of = [&](const std::string& address) {
        return *share::Share::open(*share::parse_location(address), {}, limits);
    };
    const auto a = share_of(hanging.address("films")), b = share_of(good.address("films")),
               c = share_of(nfs.address(""));
    REQUIRE(a->list(""));
    REQUIRE(c->list("films"));
    hanging.hang();
    nfs.hang();
    const auto begun = std::chrono::steady_clock::now();
    auto first = std::async(std::launch::async, [&] { return a->list(""); });
    auto second = std::async(std::launch::async, [&] { return c->list("films"); });
    CHECK(b->look("film.mkv"));
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::milliseconds(900));
    for (auto* one : {&first, &second}) {
        const auto listed = one->get();
        REQUIRE_FALSE(listed);
        CHECK(listed.error().what.find("didn't answer within 1.0 s") != std::string::npos);
    }
    CHECK(std::chrono::steady_clock::now() - begun < std::chrono::seconds(4));
}

TEST_CASE("the causes of a share that looks empty are told apart", "[share][waits]") {
    const TempDir dir;
    for (const char* folder : {"films", "owner", "empty", "locked", "locked/inside"})
        std::filesystem::create_directories(dir / folder);
    const ByteVector bytes = noise(300'000);
    for (const char* file : {"films/Lanterns.mkv", "owner/Tax.mkv", "locked/inside/x.mkv"})
        write_all(dir / file, ByteSpan(bytes));
    std::filesystem::permissions(dir / "locked" / "inside", std::filesystem::perms::owner_all);
    SmbServer server({{"films", dir / "films", kGuests},
                      {"owner", dir / "owner", "valid users = root\nread only = no"},
                      {"empty", dir / "empty", kGuests},
                      {"locked", dir / "locked", kGuests},
                      {"hidden", dir / "films", "guest ok = yes\nbrowseable = no"}});
    const auto is = [](const Verdict& verdict, const char* step, const char* found, const char* remedy = "") {
        INFO(verdict.step << ": " << verdict.found << " / " << verdict.remedy);
        CHECK(verdict.step == step);
        CHECK(verdict.state == ProofStep::State::failed);
        CHECK(verdict.found.find(found) != std::string::npos);
        CHECK(verdict.remedy.find(remedy) != std::string::npos);
    };
    CHECK(proved(server.address("films")).state == ProofStep::State::passed);
    CHECK(proved(server.address("hidden/Lanterns.mkv")).state == ProofStep::State::passed);
    CHECK(proved(server.address("owner"), kOwner, true).state == ProofStep::State::passed);
    CHECK(std::filesystem::is_empty(dir / "empty"));
    CHECK(std::distance(std::filesystem::directory_iterator(dir / "owner"), {}) == 1);  // nothing is left behind
    is(proved("smb://nobody.invalid/films"), "name", "not found");
    is(proved("smb://127.0.0.1:" + std::to_string(free_port()) + "/films"), "port", "closed");
    is(proved(server.address("owner"), share::account_of("root", "wrong")), "account", "wrong user name or password");
    is(proved(server.address("films"), share::account_of("nobody-here", "x")), "account", "takes it for a guest");
    is(proved(server.address("owner")), "share", "guest may not use", "--user");
    is(proved(server.address("film")), "share", "there is no share", "did you mean \"films\"");
    is(proved(server.address("")), "share", "names no share", "films");
    is(proved(server.address("films/lanterns")), "folder", "there is no \"lanterns\"", "Lanterns.mkv");
    is(proved(server.address("locked/inside")), "list", "may not");
    is(proved(server.address("empty")), "list", "empty");
    is(proved(server.address("films"), {}, true), "write", "may not write");
    // After the password was changed, and the share renamed.
    server.set_password("lake");
    is(proved(server.address("owner"), kOwner), "account", "wrong user name or password");
    CHECK(proved(server.address("owner"), share::account_of("root", "lake")).state == ProofStep::State::passed);
    server.share({{"Movies", dir / "films", kGuests}});
    server.stop();
    server.start();
    is(proved(server.address("films")), "share", "there is no share", "Movies");
}

TEST_CASE("a server that wants no guests, signs or encrypts is told so", "[share]") {
    const TempDir dir;
    write_all(dir / "a.mkv", std::string(1000, 'x'));
    SmbServer server({{"films", dir.path(), "valid users = root"}},
                     "map to guest = never\nrestrict anonymous = 2\nserver signing = mandatory");
    const Verdict guest = proved(server.address("films"));
    CHECK(guest.state == ProofStep::State::failed);
    CHECK((guest.step == "account" || guest.step == "share"));
    CHECK(guest.remedy.find("--user") != std::string::npos);
    share::ProofSettings settings;
    settings.length = base::from_seconds(0.1);
    const Cancel never;
    const auto proof = share::prove(*share::parse_location(server.address("films")), kOwner, settings, {}, never);
    REQUIRE(proof);
    CHECK(proof->passed());
    CHECK(proof->steps[1].found.find("signed") != std::string::npos);
    const auto wrong = proved(server.address("films"), share::account_of("unknown", "x"));
    CHECK(wrong.found.find("wrong user name or password") != std::string::npos);
}

TEST_CASE("an NFS server is read, written and proved", "[share]") {
    const TempDir dir;
    for (const char* folder : {"films/Lake side", "fixed"}) std::filesystem::create_directories(dir / folder);
    const ByteVector bytes = noise(3'000'000);
    write_all(dir / "films/Lake side/Lanterns.mkv", ByteSpan(bytes));
    write_all(dir / "fixed/a.mkv", ByteSpan(bytes));
    const NfsServer server(
        {{"films", dir / "films", "Access_Type = RW;"}, {"fixed", dir / "fixed", "Access_Type = RO;"}});
    const auto share = opened(server.address("films"));
    const auto top = share->list("");
    REQUIRE(top);
    CHECK(top->size() == 2);
    // Two connections of one machine are two clients to the server: neither's files are forgotten for the other's.
    const auto other = opened(server.address("films"));
    const auto first = share->read("films/Lake side/Lanterns.mkv"),
               second = other->read("films/Lake side/Lanterns.mkv");
    REQUIRE(first);
    REQUIRE(second);
    CHECK(*base::read_exactly(**first, 0, bytes.size()) == bytes);
    CHECK(*base::read_exactly(**second, 0, bytes.size()) == bytes);
    CHECK(share->read("films/Lake side/Lanterns.mkv"));
    // One connection reads a file twice; who is ready first doesn't close it for the other.
    auto twice = share->read("films/Lake side/Lanterns.mkv");
    REQUIRE(twice);
    for (int i = 0; i < 3; ++i) {
        const auto brief = share->read("films/Lake side/Lanterns.mkv");
        REQUIRE(brief);
        CHECK(base::read_exactly(**brief, 0, 1000));
    }
    CHECK(*base::read_exactly(**twice, 0, bytes.size()) == bytes);
    twice->reset();
    CHECK(share->read("films/Lake side/Lanterns.mkv"));
    CHECK(proved(server.address("films"), {}, true).state == ProofStep::State::passed);
    CHECK(std::distance(std::filesystem::directory_iterator(dir / "films"), {}) == 1);
    const Verdict fixed = proved(server.address("fixed"), {}, true);
    CHECK(fixed.step == "write");
    CHECK(fixed.state == ProofStep::State::failed);
    const Verdict none = proved(server.address("film"));
    CHECK(none.step == "folder");
    CHECK(none.remedy.find("did you mean \"films\"") != std::string::npos);
}

TEST_CASE("an NFS server that has just been started is waited for until it opens files", "[share][nfs][waits]") {
    const TempDir dir;
    const ByteVector film = noise(300'000);
    write_all(dir / "film.bin", ByteSpan(film));
    NfsServer server({{"films", dir.path(), "Access_Type = RO;"}}, 6);
    const std::string path = "films/film.bin";
    // A client the server knows when it is started anew.
    const auto before = opened(server.address("films"))->read(path);
    REQUIRE(before);
    CHECK(*base::read_exactly(**before, 0, film.size()) == film);
    server.stop();
    server.start();
    const auto refused = share::make_nfs_client(*share::parse_location(server.address(path)), base::from_seconds(5))
                             ->open(path, share::Client::Open::read);
    REQUIRE_FALSE(refused);
    CHECK(refused.error() == share::kInGrace);
    CHECK(proved(server.address("films")).found.find("has just been started") != std::string::npos);
    const auto after = opened(server.address("films"))->read(path);
    REQUIRE(after);
    CHECK(*base::read_exactly(**after, 0, film.size()) == film);
}
