#include "base/atomic_file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <atomic>
#include <cerrno>
#include <climits>
#include <cstdio>
#include <cstring>
#include <ctime>
#include <mutex>

namespace wavecrest::base {

namespace {

std::string write_remedy(int error) {
    if (error == ENOSPC || error == EDQUOT) return "free some space or choose a folder on another disk";
    return "choose a folder you may write to, or change its permissions";
}

// Names of unfinished files, kept where a signal handler may read them.
constexpr std::size_t kSlots = 16;
struct Slot {
    std::atomic<bool> used{false};
    std::atomic<bool> named{false};  // the path is whole: only then the handler reads it
    std::array<char, PATH_MAX> path{};
};
std::array<Slot, kSlots> unfinished;

void remember(const Path& path) {
    for (Slot& slot : unfinished) {
        bool expected = false;
        const std::string text = path.string();
        if (text.size() + 1 < slot.path.size() && slot.used.compare_exchange_strong(expected, true)) {
            *std::copy(text.begin(), text.end(), slot.path.begin()) = '\0';
            slot.named = true;
            return;
        }
    }
}

void forget(const Path& path) {
    for (Slot& slot : unfinished) {
        if (!slot.named || path.string() != slot.path.data()) continue;
        slot.named = false;
        slot.used = false;
    }
}

constexpr std::string_view kUnfinished = ".part";
constexpr std::size_t kRandomDigits = 16;

std::mutex leftovers_mutex;
std::vector<Path> leftovers;  // removed, not told yet; under the mutex

// Removes what killed processes left in a folder.
void remove_leftovers(const Path& folder) {
    constexpr std::time_t kJustMade = 2, kLongAgo = 24 * 3600;  // seconds; the former may have no lock yet
    std::error_code error;
    std::vector<Path> found;
    for (auto entry = std::filesystem::directory_iterator(folder, error);
         !error && entry != std::filesystem::directory_iterator(); entry.increment(error)) {
        if (is_temporary_name(entry->path().filename().string())) found.push_back(entry->path());
    }
    for (const Path& path : found) {
        const int handle = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK);
        if (handle < 0) continue;
        struct stat info {};
        const bool ours = ::fstat(handle, &info) == 0 && info.st_uid == ::geteuid() &&
                          (S_ISREG(info.st_mode) || S_ISDIR(info.st_mode));
        const std::time_t age = std::time(nullptr) - info.st_mtim.tv_sec;
        // (Locks of another machine that writes to the same share may not be seen here.)
        if (ours && age > (may_be_remote(handle) ? kLongAgo : kJustMade) && ::flock(handle, LOCK_EX | LOCK_NB) == 0 &&
            std::filesystem::remove_all(path, error) > 0 && !error) {
            const std::lock_guard lock(leftovers_mutex);
            leftovers.push_back(path);
        }
        ::close(handle);
    }
}

}  // namespace

// Two processes never choose the same, and nobody can lay something there beforehand.
std::string temporary_name(const std::string& name) {
    std::uint64_t random = 0;
    if (::getrandom(&random, sizeof random, 0) != static_cast<ssize_t>(sizeof random))
        random = static_cast<std::uint64_t>(::getpid()) << 32 ^ static_cast<std::uint64_t>(std::clock());
    // Of a long name the beginning, so that the whole is no longer than file systems take.
    return fmt::format(".{}.{:016x}{}", name.substr(0, NAME_MAX - kRandomDigits - kUnfinished.size() - 2), random,
                       kUnfinished);
}

bool is_temporary_name(const std::string& name) {
    if (name.size() < kRandomDigits + kUnfinished.size() + 3 || name.front() != '.' || !name.ends_with(kUnfinished))
        return false;
    const std::size_t digits = name.size() - kUnfinished.size() - kRandomDigits;
    return name[digits - 1] == '.' &&
           name.find_first_not_of("0123456789abcdef", digits) == name.size() - kUnfinished.size();
}

