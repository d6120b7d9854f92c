#include "host/held_calls.hpp"

#include <fcntl.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <climits>
#include <iterator>
#include <sstream>

#include "host/mounts.hpp"

namespace wavecrest::host {
namespace {

// How a call names its file, and what it does with it.
enum class FileArgument { path, descriptor };
struct FileCall {
    long number;
    FileArgument by;
    int argument;  // which one, from 0
    bool writes = false;
};

constexpr auto kPath = FileArgument::path;
constexpr auto kDescriptor = FileArgument::descriptor;
constexpr FileCall kFileCalls[] = {
// (Newer processors have no numbers for what was superseded.)
#ifdef SYS_open
    {SYS_open, kPath, 0},
    {SYS_stat, kPath, 0},
    {SYS_lstat, kPath, 0},
    {SYS_access, kPath, 0},
    {SYS_readlink, kPath, 0},
    {SYS_unlink, kPath, 0, true},
    {SYS_mkdir, kPath, 0, true},
    {SYS_rename, kPath, 0, true},
    {SYS_renameat, kPath, 1, true},
#endif
    {SYS_openat, kPath, 1},
    {SYS_newfstatat, kPath, 1},
    {SYS_statx, kPath, 1},
    {SYS_faccessat, kPath, 1},
    {SYS_readlinkat, kPath, 1},
    {SYS_statfs, kPath, 0},
    {SYS_unlinkat, kPath, 1, true},
    {SYS_mkdirat, kPath, 1, true},
    {SYS_renameat2, kPath, 1, true},
    {SYS_truncate, kPath, 0, true},
    {SYS_fstat, kDescriptor, 0},
    {SYS_fstatfs, kDescriptor, 0},
    {SYS_getdents64, kDescriptor, 0},
    {SYS_read, kDescriptor, 0},
    {SYS_pread64, kDescriptor, 0},
    {SYS_readv, kDescriptor, 0},
    {SYS_preadv, kDescriptor, 0},
    {SYS_sendfile, kDescriptor, 1},
    {SYS_write, kDescriptor, 0, true},
    {SYS_pwrite64, kDescriptor, 0, true},
    {SYS_writev, kDescriptor, 0, true},
    {SYS_pwritev, kDescriptor, 0, true},
    {SYS_ftruncate, kDescriptor, 0, true},
    {SYS_fallocate, kDescriptor, 0, true},
    {SYS_fsync, kDescriptor, 0, true},
    {SYS_fdatasync, kDescriptor, 0, true},
    {SYS_close, kDescriptor, 0, true},
};

// What a file of /proc says; nothing where its thread is gone meanwhile (reading gives ESRCH then, which a standard
// stream throws).
std::string text_of(const base::Path& path) {
    const int handle = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
    if (handle < 0) return {};
    std::string text;
    std::array<char, 4096> some{};
    for (ssize_t got = 0; (got = ::read(handle, some.data(), some.size())) > 0;)
        text.append(some.data(), static_cast<std::size_t>(got));
    ::close(handle);
    return text;
}

// "257 0xffffff9c 0x7ffd… …": number and six arguments; nothing while the thread runs or waits outside a call.
struct Call {
    long number = -1;
    std::array<std::uint64_t, 6> arguments{};
};
std::optional<Call> parse_call(const std::string& line) {
    std::istringstream fields(line);
    Call call;
    if (!(fields >> call.number) || call.number < 0) return std::nullopt;
    for (std::uint64_t& argument : call.arguments) {
        if (!(fields >> std::hex >> argument)) return std::nullopt;
    }
    return call;
}

// Text in this program's memory, which may be given up while it is read.
std::string text_at(std::uint64_t address) {
    std::string text;
    std::array<char, 256> some{};
    while (text.size() < PATH_MAX) {
        // Up to the end of a page: the next one may not be there.
        const std::size_t size = std::min<std::size_t>(some.size(), 4096 - address % 4096);
        const iovec to{some.data(), size};
        const iovec from{reinterpret_cast<void*>(address), size};  // NOLINT(performance-no-int-to-ptr)
        const ssize_t got = ::process_vm_readv(::getpid(), &to, 1, &from, 1, 0);
        if (got <= 0) return {};
        const auto end = std::find(some.begin(), some.begin() + got, '\0');
        text.append(some.begin(), end);
        if (end != some.begin() + got) return text;
        address += static_cast<std::uint64_t>(got);
    }
    return text;
}

std::string path_of(const FileCall& known, const Call& call) {
    const std::uint64_t argument = call.arguments[static_cast<std::size_t>(known.argument)];
    if (known.by == FileArgument::path) {
        std::string path = text_at(argument);
        // (Where this process stands is known to the system itself.)
        std::error_code error;
        const bool from_here = known.argument == 0 || static_cast<int>(call.arguments[0]) == AT_FDCWD;
        if (from_here && !path.empty() && path[0] != '/') path = (std::filesystem::current_path(error) / path).string();
        return path;
    }
    std::array<char, PATH_MAX> target{};
    const std::string link = "/proc/self/fd/" + std::to_string(static_cast<int>(argument));
    const ssize_t size = ::readlink(link.c_str(), target.data(), target.size());
    return size > 0 ? std::string(target.data(), static_cast<std::size_t>(size)) : std::string();
}

// Whether an open file is a file or folder indeed, by what the system knows without asking a server.
bool is_file(std::uint64_t descriptor) {
    struct statx known {};
    if (::statx(static_cast<int>(descriptor), "", AT_EMPTY_PATH | AT_STATX_DONT_SYNC, STATX_TYPE, &known) != 0)
        return false;
    return S_ISREG(known.stx_mode) || S_ISDIR(known.stx_mode);
}

// How often a thread has waited, and whether a signal can't wake it ("D" in proc(5)).
struct Waiting {
    std::uint64_t switches = 0;
    bool deep = false;
};
Waiting waiting_of(const base::Path& task) {
    Waiting waiting;
    std::istringstream lines(text_of(task / "status"));
    for (std::string line; std::getline(lines, line);) {
        if (line.starts_with("State:")) waiting.deep = line.find('D') != std::string::npos;
        constexpr std::string_view kSwitches = "voluntary_ctxt_switches:";
        if (line.starts_with(kSwitches)) waiting.switches = std::strtoull(line.c_str() + kSwitches.size(), nullptr, 10);
    }
    return waiting;
}

const FileCall* find_file_call(long number) {
    const auto* const found = std::find_if(std::begin(kFileCalls), std::end(kFileCalls),
                                           [&](const FileCall& one) { return one.number == number; });
    return found == std::end(kFileCalls) ? nullptr : found;
}

bool is_in_user_space(const Mount& mount) {
    return mount.type.starts_with("fuse");
}
bool is_own_drive(const Mount& mount) {
    return !mount.is_share() && !is_in_user_space(mount) && mount.type != "autofs";
}

// Whether what is called is a drive's or share's: no device's, no pipe's.
bool waits_for_file(const FileCall& known, const Call& call, bool deep, const std::string& path,
                    const std::optional<Mount>& mount) {
    for (const std::string_view other : {"/dev/", "/proc/", "/sys/"}) {
        if (path.starts_with(other)) return false;
    }
    if (deep) return true;
    // A wait that signals end: for the other end of a pipe, or for a file system in user space.
    if (known.by == kDescriptor) return is_file(call.arguments[static_cast<std::size_t>(known.argument)]);
    return call.number != SYS_openat || (mount && is_in_user_space(*mount));
}

// The kernel itself wakes a thread now and then while it waits for a server; a call that is made again and again, to a
// drive that is merely slow, waits more often.
bool same_wait(std::uint64_t switches, std::chrono::milliseconds held) {
    constexpr std::uint64_t kAtOnce = 8;  // growing pauses at the beginning
    constexpr std::chrono::seconds kPause{10};
    return switches <= kAtOnce + static_cast<std::uint64_t>(held / kPause);
}

}  // namespace

HeldCalls::HeldCalls(base::Path process) : process_(std::move(process)) {}

std::optional<HeldCall> HeldCalls::look(Steady::time_point now) {
    std::map<std::string, Seen> before;
    before.swap(threads_);
    std::optional<HeldCall> longest;
    std::error_code error;
    for (std::filesystem::directory_iterator task(process_ / "task", error), end; !error && task != end;
         task.increment(error)) {
        const std::string line = text_of(task->path() / "syscall");
        const std::optional<Call> call = parse_call(line);
        if (!call) continue;
        const FileCall* const known = find_file_call(call->number);
        if (known == nullptr) continue;
        const Waiting waiting = waiting_of(task->path());
        Seen seen{line, waiting.switches, {}, path_of(*known, *call), now};
        const auto mount = find_mount(text_of(process_ / "mounts"), seen.path);
        if (!waits_for_file(*known, *call, waiting.deep, seen.path, mount)) continue;
        if (known->by == kDescriptor && !known->writes && mount && is_own_drive(*mount)) continue;
        if (known->writes) {
            seen.answers = nfs_answers(text_of(process_ / "mountstats"), seen.path);
            if (!seen.answers) continue;
        }
        const std::string thread = task->path().filename().string();
        if (const auto last = before.find(thread); last != before.end()) {
            const auto held = std::chrono::duration_cast<std::chrono::milliseconds>(now - last->second.since);
            if (last->second.call == line && last->second.answers == seen.answers &&
                same_wait(seen.switches - last->second.switches, held)) {
                seen = last->second;
                if (!longest || held > longest->held) longest = HeldCall{seen.path, held};
            }
        }
        threads_.emplace(thread, std::move(seen));
    }
    return longest;
}

}  // namespace wavecrest::host
