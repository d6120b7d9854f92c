// Jobs as values and in their list: nothing that was told is lost, whatever happens to the programs that work on them.
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <catch2/catch.hpp>
#include <chrono>
#include <nlohmann/json.hpp>
#include <random>
#include <thread>

#include "job/store.hpp"
#include "source/digest.hpp"
#include "source/shelf.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using job::State;

namespace {

job::Job some_job(const std::string& source = "/rips/Lanterns (2019)") {
    job::Job job;
    job.source = source;
    job.selection.into = "/srv/library";
    job.selection.name = "Lanterns \"of\" the lake (2019)";
    job.selection.audio = "en,de";
    job.selection.angle = 2;
    job.selection.accept_losses = true;
    job.profiles = {*profile::source_text("full-picture")};
    job.devices = {
        {"Lounge TV", {*device::source_text("tv-hd"), *device::source_text("receiver-optical")}, 12'000'000}};
    job.one_file = true;
    job.retries = 5;
    return job;
}

std::unique_ptr<job::Store> open_store(const TempDir& dir) {
    auto store = job::Store::open(dir / "state" / "jobs.db");
    REQUIRE(store);
    return std::move(*store);
}

const Error kFull{ErrorKind::machine, "not enough disk space", "/srv/library", "free some space", {}};

}  // namespace

