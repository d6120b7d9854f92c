#include "base/file.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <linux/magic.h>
#include <linux/openat2.h>
#include <poll.h>
#include <sys/file.h>
#include <sys/random.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <sys/vfs.h>
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

#include "base/log.hpp"

namespace wavecrest::base {
namespace {

std::string reason(int error) {
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

std::string write_remedy(int error) {
    if (error == ENOSPC || error == EDQUOT) return "free some space or choose a folder on another disk";
    return "choose a folder you may write to, or change its permissions";
}

// Names of unfinished files, kept where a signal handler may read them.
constexpr std::size_t kSlots = 16;
struct Slot {
    std::atomic<bool> used{false};
    std::array<char, PATH_MAX> path{};
};
std::array<Slot, kSlots> unfinished;

void remember(const Path& path) {
    for (Slot& slot : unfinished) {
        bool expected = false;
        const std::string text = path.string();
        if (text.size() + 1 < slot.path.size() && slot.used.compare_exchange_strong(expected, true)) {
            std::copy(text.begin(), text.end() + 1, slot.path.begin());
            return;
        }
    }
}

void forget(const Path& path) {
    for (Slot& slot : unfinished) {
        if (slot.used && path.string() == slot.path.data()) slot.used = false;
    }
}

constexpr std::string_view kUnfinished = ".part";
constexpr std::size_t kRandomDigits = 16;

// Two processes never choose the same, and nobody can lay something there beforehand.
Path temporary_name(const Path& folder, const Path& target) {
    std::uint64_t random = 0;
    if (::getrandom(&random, sizeof random, 0) != static_cast<ssize_t>(sizeof random))
        random = static_cast<std::uint64_t>(::getpid()) << 32 ^ static_cast<std::uint64_t>(std::clock());
    // Of a long name the beginning, so that the whole is no longer than file systems take.
    const std::string name = target.filename().string().substr(0, NAME_MAX - kRandomDigits - kUnfinished.size() - 2);
    return folder / fmt::format(".{}.{:016x}{}", name, random, kUnfinished);
}
bool is_temporary_name(const std::string& name) {
    if (name.size() < kRandomDigits + kUnfinished.size() + 3 || name.front() != '.' || !name.ends_with(kUnfinished))
        return false;
    const std::size_t digits = name.size() - kUnfinished.size() - kRandomDigits;
    return name[digits - 1] == '.' &&
           name.find_first_not_of("0123456789abcdef", digits) == name.size() - kUnfinished.size();
}

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

Result<ByteVector> read_exactly(ByteSource& source, std::uint64_t offset, std::size_t count) {
    if (offset > source.size() || count > source.size() - offset) {
        return fail(ErrorKind::input, fmt::format("the file ends before the {} bytes needed there", count),
                    fmt::format("{}, byte {}", source.name(), offset),
                    "the file is truncated or damaged; copy it again");
    }
    ByteVector bytes(count);
    WAVECREST_TRY_ASSIGN(got, source.read_at(offset, bytes));
    if (got != count) {
        return fail(ErrorKind::input, "the file became shorter while it was read",
                    fmt::format("{}, byte {}", source.name(), offset + got), "wait until it is copied completely");
    }
    return bytes;
}

Result<FileSource> FileSource::open(const Path& path) {
    const int handle = ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (handle < 0) {
        const int error = errno;
        return fail(ErrorKind::input, "the file can't be opened: " + reason(error), path.string(),
                    error == ENOENT ? "check the name and whether the drive or share is mounted"
                                    : "check the file's permissions and its drive");
    }
    struct stat info {};
    if (::fstat(handle, &info) != 0 || !S_ISREG(info.st_mode)) {
        ::close(handle);
        return fail(ErrorKind::input,
                    S_ISDIR(info.st_mode) ? "this is a folder, not a file" : "this is not a regular file",
                    path.string(), "name a media file");
    }
    return FileSource(path, handle, static_cast<std::uint64_t>(info.st_size));
}

FileSource::FileSource(FileSource&& other) noexcept
    : path_(std::move(other.path_)), handle_(std::exchange(other.handle_, -1)), size_(other.size_) {}

FileSource& FileSource::operator=(FileSource&& other) noexcept {
    std::swap(path_, other.path_);
    std::swap(handle_, other.handle_);
    std::swap(size_, other.size_);
    return *this;
}

FileSource::~FileSource() {
    if (handle_ >= 0) ::close(handle_);
}

Result<std::size_t> FileSource::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    std::size_t done = 0;
    while (done < buffer.size()) {
        const ssize_t got =
            ::pread(handle_, buffer.data() + done, buffer.size() - done, static_cast<off_t>(offset + done));
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) {
            return fail(ErrorKind::input, "the file can't be read: " + reason(errno),
                        fmt::format("{}, byte {}", path_.string(), offset + done),
                        "check the drive or share, then copy the file again");
        }
        if (got == 0) break;
        done += static_cast<std::size_t>(got);
    }
    return done;
}

Result<std::size_t> RetryingSource::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    auto got = source_->read_at(offset, buffer);
    for (int i = 0; !got && i < retries_; ++i) {
        log(LogLevel::warning, "{} ({}): attempt {} of {}", got.error().what, got.error().where, i + 2, retries_ + 1);
        got = source_->read_at(offset, buffer);
    }
    if (!got) log(LogLevel::warning, "given up: {} ({})", got.error().what, got.error().where);
    return got;
}

