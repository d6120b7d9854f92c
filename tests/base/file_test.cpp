#include "base/file.hpp"
#include "base/atomic_file.hpp"
#include "base/byte_source.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>
#include <catch2/catch.hpp>

#include <thread>

#include "base/queue.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using base::AtomicFile;
using base::FileSource;

TEST_CASE("a file appears under its name only when it is committed", "[file]") {
    const TempDir dir;
    const auto target = dir / "deep/er/film.mp4";
    {
        auto file = AtomicFile::create(target, AtomicFile::IfExists::refuse);
        REQUIRE(file);
        REQUIRE(file->write(base::as_bytes("hello")));
        CHECK_FALSE(std::filesystem::exists(target));
    }
    CHECK(dir.files().empty());
    CHECK_FALSE(std::filesystem::exists(dir / "deep"));  // folders made for it go, too
    {
        auto file = AtomicFile::create(target, AtomicFile::IfExists::refuse);
        REQUIRE(file);
        REQUIRE(file->write(base::as_bytes("hello")));
        REQUIRE(file->write_at(0, base::as_bytes("J")));
        REQUIRE(file->commit());
    }
    CHECK(dir.files() == std::vector<std::string>{"deep/er/film.mp4"});
    CHECK(base::read_text_file(target).value() == "Jello");
}

TEST_CASE("an existing file is refused or replaced, as asked", "[file]") {
    const TempDir dir;
    write_all(dir / "a", std::string("old"));
    const auto refused = AtomicFile::create(dir / "a", AtomicFile::IfExists::refuse);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::machine);
    CHECK(base::read_text_file(dir / "a").value() == "old");
    REQUIRE(base::write_file(dir / "a", base::as_bytes("new"), AtomicFile::IfExists::replace));
    CHECK(base::read_text_file(dir / "a").value() == "new");
}

TEST_CASE("a file that appears while another is written is not overwritten", "[file]") {
    const TempDir dir;
    auto file = AtomicFile::create(dir / "a", AtomicFile::IfExists::refuse);
    REQUIRE(file);
    REQUIRE(file->write(base::as_bytes("late")));
    write_all(dir / "a", std::string("first"));
    const auto committed = file->commit();
    REQUIRE_FALSE(committed);
    CHECK(committed.error().kind == ErrorKind::machine);
    CHECK(base::read_text_file(dir / "a").value() == "first");
}

TEST_CASE("bytes are put in front of a body, in blocks or not", "[file]") {
    const TempDir dir;
    ByteVector body(10'000'000);
    for (std::size_t i = 0; i < body.size(); ++i) body[i] = static_cast<std::uint8_t>(i * 7 + (i >> 11));
    for (const std::size_t front_size : {std::size_t{4096 * 3}, std::size_t{1234}}) {
        const auto target = dir / ("front-" + std::to_string(front_size));
        auto file = AtomicFile::create(target, AtomicFile::IfExists::refuse);
        REQUIRE(file);
        CHECK(file->block_size() >= 512);
        REQUIRE(file->write(body));
        const ByteVector front(front_size, 0xEE);
        REQUIRE(file->insert_front(front));
        CHECK(file->size() == body.size() + front.size());
        REQUIRE(file->commit());
        const ByteVector all = read_all(target);
        REQUIRE(all.size() == body.size() + front.size());
        CHECK(std::equal(front.begin(), front.end(), all.begin()));
        CHECK(std::equal(body.begin(), body.end(), all.begin() + static_cast<std::ptrdiff_t>(front.size())));
    }
}

