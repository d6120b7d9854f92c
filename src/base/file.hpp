// Files: random-access reading, and output that appears under its final name only when it is whole.
#pragma once

#include <filesystem>
#include <memory>
#include <string>

#include "base/bytes.hpp"
#include "base/result.hpp"

namespace wavecrest::base {

using Path = std::filesystem::path;

// A byte source of known size, read at any offset.
class ByteSource {
  public:
    virtual ~ByteSource() = default;
    virtual std::uint64_t size() const = 0;
    // A name for messages: the path or address.
    virtual std::string name() const = 0;
    // Reads up to buffer.size() bytes at `offset`; fewer only at the end. Fails with the byte offset in `where`.
    virtual Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) = 0;
    // Whether any offset can be read at any time at little cost. Pipes can't: their size is kUnknownSize, and only what
    // lies a little behind the furthest byte read so far can be read again.
    virtual bool seekable() const { return true; }
};
inline constexpr std::uint64_t kUnknownSize = ~std::uint64_t{0};

// `count` bytes at `offset`; fails when the source is shorter.
Result<ByteVector> read_exactly(ByteSource& source, std::uint64_t offset, std::size_t count);

class FileSource : public ByteSource {
  public:
    // Fails when the file is missing, unreadable, a folder, or no regular file.
    static Result<FileSource> open(const Path& path);
    FileSource(FileSource&& other) noexcept;
    FileSource& operator=(FileSource&& other) noexcept;
    ~FileSource() override;

    std::uint64_t size() const override { return size_; }
    std::string name() const override { return path_.string(); }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override;

  private:
    FileSource(Path path, int handle, std::uint64_t size) : path_(std::move(path)), handle_(handle), size_(size) {}

    Path path_;
    int handle_ = -1;
    std::uint64_t size_ = 0;
};

// Tries a failed read again before it fails for good (scratched discs, shares that drop out for a moment).
class RetryingSource : public ByteSource {
  public:
    // `retries` more attempts after the first, 0 to 100.
    RetryingSource(std::unique_ptr<ByteSource> source, int retries) : source_(std::move(source)), retries_(retries) {}
    std::uint64_t size() const override { return source_->size(); }
    std::string name() const override { return source_->name(); }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override;

  private:
    std::unique_ptr<ByteSource> source_;
    int retries_;
};

// Bytes in memory as a source (tests; small headers fetched over the network).
class MemorySource : public ByteSource {
  public:
    explicit MemorySource(ByteVector bytes, std::string name = "memory")
        : bytes_(std::move(bytes)), name_(std::move(name)) {}
    std::uint64_t size() const override { return bytes_.size(); }
    std::string name() const override { return name_; }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override;

  private:
    ByteVector bytes_;
    std::string name_;
};

// What comes in over a pipe (standard input), read once from beginning to end. The first megabytes stay readable until
// the reader has gone well past them, and a few megabytes behind the furthest byte always are; further back fails.
class PipeSource : public ByteSource {
  public:
    // Doesn't close the handle. `name` is for messages.
    PipeSource(int handle, std::string name) : handle_(handle), name_(std::move(name)) {}
    std::uint64_t size() const override { return ended_ ? end_ : kUnknownSize; }
    std::string name() const override { return name_; }
    bool seekable() const override { return false; }
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override;

  private:
    int handle_;
    std::string name_;
    ByteVector held_;  // the bytes from start_ to end_
    std::uint64_t start_ = 0, end_ = 0;
    bool ended_ = false;
};

// Reads a source front to back through a window, so that small pieces cost no call each. The window is small after a
// leap and grows up to `window` bytes while reading goes on near by: looking at a place of a file on a slow share costs
// what is looked at.
class WindowReader {
  public:
    explicit WindowReader(std::shared_ptr<ByteSource> source, std::size_t window = 1 << 20)
        : source_(std::move(source)), window_(window) {}

    ByteSource& source() const { return *source_; }
    std::uint64_t size() const { return source_->size(); }
    // Up to `count` bytes at `offset`, fewer only at the end; valid until the next call.
    Result<ByteSpan> view(std::uint64_t offset, std::size_t count);