Result<AtomicFile> AtomicFile::create(const Path& target, IfExists if_exists) {
    std::error_code ignored;
    if (if_exists == IfExists::refuse && std::filesystem::exists(target, ignored)) {
        return fail(ErrorKind::machine, "the file exists already and is not overwritten", target.string(),
                    "move it away, or choose another folder or name");
    }
    if (std::filesystem::is_directory(target, ignored)) {
        return fail(ErrorKind::machine, "a folder of this name exists already", target.string(), "choose another name");
    }
    const Path folder = target.has_parent_path() ? target.parent_path() : Path(".");
    std::vector<Path> made;
    for (Path p = folder; !p.empty() && !std::filesystem::exists(p, ignored); p = p.parent_path()) made.push_back(p);
    for (auto p = made.rbegin(); p != made.rend(); ++p) {
        if (::mkdir(p->c_str(), 0777) != 0 && errno != EEXIST) {
            const int error = errno;
            return fail(ErrorKind::machine, "the folder can't be made: " + system_reason(error), p->string(),
                        write_remedy(error));
        }
    }
    remove_leftovers(folder);
    const Path temporary = folder / temporary_name(target.filename().string());
    remember(temporary);  // first, so that a signal finds nothing that isn't remembered
    const int handle = ::open(temporary.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0666);
    if (handle < 0) {
        const int error = errno;
        forget(temporary);
        for (const Path& p : made) ::rmdir(p.c_str());
        return fail(ErrorKind::machine, "the folder can't be written to: " + system_reason(error), folder.string(),
                    write_remedy(error));
    }
    ::flock(handle, LOCK_EX | LOCK_NB);  // not every file system has locks: then nothing is ever taken for a leftover
    return AtomicFile(target, temporary, handle, if_exists, std::move(made));
}

AtomicFile::AtomicFile(AtomicFile&& other) noexcept
    : target_(std::move(other.target_)),
      temporary_(std::move(other.temporary_)),
      made_folders_(std::move(other.made_folders_)),
      handle_(std::exchange(other.handle_, -1)),
      if_exists_(other.if_exists_),
      size_(other.size_) {}

AtomicFile::~AtomicFile() {
    if (handle_ < 0) return;
    ::close(handle_);
    ::unlink(temporary_.c_str());
    for (const Path& folder : made_folders_) ::rmdir(folder.c_str());  // only empty ones go
    forget(temporary_);
}

Status AtomicFile::failed(const char* doing) const {
    const int error = errno;
    return fail(ErrorKind::machine, fmt::format("{}: {}", doing, system_reason(error)), target_.string(),
                write_remedy(error));
}

Status AtomicFile::write(ByteSpan bytes) {
    WAVECREST_TRY(write_at(size_, bytes));
    size_ += bytes.size();
    return {};
}

Status AtomicFile::write_at(std::uint64_t offset, ByteSpan bytes) {
    while (!bytes.empty()) {
        const ssize_t put = ::pwrite(handle_, bytes.data(), bytes.size(), static_cast<off_t>(offset));
        if (put < 0 && errno == EINTR) continue;
        if (put < 0) return failed("writing failed");
        offset += static_cast<std::uint64_t>(put);
        bytes = bytes.subspan(static_cast<std::size_t>(put));
    }
    return {};
}

std::size_t AtomicFile::block_size() const {
    struct stat info {};
    return ::fstat(handle_, &info) == 0 && info.st_blksize > 0 ? static_cast<std::size_t>(info.st_blksize) : 4096;
}

std::uint64_t AtomicFile::inode() const {
    struct stat info {};
    return ::fstat(handle_, &info) == 0 ? info.st_ino : 0;
}

Status AtomicFile::insert_front(ByteSpan bytes) {
    if (size_ == 0 || ::fallocate(handle_, FALLOC_FL_INSERT_RANGE, 0, static_cast<off_t>(bytes.size())) != 0) {
        // Move the body towards the end, last piece first, so that nothing is overwritten before it is read.
        ByteVector piece(std::size_t{4} << 20);
        std::uint64_t left = size_;
        while (left > 0) {
            const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(piece.size(), left));
            left -= count;
            std::size_t got = 0;
            while (got < count) {
                const ssize_t n = ::pread(handle_, piece.data() + got, count - got, static_cast<off_t>(left + got));
                if (n < 0 && errno == EINTR) continue;
                if (n <= 0) return failed("reading back failed");
                got += static_cast<std::size_t>(n);
            }
            WAVECREST_TRY(write_at(left + bytes.size(), ByteSpan(piece).first(count)));
        }
    }
    size_ += bytes.size();
    return write_at(0, bytes);
}