TEST_CASE("what can't be opened is said, with what to do", "[file]") {
    const TempDir dir;
    const auto missing = FileSource::open(dir / "missing.mp4");
    REQUIRE_FALSE(missing);
    CHECK(missing.error().kind == ErrorKind::input);
    CHECK(missing.error().what.find("does not exist") != std::string::npos);
    CHECK_FALSE(missing.error().remedy.empty());
    const auto folder = FileSource::open(dir.path());
    REQUIRE_FALSE(folder);
    CHECK(folder.error().what.find("folder") != std::string::npos);
    REQUIRE(::mkfifo((dir / "pipe").c_str(), 0600) == 0);
    const auto pipe = FileSource::open(dir / "pipe");  // must not wait for a writer
    REQUIRE_FALSE(pipe);
    const auto target = AtomicFile::create("/proc/nowhere/film.mp4", AtomicFile::IfExists::refuse);
    REQUIRE_FALSE(target);
    CHECK(target.error().kind == ErrorKind::machine);
}

TEST_CASE("exact reads tell where a file is too short", "[file]") {
    const TempDir dir;
    write_all(dir / "ten", std::string("0123456789"));
    auto file = FileSource::open(dir / "ten");
    REQUIRE(file);
    CHECK(file->size() == 10);
    const auto bytes = base::read_exactly(*file, 4, 3);
    REQUIRE(bytes);
    CHECK(std::string(bytes->begin(), bytes->end()) == "456");
    const auto beyond = base::read_exactly(*file, 8, 3);
    REQUIRE_FALSE(beyond);
    CHECK(beyond.error().where.find("byte 8") != std::string::npos);
    CHECK_FALSE(base::read_exactly(*file, ~0ull, 1));
    CHECK_FALSE(base::read_text_file(dir / "ten", 5));
    base::MemorySource memory(ByteVector{1, 2, 3});
    ByteVector buffer(8);
    CHECK(memory.read_at(1, buffer).value() == 2);
    CHECK(memory.read_at(9, buffer).value() == 0);
}

TEST_CASE("a bounded queue hands items over in order and ends cleanly", "[queue]") {
    base::BoundedQueue<int> queue(2);
    std::vector<int> got;
    std::thread reader([&] {
        while (auto item = queue.pop()) got.push_back(*item);
    });
    for (int i = 0; i < 1000; ++i) REQUIRE(queue.push(i));
    queue.close();
    reader.join();
    REQUIRE(got.size() == 1000);
    CHECK(got.front() == 0);
    CHECK(got.back() == 999);
    CHECK_FALSE(queue.push(1));
}

TEST_CASE("abandoning a queue frees a writer that waits", "[queue]") {
    base::BoundedQueue<int> queue(1);
    REQUIRE(queue.push(1));
    bool pushed = true;
    std::thread writer([&] { pushed = queue.push(2); });
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
    queue.abandon();
    writer.join();
    CHECK_FALSE(pushed);
    CHECK_FALSE(queue.pop());
}

TEST_CASE("reading nothing is no error, wherever", "[file]") {
    base::MemorySource source(ByteVector{1, 2, 3});
    for (const std::uint64_t at : {0u, 2u, 3u, 100u}) {
        const auto got = source.read_at(at, {});
        REQUIRE(got);
        CHECK(*got == 0);
    }
}

TEST_CASE("a link laid where an unfinished file goes is not followed", "[file]") {
    const TempDir dir;
    write_all(dir / "victim", std::string("precious"));
    auto file = AtomicFile::create(dir / "film", AtomicFile::IfExists::refuse);
    REQUIRE(file);
    // Its name can't be known beforehand: two at once differ, and each is opened anew or not at all.
    auto other = AtomicFile::create(dir / "film", AtomicFile::IfExists::refuse);
    REQUIRE(other);
    REQUIRE(file->write(base::as_bytes("one")));
    REQUIRE(other->write(base::as_bytes("other")));
    CHECK(dir.files().size() == 3);
    REQUIRE(file->commit());
    CHECK(base::read_text_file(dir / "film").value() == "one");
    CHECK(base::read_text_file(dir / "victim").value() == "precious");
}