Result<std::size_t> MemorySource::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    if (offset >= bytes_.size()) return 0;
    const std::size_t count = std::min<std::size_t>(buffer.size(), bytes_.size() - offset);
    if (count > 0) std::memcpy(buffer.data(), bytes_.data() + offset, count);
    return count;
}

Result<std::size_t> PipeSource::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    constexpr std::size_t kKeep = 16 << 20;  // behind the furthest byte
    constexpr std::size_t kPiece = 1 << 20;
    while (!ended_ && end_ < offset + buffer.size()) {
        if (held_.size() > 2 * kKeep) {
            const std::size_t drop = held_.size() - kKeep;
            held_.erase(held_.begin(), held_.begin() + static_cast<std::ptrdiff_t>(drop));
            start_ += drop;
        }
        // Waiting for input that may never come ends with a signal.
        pollfd waiting{handle_, POLLIN, 0};
        if (::poll(&waiting, 1, -1) < 0 && errno == EINTR) return interrupted();
        const std::size_t before = held_.size();
        held_.resize(before + kPiece);
        const ssize_t got = ::read(handle_, held_.data() + before, kPiece);
        held_.resize(before + static_cast<std::size_t>(std::max<ssize_t>(got, 0)));
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) {
            return fail(ErrorKind::input, fmt::format("reading failed: {}", std::strerror(errno)),
                        fmt::format("{}, byte {}", name_, end_), "check what feeds it");
        }
        if (got == 0) ended_ = true;
        end_ += static_cast<std::uint64_t>(got);
    }
    if (offset < start_) {
        return fail(ErrorKind::input, "piped input can't be read again", fmt::format("{}, byte {}", name_, offset),
                    "save it to a file and name that");
    }
    if (offset >= end_) return std::size_t{0};
    const std::size_t count = static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size(), end_ - offset));
    std::copy_n(held_.begin() + static_cast<std::ptrdiff_t>(offset - start_), count, buffer.begin());
    return count;
}

namespace {
constexpr std::size_t kFirstWindow = 64 << 10;
}

Result<ByteSpan> WindowReader::view(std::uint64_t offset, std::size_t count) {
    if (offset < start_ || offset + count > start_ + filled_) {
        // Going on in order, what is held already is kept.
        std::size_t kept = 0;
        if (offset >= start_ && offset < start_ + filled_) {
            kept = static_cast<std::size_t>(start_ + filled_ - offset);
            std::memmove(buffer_.data(), buffer_.data() + (offset - start_), kept);
        }
        const bool near = offset + window_ >= start_ && offset <= start_ + filled_ + window_;
        ahead_ = ahead_ > 0 && near ? std::min(ahead_ * 2, window_) : std::min(kFirstWindow, window_);
        start_ = offset;
        filled_ = kept;
        // A pipe gives what it has: no more than is asked for, so that live input isn't waited for.
        std::size_t want = source_->seekable() ? std::max(kept + ahead_, count) : count;
        // A length told by a file is no reason to make room for more than the file has.
        const std::uint64_t there = source_->size();
        if (there != kUnknownSize) want = std::min<std::uint64_t>(want, std::max(there, offset + kept) - offset);
        if (buffer_.size() < want) buffer_.resize(want);
        auto got = source_->read_at(offset + kept, std::span(buffer_).subspan(kept, want - kept));
        if (!got) return fail(std::move(got).error());
        filled_ += *got;
    }
    const std::size_t at = static_cast<std::size_t>(offset - start_);
    return ByteSpan(buffer_).subspan(at, std::min(count, filled_ - at));
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
            return fail(ErrorKind::machine, "the folder can't be made: " + reason(error), p->string(),
                        write_remedy(error));
        }
    }
    remove_leftovers(folder);
    const Path temporary = temporary_name(folder, target);
    const int handle = ::open(temporary.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0666);
    if (handle < 0) {
        const int error = errno;
        for (const Path& p : made) ::rmdir(p.c_str());
        return fail(ErrorKind::machine, "the folder can't be written to: " + reason(error), folder.string(),
                    write_remedy(error));
    }
    ::flock(handle, LOCK_EX | LOCK_NB);  // not every file system has locks: then nothing is ever taken for a leftover
    remember(temporary);
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
    return fail(ErrorKind::machine, fmt::format("{}: {}", doing, reason(error)), target_.string(), write_remedy(error));
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
    Path temporary = temporary_name(folder, target);
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

std::vector<Path> removed_leftovers() {
    const std::lock_guard lock(leftovers_mutex);
    return std::exchange(leftovers, {});
}

Path absolute_path(const Path& path) {
    std::error_code error;
    Path full = std::filesystem::absolute(path, error);
    return error ? path : full;
}

void remove_unfinished_files() noexcept {
    for (const Slot& slot : unfinished) {
        if (slot.used) ::unlink(slot.path.data());
    }
}

}  // namespace wavecrest::base