Status AtomicFile::commit() {
    if (::fsync(handle_) != 0) return failed("writing to the disk failed");
    if (if_exists_ == IfExists::refuse) {
        std::error_code unknown;
        // link() refuses an existing target, so a file that appeared meanwhile is not overwritten. Where the file
        // system has no hard links, look once more and rename.
        if (::link(temporary_.c_str(), target_.c_str()) == 0) {
            ::unlink(temporary_.c_str());
        } else if (errno == EEXIST || std::filesystem::exists(target_, unknown)) {
            return fail(ErrorKind::machine, "a file of this name appeared meanwhile and is not overwritten",
                        target_.string(), "move it away, then run this again");
        } else if (::rename(temporary_.c_str(), target_.c_str()) != 0) {
            return failed("renaming failed");
        }
    } else if (::rename(temporary_.c_str(), target_.c_str()) != 0) {
        return failed("renaming failed");
    }
    ::close(std::exchange(handle_, -1));
    forget(temporary_);
    const Path folder = target_.has_parent_path() ? target_.parent_path() : Path(".");
    remove_leftovers(folder);  // what was too young at the beginning
    if (const int directory = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC); directory >= 0) {
        ::fsync(directory);  // the new name itself; not every file system can, which is no failure
        ::close(directory);
    }
    return {};
}

Result<AtomicFolder> AtomicFolder::create(const Path& given) {
    const Path target = given.has_filename() ? given : given.parent_path();  // "rip/" and "rip" are one place
    std::error_code error;
    if (std::filesystem::exists(target, error)) {
        return fail(ErrorKind::machine, "the folder exists already and is not overwritten", target.string(),
                    "remove it, or name another folder");
    }
    const Path folder = target.has_parent_path() ? target.parent_path() : Path(".");
    std::filesystem::create_directories(folder, error);
    if (!error) remove_leftovers(folder);
    Path temporary = folder / temporary_name(target.filename().string());
    if (!error && ::mkdir(temporary.c_str(), 0777) != 0) error = std::error_code(errno, std::generic_category());
    if (error) {
        return fail(ErrorKind::machine, "the folder can't be made: " + error.message(), target.string(),
                    "choose a folder you may write to");
    }
    const int lock = ::open(temporary.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC | O_NOFOLLOW);
    if (lock >= 0) ::flock(lock, LOCK_EX | LOCK_NB);
    return AtomicFolder(target, std::move(temporary), lock);
}

AtomicFolder::AtomicFolder(AtomicFolder&& other) noexcept
    : target_(std::move(other.target_)),
      temporary_(std::exchange(other.temporary_, {})),
      lock_(std::exchange(other.lock_, -1)) {}

AtomicFolder::~AtomicFolder() {
    std::error_code ignored;
    if (!temporary_.empty()) std::filesystem::remove_all(temporary_, ignored);
    if (lock_ >= 0) ::close(lock_);
}

Status AtomicFolder::commit() {
    std::error_code error;
    std::filesystem::rename(temporary_, target_, error);
    if (error) {
        return fail(ErrorKind::machine, "the finished folder can't be renamed: " + error.message(), target_.string(),
                    "name a folder that does not exist");
    }
    temporary_.clear();
    return {};
}

Status write_file(const Path& target, ByteSpan bytes, AtomicFile::IfExists if_exists) {
    WAVECREST_TRY_ASSIGN(file, AtomicFile::create(target, if_exists));
    WAVECREST_TRY(file.write(bytes));
    return file.commit();
}

std::vector<Path> removed_leftovers() {
    const std::lock_guard lock(leftovers_mutex);
    return std::exchange(leftovers, {});
}

void remove_unfinished_files() noexcept {
    for (const Slot& slot : unfinished) {
        if (slot.named) ::unlink(slot.path.data());
    }
}

}  // namespace wavecrest::base