TEST_CASE("what a killed process left is removed, what others still write is not", "[file]") {
    const TempDir dir;
    const auto age = [](const base::Path& path) {
        std::filesystem::last_write_time(path, std::filesystem::file_time_type::clock::now() - std::chrono::minutes(1));
    };
    // Left: a file and a folder that nobody has locked. Kept: what is being written, and what only looks alike.
    const base::Path file = dir / ".film.mp4.0123456789abcdef.part", folder = dir / ".disc.00112233445566ff.part";
    write_all(file, std::string("half"));
    std::filesystem::create_directory(folder);
    write_all(folder / "VTS", std::string("half"));
    const base::Path alike = dir / ".film.mp4.part", notes = dir / ".notes.0123456789abcdeg.part";
    write_all(alike, std::string("mine"));
    write_all(notes, std::string("mine"));
    auto writing = AtomicFile::create(dir / "other", AtomicFile::IfExists::refuse);
    REQUIRE(writing);
    REQUIRE(writing->write(base::as_bytes("more")));
    for (const auto& entry : std::filesystem::directory_iterator(dir.path())) age(entry.path());
    base::removed_leftovers();
    {
        auto next = AtomicFile::create(dir / "film.mp4", AtomicFile::IfExists::refuse);
        REQUIRE(next);
    }
    CHECK_FALSE(std::filesystem::exists(file));
    CHECK_FALSE(std::filesystem::exists(folder));
    CHECK(std::filesystem::exists(alike));
    CHECK(std::filesystem::exists(notes));
    CHECK(base::removed_leftovers().size() == 2);
    CHECK(base::removed_leftovers().empty());
    REQUIRE(writing->commit());
    CHECK(base::read_text_file(dir / "other").value() == "more");
}

TEST_CASE("links that have taken a file's or a folder's place are not followed", "[file]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "films");
    write_all(dir / "films/a", std::string("film"));
    write_all(dir / "secret", std::string("secret"));
    const base::Path path = std::filesystem::canonical(dir / "films/a");
    const int before = base::open_without_links(path);
    REQUIRE(before >= 0);
    ::close(before);
    std::filesystem::remove(path);
    std::filesystem::create_symlink("../secret", path);
    CHECK(base::open_without_links(path) < 0);
    std::filesystem::remove_all(dir / "films");
    write_all(dir / "a", std::string("else"));
    std::filesystem::create_directory_symlink(".", dir / "films");
    CHECK(base::open_without_links(path) < 0);
    // A pipe's other end isn't waited for.
    REQUIRE(::mkfifo((dir / "pipe").c_str(), 0600) == 0);
    const int pipe = base::open_without_links(std::filesystem::canonical(dir / "pipe"));
    CHECK(pipe >= 0);
    ::close(pipe);
}

TEST_CASE("what is in memory is told without reading it", "[file]") {
    // Beside the sources: temporary folders may have no disk below them.
    const base::Path path = samples() / ".in-memory";
    write_all(path, ByteVector(2 << 20, 7));
    const int handle = base::open_without_links(std::filesystem::canonical(path));
    REQUIRE(handle >= 0);
    read_all(path);
    for (const bool by_probes : {false, true}) {
        INFO(by_probes);
        if (!base::is_in_memory(handle, 0, 4096, by_probes)) continue;  // this file system can't tell
        CHECK(base::is_in_memory(handle, 100, 1 << 20, by_probes));
        CHECK(base::is_in_memory(handle, 5000, 0, by_probes));
        ::fdatasync(handle);
        ::posix_fadvise(handle, 0, 0, POSIX_FADV_DONTNEED);
        char byte = 0;
        ::posix_fadvise(handle, 0, 0, POSIX_FADV_RANDOM);  // one page, none ahead
        REQUIRE(::pread(handle, &byte, 1, 0) == 1);
        if (!base::may_be_remote(handle) && base::is_in_memory(handle, 1 << 20, 4096, by_probes))
            WARN("pages can't be let go here: not tested");
        else
            CHECK_FALSE(base::is_in_memory(handle, 0, 1 << 20, by_probes));
        ::posix_fadvise(handle, 0, 0, POSIX_FADV_NORMAL);
        read_all(path);
    }
    ::close(handle);
    std::filesystem::remove(path);
}
