#include "base/byte_source.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>

#include "base/log.hpp"

namespace wavecrest::base {

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
        return fail(ErrorKind::input, "the file can't be opened: " + system_reason(error), path.string(),
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

void FileSource::expect_few_reads() {
    ::posix_fadvise(handle_, 0, 0, POSIX_FADV_RANDOM);  // a hint: where it can't be taken, reading costs more
}

Result<std::size_t> FileSource::read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) {
    std::size_t done = 0;
    while (done < buffer.size()) {
        const ssize_t got =
            ::pread(handle_, buffer.data() + done, buffer.size() - done, static_cast<off_t>(offset + done));
        if (got < 0 && errno == EINTR) continue;
        if (got < 0) {
            return fail(ErrorKind::input, "the file can't be read: " + system_reason(errno),
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

}  // namespace wavecrest::base
