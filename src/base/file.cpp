#include "base/file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/magic.h>
#include <linux/openat2.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/vfs.h>
#include <unistd.h>
#include <cstdlib>

#include <atomic>
#include <cerrno>
#include <cstring>

#include "base/byte_source.hpp"

namespace wavecrest::base {

std::string system_reason(int error) {
    switch (error) {
        case ENOENT:
            return "it does not exist";
        case EACCES:
        case EPERM:
            return "permission denied";
        case EROFS:
            return "the file system is read-only";
        case ENOSPC:
            return "the disk is full";
        case EDQUOT:
            return "the disk quota is used up";
        case ENOTDIR:
            return "a part of the path is not a folder";
        case ENAMETOOLONG:
            return "the name is too long";
        case EIO:
            return "the drive reports a read error";
        default:
            return std::strerror(error);
    }
}

Result<std::string> read_text_file(const Path& path, std::size_t limit) {
    WAVECREST_TRY_ASSIGN(source, FileSource::open(path));
    if (source.size() > limit) {
        return fail(ErrorKind::input, fmt::format("the file is larger than the {} bytes expected here", limit),
                    path.string(), "name a text file");
    }
    WAVECREST_TRY_ASSIGN(bytes, read_exactly(source, 0, source.size()));
    return std::string(bytes.begin(), bytes.end());
}

int open_without_links(const Path& path) {
    open_how how{};
    how.flags = O_RDONLY | O_CLOEXEC | O_NONBLOCK;
    how.resolve = RESOLVE_NO_SYMLINKS | RESOLVE_NO_MAGICLINKS;
    const auto handle = static_cast<int>(::syscall(SYS_openat2, AT_FDCWD, path.c_str(), &how, sizeof how));
    if (handle >= 0 || errno != ENOSYS) return handle;
    return ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK | O_NOFOLLOW);  // a kernel before 5.6
}

bool may_be_remote(int handle) {
    struct statfs info {};
    if (::fstatfs(handle, &info) != 0) return true;
    constexpr unsigned kCifs = 0xFF534D42, kSmb2 = 0xFE534D42, kNinep = 0x01021997, kFuse = 0x65735546;
    const auto type = static_cast<unsigned>(info.f_type);
    return type == NFS_SUPER_MAGIC || type == kCifs || type == kSmb2 || type == SMB_SUPER_MAGIC || type == kNinep ||
           type == kFuse;
}

bool is_in_memory(int handle, std::uint64_t offset, std::size_t count, bool by_probes) {
    constexpr std::uint64_t kPage = 4096, kStep = 16 * kPage;
    // (The C library of 2022 knows neither its name nor its number, which is the same on every architecture.)
    struct {
        std::uint64_t offset, length;
    } const range{offset, count};
    struct {
        std::uint64_t cached, dirty, writeback, evicted, recently_evicted;
    } pages{};
    constexpr long kCacheStat = 451;
    static std::atomic<bool> known{true};
    if (known && !by_probes) {
        if (::syscall(kCacheStat, handle, &range, &pages, 0) == 0) {
            const std::uint64_t first = offset / kPage, last = (offset + count + kPage - 1) / kPage;
            return pages.cached >= last - first;
        }
        if (errno != ENOSYS) return false;
        known = false;
    }
    char byte = 0;
    const iovec one{&byte, 1};
    for (std::uint64_t at = offset; at < offset + count; at += kStep) {
        if (::preadv2(handle, &one, 1, static_cast<off_t>(at), RWF_NOWAIT) != 1) return false;
    }
    return count == 0 || ::preadv2(handle, &one, 1, static_cast<off_t>(offset + count - 1), RWF_NOWAIT) == 1;
}

Path absolute_path(const Path& path) {
    std::error_code error;
    Path full = std::filesystem::absolute(path, error);
    return error ? path : full;
}

namespace {

// XDG Base Directory Specification: a variable's folder, or one below the home folder.
Path user_folder(const char* variable, const Path& below_home) {
    const char* folder = std::getenv(variable);
    if (folder != nullptr && folder[0] == '/') return Path(folder) / "wavecrest";
    const char* home = std::getenv("HOME");
    return Path(home != nullptr && home[0] != '\0' ? home : "/tmp") / below_home / "wavecrest";
}

}  // namespace

Path state_folder() {
    return user_folder("XDG_STATE_HOME", Path(".local") / "state");
}

Path cache_folder() {
    return user_folder("XDG_CACHE_HOME", ".cache");
}

}  // namespace wavecrest::base
