// Calls on files that don't return, in a /proc of our own: what thread 7 of a program waits in, look by look.
#include "host/held_calls.hpp"

#include <catch2/catch.hpp>

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <thread>

#include "host/mounts.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using host::HeldCalls;

namespace {

class Process {
  public:
    Process() {
        std::filesystem::create_directories(dir_ / "task/7");
        write_all(
            dir_ / "mounts",
            "/dev/sda1 / ext4 rw 0 0\nattic:/films /media/films nfs4 rw 0 0\n//attic/b /media/b\\040c cifs rw 0 0\n");
        answers(100);
    }
    void answers(int received) {
        write_all(dir_ / "mountstats",
                  "device /dev/sda1 mounted on / with fstype ext4\n"
                  "device attic:/films mounted on /media/films with fstype nfs4 statvers=1.1\n"
                  "\topts:\trw,vers=4.2\n\txprt:\ttcp 875 1 2 0 0 500 " +
                      std::to_string(received) + " 1 206637 0 2\n");
    }
    // As proc(5) tells it.
    void waits_in(long number, const std::vector<std::uint64_t>& arguments, char state, int switches) {
        std::string line = std::to_string(number);
        for (std::size_t i = 0; i < 6; ++i)
            line += fmt::format(" {:#x}", i < arguments.size() ? arguments[i] : std::uint64_t{0});
        write_all(dir_ / "task/7/syscall", line + " 0x7ffd 0x7f82\n");
        write_all(dir_ / "task/7/status", fmt::format("Name:\tx\nState:\t{} (what)\nvoluntary_ctxt_switches:\t{}\n"
                                                      "nonvoluntary_ctxt_switches:\t99\n",
                                                      state, switches));
    }
    void stats(const char* path, char state, int switches = 0) {
        waits_in(SYS_newfstatat, {static_cast<std::uint32_t>(AT_FDCWD), reinterpret_cast<std::uintptr_t>(path)}, state,
                 switches);
    }
    void runs() { write_all(dir_ / "task/7/syscall", std::string("running\n")); }
    base::Path path() const { return dir_.path(); }

  private:
    TempDir dir_;
};

}  // namespace

TEST_CASE("a call on a file that doesn't return is told with its file and its time", "[host]") {
    Process process;
    HeldCalls calls(process.path());
    const host::Steady::time_point start{};
    const char* const film = "/media/films/Harbor.mkv";
    process.stats(film, 'D');
    CHECK_FALSE(calls.look(start));
    const auto held = calls.look(start + 40s);
    REQUIRE(held);
    CHECK(held->path == film);
    CHECK(held->held == 40s);
    SECTION("the kernel itself wakes the thread now and then") {
        process.stats(film, 'D', 11);
        CHECK(calls.look(start + 60s)->held == 60s);
    }
    SECTION("the same call made again and again") {
        process.stats(film, 'D', 40);
        CHECK_FALSE(calls.look(start + 60s));
        CHECK(calls.look(start + 61s)->held == 1s);
    }
    SECTION("another call") {
        process.stats("/media/films/Mill.mkv", 'D');
        CHECK_FALSE(calls.look(start + 60s));
    }
    SECTION("it returned in between") {
        process.runs();
        CHECK_FALSE(calls.look(start + 50s));
        process.stats(film, 'D');
        CHECK_FALSE(calls.look(start + 60s));
    }
    SECTION("another thread ends while it is looked at: its files can't be read any more") {
        std::filesystem::create_directories(process.path() / "task/8/syscall");
        CHECK(calls.look(start + 60s)->held == 60s);
    }
    SECTION("the thread is gone") {
        std::filesystem::remove_all(process.path() / "task/7");
        CHECK_FALSE(calls.look(start + 60s));
    }
}