TEST_CASE("a job is the same behind its JSON", "[job]") {
    const job::Job job = some_job();
    const std::string text = job::to_json(job).dump();
    const auto back = job::from_json(text);
    REQUIRE(back);
    CHECK(job::to_json(*back).dump() == text);
    const auto devices = job::devices_of(*back);
    REQUIRE(devices);
    REQUIRE(devices->size() == 1);
    CHECK(devices->front().name == "Lounge TV");
    CHECK(devices->front().highest_bps == 12'000'000);  // of the link; the television takes 20
    Track dts;
    dts.kind = TrackKind::audio;
    dts.codec = Codec::dts;
    dts.channels = 6;
    CHECK(device::plays_audio(devices->front(), dts));
    // What isn't one is refused, whatever it is.
    std::mt19937 random(5);
    int refused = 0;
    for (int i = 0; i < 2000; ++i) {
        std::string harmed = text;
        if (i % 2 == 0) harmed.resize(random() % harmed.size());
        for (unsigned n = random() % 3; i % 2 == 1 && n < 3; ++n)
            harmed[random() % harmed.size()] = static_cast<char>(random());
        refused += job::from_json(harmed) ? 0 : 1;
    }
    CHECK(refused > 1000);
    CHECK_FALSE(job::from_json("[]"));
    CHECK_FALSE(job::from_json(std::string(100'000, '[')));
}

TEST_CASE("jobs are taken in their order, each by one", "[job]") {
    const TempDir dir;
    const auto store = open_store(dir), other = open_store(dir);
    for (const char* source : {"/a", "/b", "/c"}) REQUIRE(store->add(some_job(source), "d1g", 100));
    auto first = store->claim(200);
    REQUIRE(first);
    REQUIRE(*first);
    CHECK((*first)->job.source == "/a");
    CHECK((*first)->state == State::running);
    CHECK((*first)->tries == 1);
    CHECK((*first)->digest == "d1g");
    CHECK((*other->claim(200))->job.source == "/b");
    CHECK((*store->claim(200, 3))->job.source == "/c");
    CHECK_FALSE(*other->claim(200));
    CHECK_FALSE(*store->claim(200, 1));  // it runs
    CHECK_FALSE(*store->report(1, 0.5));
    CHECK(other->get(1)->progress == 0.5);
    job::Done done;
    done.files = {{"/srv/library/a.mp4", 1234, {"Lounge TV"}}};
    done.problems = {"the disc is scratched"};
    REQUIRE(store->finish(1, done, 300));
    const auto record = other->get(1);
    CHECK(record->state == State::done);
    CHECK(record->ended == 300);
    CHECK(nlohmann::json::parse(record->result)["files"][0]["bytes"] == 1234);
    CHECK(other->list()->size() == 3);
    CHECK(other->get(9).error().kind == ErrorKind::usage);
}

TEST_CASE("what may pass is tried again, ever more seldom, what is final is not", "[job]") {
    const TempDir dir;
    const auto store = open_store(dir);
    REQUIRE(store->add(some_job(), "", 0));
    job::WallTime now = 1000;
    for (const int pause : {60, 120, 240, 480, 960, 1920, 3600, 3600}) {
        INFO(pause);
        REQUIRE(*store->claim(now));
        REQUIRE(store->give_up(1, kFull, true, now));
        CHECK(store->get(1)->state == State::waiting);
        CHECK(store->get(1)->error->what == kFull.what);
        CHECK(store->get(1)->error->kind == ErrorKind::machine);
        CHECK_FALSE(*store->claim(now + pause - 1));
        now += pause;
    }
    // Asked for by its number, or by somebody, it needn't wait.
    REQUIRE(*store->claim(now));
    REQUIRE(store->give_up(1, kFull, true, now));
    REQUIRE(store->retry(1));
    REQUIRE(*store->claim(now));
    REQUIRE(store->give_up(1, {ErrorKind::input, "the disc is copy-protected", "", "", {}}, false, now));
    CHECK(store->get(1)->state == State::failed);
    CHECK_FALSE(*store->claim(now + 1'000'000));
    CHECK(store->stop(1, now).error().kind == ErrorKind::usage);
    REQUIRE(store->retry(1));
    CHECK_FALSE(store->get(1)->error);
    REQUIRE(*store->claim(now));
    // Stopped while it runs: told to who runs it.
    REQUIRE(store->stop(1, now));
    CHECK(*store->report(1, 0.1));
    CHECK(store->retry(1).error().kind == ErrorKind::usage);
    REQUIRE(store->stopped(1, now));
    CHECK_FALSE(*store->claim(now + 1'000'000));
    REQUIRE(store->retry(1));
    REQUIRE(store->stop(1, now));
    CHECK(store->get(1)->state == State::stopped);

    job::Job job = some_job((dir / "film.mkv").string());
    const Error missing{ErrorKind::input, "there is no such file or folder", job.source, "", {}};
    CHECK(job::may_pass(job, missing));  // the drive or share may come back
    CHECK(job::may_pass(job, kFull));
    write_all(dir / "film.mkv", std::string("x"));
    CHECK_FALSE(job::may_pass(job, missing));
    CHECK_FALSE(job::may_pass(job, {ErrorKind::machine, "exists already", (dir / "film.mkv").string(), "", {}}));
    CHECK_FALSE(job::may_pass(job, {ErrorKind::usage, "no audio in \"fi\"", "", "", {}}));
}

TEST_CASE("a job whose program was killed waits again, at whatever moment that was", "[job]") {
    const TempDir dir;
    { const auto store = open_store(dir); }
    std::mt19937 random(11);
    std::vector<std::int64_t> told;
    for (int round = 0; round < 15; ++round) {
        int pipe[2];
        REQUIRE(::pipe(pipe) == 0);
        const pid_t child = ::fork();
        if (child == 0) {
            // Adds, takes and finishes jobs, and tells of each that is done.
            auto store = job::Store::open(dir / "state" / "jobs.db");
            for (int i = 0; store && i < 10'000; ++i) {
                const auto id = (*store)->add(some_job(), "", i);
                if (!id || !(*store)->claim(i, *id) || !(*store)->finish(*id, {}, i)) break;
                if (::write(pipe[1], &*id, sizeof *id) != sizeof *id) break;
            }
            ::_exit(0);
        }
        ::close(pipe[1]);
        // At some moment of the jobs behind the first.
        std::int64_t id = 0;
        if (::read(pipe[0], &id, sizeof id) == sizeof id) told.push_back(id);
        std::this_thread::sleep_for(std::chrono::microseconds(random() % 30'000));
        ::kill(child, SIGKILL);
        int status = 0;
        ::waitpid(child, &status, 0);
        while (::read(pipe[0], &id, sizeof id) == sizeof id) told.push_back(id);
        ::close(pipe[0]);
        const auto records = open_store(dir)->list();
        REQUIRE(records);
        for (const job::Record& record : *records)
            CHECK((record.state == State::done || record.state == State::waiting));
        for (const std::int64_t one : told) {
            const auto found = std::find_if(records->begin(), records->end(),
                                            [&](const job::Record& record) { return record.id == one; });
            REQUIRE(found != records->end());
            CHECK(found->state == State::done);
        }
    }
    CHECK(told.size() >= 15);
}

TEST_CASE("a list of jobs that can't be used is told", "[job]") {
    const TempDir dir;
    write_all(dir / "jobs.db", std::string(5000, 'x'));
    const auto rubbish = job::Store::open(dir / "jobs.db");
    REQUIRE_FALSE(rubbish);
    CHECK(rubbish.error().kind == ErrorKind::machine);
    CHECK(rubbish.error().remedy.find("move it away") != std::string::npos);
    std::filesystem::create_directories(dir / "folder.db");
    CHECK_FALSE(job::Store::open(dir / "folder.db"));
    // Bits flipped anywhere: an error, or a list; never a crash.
    {
        const auto store = open_store(dir);
        for (int i = 0; i < 20; ++i) REQUIRE(store->add(some_job(), "digest", i));
    }
    const ByteVector sound = read_all(dir / "state" / "jobs.db");
    std::mt19937 random(3);
    for (int i = 0; i < 150; ++i) {
        ByteVector harmed = sound;
        for (int n = 0; n < 1 + i % 20; ++n) harmed[random() % harmed.size()] ^= static_cast<std::uint8_t>(random());
        write_all(dir / "harmed.db", harmed);
        if (auto store = job::Store::open(dir / "harmed.db")) {
            (void)(*store)->list();
            (void)(*store)->claim(1000);
        }
    }
}

TEST_CASE("a source is known again by what it is, not by its name", "[job]") {
    const TempDir dir;
    const auto disc = source::digest_of(sample_disc().string());
    REQUIRE(disc);
    CHECK(disc->size() == 64);
    std::filesystem::copy(sample_disc(), dir / "another name", std::filesystem::copy_options::recursive);
    CHECK(*source::digest_of((dir / "another name").string()) == *disc);
    CHECK(*source::digest_of(sample_film().string()) != *disc);
    ByteVector bytes(3 << 20, 7);
    write_all(dir / "a.bin", bytes);
    const std::string before = *source::digest_of((dir / "a.bin").string());
    bytes[2 << 20] = 8;
    write_all(dir / "a.bin", bytes);
    CHECK(*source::digest_of((dir / "a.bin").string()) != before);
    CHECK(source::digest_of("http://192.0.2.1/film.mp4")->empty());
    CHECK(source::digest_of((dir / "gone").string())->empty());
}

TEST_CASE("a shelf holds what is below it, and what nobody knows", "[job][shelf]") {
    const TempDir dir;
    const auto make = [&](const std::string& path) {
        std::filesystem::create_directories((dir / path).parent_path());
        write_all(dir / path, std::string("x"));
    };
    for (const char* path :
         {"A film/VIDEO_TS/VIDEO_TS.IFO", "B film/disc/BDMV/index.bdmv", "images/c.ISO", "images/readme.txt", "D.mkv",
          "loose/VIDEO_TS.IFO", "papers/list.txt", ".hidden/e.mkv", "A film/VIDEO_TS/VTS_01_1.VOB", "series/s1/f.m2ts"})
        make(path);
    std::filesystem::create_directories(dir / "nothing");
    std::filesystem::create_directory_symlink(dir.path(), dir / "round and round");
    const auto entries = source::read_shelf(dir.path());
    REQUIRE(entries);
    std::vector<std::string> seen;
    using Kind = source::ShelfEntry::Kind;
    for (const auto& entry : *entries)
        seen.push_back(entry.path.lexically_relative(dir.path()).string() + (entry.kind == Kind::unknown ? " unknown"
                                                                             : entry.kind == Kind::disc  ? " disc"
                                                                             : entry.kind == Kind::image ? " image"
                                                                                                         : " file"));
    CHECK(seen == std::vector<std::string>{"A film disc", "B film/disc disc", "D.mkv file", "images/c.ISO image",
                                           "loose disc", "nothing unknown", "papers unknown", "series/s1/f.m2ts file"});
    CHECK(source::is_disc_folder(dir / "A film"));
    CHECK_FALSE(source::is_disc_folder(dir.path()));
    CHECK_FALSE(source::read_shelf(dir / "gone"));
}