  private:
    std::shared_ptr<ByteSource> source_;
    std::size_t window_;
    ByteVector buffer_;
    std::uint64_t start_ = 0;
    std::size_t filled_ = 0;
    std::size_t ahead_ = 0;  // read at once
};

// A whole file of at most `limit` bytes, as text.
Result<std::string> read_text_file(const Path& path, std::size_t limit = 4 << 20);

// Opens a file for reading: without waiting for a pipe's other end, and not when a link stands in the path now. For
// paths that were looked up earlier (std::filesystem::canonical): a file or folder replaced by a link since isn't
// followed. -1 with errno, as open(2).
int open_without_links(const Path& path);

// Whether a file lies on a share or another program's file system, where any look at it may wait for somebody else.
bool may_be_remote(int handle);
// Whether `count` bytes at `offset` of a file are in memory (the page cache), as far as can be told without reading
// them: all pages by cachestat(2); `by_probes`, as of kernels before 6.5, one in sixteen. False where the file system
// can't tell.
bool is_in_memory(int handle, std::uint64_t offset, std::size_t count, bool by_probes = false);

// An absolute form of a path that need not exist; the path itself where the working folder is gone.
Path absolute_path(const Path& path);

// Writes beside the target under a hidden temporary name that nobody can foresee (.NAME.16-HEX-DIGITS.part, opened
// anew or not at all, never through a link); commit() makes it durable and renames it. Destroyed without commit (error,
// Ctrl-C) it leaves nothing behind. What a killed process left is removed by the next that writes in the same folder:
// the living hold a lock on theirs (see removed_leftovers()).
class AtomicFile {
  public:
    enum class IfExists { refuse, replace };

    // Makes missing parent folders (removed again if the file is not committed). With `refuse`, fails when the
    // target exists already.
    static Result<AtomicFile> create(const Path& target, IfExists if_exists);
    AtomicFile(AtomicFile&& other) noexcept;
    AtomicFile& operator=(AtomicFile&&) = delete;
    ~AtomicFile();

    Status write(ByteSpan bytes);                           // appends
    Status write_at(std::uint64_t offset, ByteSpan bytes);  // overwrites bytes already written
    std::uint64_t size() const { return size_; }
    // Puts `count` bytes in front of what has been written, without copying it where the file system can
    // (then `count` must be a multiple of its block size), else by moving it. Call block_size() for the multiple.
    Status insert_front(ByteSpan bytes);
    std::size_t block_size() const;
    Status commit();

  private:
    AtomicFile(Path target, Path temporary, int handle, IfExists if_exists, std::vector<Path> made_folders)
        : target_(std::move(target)),
          temporary_(std::move(temporary)),
          made_folders_(std::move(made_folders)),
          handle_(handle),
          if_exists_(if_exists) {}
    Status failed(const char* doing) const;

    Path target_;
    Path temporary_;
    std::vector<Path> made_folders_;
    int handle_ = -1;
    IfExists if_exists_;
    std::uint64_t size_ = 0;
};

// A folder filled under a hidden temporary name beside the target; commit() gives it its own. Destroyed without commit
// (error, Ctrl-C) it leaves nothing behind; killed, as AtomicFile.
class AtomicFolder {
  public:
    // Fails (kind machine) when the target exists already or can't be made.
    static Result<AtomicFolder> create(const Path& target);
    AtomicFolder(AtomicFolder&& other) noexcept;
    AtomicFolder& operator=(AtomicFolder&&) = delete;
    ~AtomicFolder();

    const Path& target() const { return target_; }
    // Where to put files until then.
    const Path& path() const { return temporary_; }
    Status commit();

  private:
    AtomicFolder(Path target, Path temporary, int lock)
        : target_(std::move(target)), temporary_(std::move(temporary)), lock_(lock) {}

    Path target_, temporary_;
    int lock_ = -1;  // on the temporary folder
};

// Writes a whole small file atomically.
Status write_file(const Path& target, ByteSpan bytes, AtomicFile::IfExists if_exists);

// Unfinished files and folders of killed processes that were removed since the last call, for people to know of.
std::vector<Path> removed_leftovers();

// Removes temporary files that AtomicFile has open right now; for the second Ctrl-C, when the program must go at once.
void remove_unfinished_files() noexcept;

}  // namespace wavecrest::base