TEST_CASE("what may take as long as it likes isn't taken for a hanging drive", "[host]") {
    Process process;
    HeldCalls calls(process.path());
    const TempDir dir;
    const auto held = [&] {
        const host::Steady::time_point start{};
        calls.look(start);
        return calls.look(start + 100s).has_value();
    };
    const auto descriptor_of = [](const char* path, int flags) {
        const int handle = ::open(path, flags | O_CLOEXEC, 0600);
        REQUIRE(handle >= 0);
        return handle;
    };
    const std::string pipe = (dir / "pipe").string(), file = (dir / "file").string();
    REQUIRE(::mkfifo(pipe.c_str(), 0600) == 0);

    // The other end of a pipe.
    process.waits_in(SYS_openat, {static_cast<std::uint32_t>(AT_FDCWD), reinterpret_cast<std::uintptr_t>(pipe.c_str())},
                     'S', 0);
    CHECK_FALSE(held());
    const int reader = descriptor_of(pipe.c_str(), O_RDONLY | O_NONBLOCK);
    process.waits_in(SYS_read, {static_cast<std::uint64_t>(reader)}, 'S', 0);
    CHECK_FALSE(held());
    // A terminal, a drive read by its own name.
    process.waits_in(SYS_read, {static_cast<std::uint64_t>(descriptor_of("/dev/zero", O_RDONLY))}, 'D', 0);
    CHECK_FALSE(held());
    // A scratched disc in this machine, and what the system has put off for a slow one.
    const int handle = descriptor_of(file.c_str(), O_CREAT | O_RDWR);
    process.waits_in(SYS_pread64, {static_cast<std::uint64_t>(handle)}, 'D', 0);
    CHECK_FALSE(held());
    process.waits_in(SYS_fsync, {static_cast<std::uint64_t>(handle)}, 'D', 0);
    CHECK_FALSE(held());
    // No call on a file.
    process.waits_in(SYS_nanosleep, {}, 'S', 0);
    CHECK_FALSE(held());
    // But looking a path up in a file system of user space, which signals wake, too.
    process.stats("/media/b c/film.mkv", 'S');
    CHECK(held());
    // And opening a file there: that is no pipe.
    write_all(process.path() / "mounts", "far " + dir.path().string() + " fuse.sshfs rw 0 0\n");
    process.waits_in(SYS_openat, {static_cast<std::uint32_t>(AT_FDCWD), reinterpret_cast<std::uintptr_t>(file.c_str())},
                     'S', 0);
    CHECK(held());
    // And a share, wherever it lies.
    write_all(process.path() / "mounts", "attic:/x " + dir.path().string() + " nfs4 rw 0 0\n");
    process.waits_in(SYS_pread64, {static_cast<std::uint64_t>(handle)}, 'D', 0);
    CHECK(held());
    ::close(reader);
    ::close(handle);
}

TEST_CASE("writing to an NFS server is waited for as long as it answers", "[host]") {
    Process process;
    HeldCalls calls(process.path());
    const host::Steady::time_point start{};
    const char* const name = "/media/films/new";
    const auto writes = [&] {
        process.waits_in(SYS_mkdirat, {static_cast<std::uint32_t>(AT_FDCWD), reinterpret_cast<std::uintptr_t>(name)},
                         'D', 0);
    };
    writes();
    CHECK_FALSE(calls.look(start));
    process.answers(101);
    CHECK_FALSE(calls.look(start + 50s));
    CHECK(calls.look(start + 90s)->held == 40s);
}

TEST_CASE("the answers of an NFS server are found by the mount that holds a path", "[host]") {
    const std::string_view table =
        "device /dev/sda1 mounted on / with fstype ext4\n"
        "device attic:/ mounted on /media/all\\040films with fstype nfs statvers=1.1\n"
        "\txprt:\ttcp 875 1 7 0 0 85765 85763 1 206637\n\txprt:\ttcp 876 1 7 0 0 5 4 1 206637\n"
        "device //attic/b mounted on /media/all\\040films/b with fstype cifs\n"
        "device attic:/x mounted on /media/all with fstype nfs4 statvers=1.1\n"
        "\txprt:\ttcp 1 2\n";
    CHECK(host::nfs_answers(table, "/media/all films/Harbor.mkv") == 85767u);
    CHECK_FALSE(host::nfs_answers(table, "/media/all films/b/Harbor.mkv"));
    CHECK_FALSE(host::nfs_answers(table, "/media/all/Harbor.mkv"));  // cut off
    CHECK_FALSE(host::nfs_answers(table, "/home/Harbor.mkv"));
    CHECK_FALSE(host::nfs_answers("device \ndevice x mounted on  with fstype \nxprt: tcp 1 2 3 4 5 6 7", "/x"));
}

TEST_CASE("no thread of this process is held", "[host]") {
    HeldCalls calls;
    const auto start = host::Steady::now();
    calls.look(start);
    CHECK_FALSE(calls.look(start + 100s));
}
