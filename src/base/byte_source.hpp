// Bytes that are read at any offset: files, memory, what comes in over a pipe.
#pragma once

#include <memory>
#include <string>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::base {

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
    // Little will be read, here and there: the system is told to read nothing ahead.
    void expect_few_reads();

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

}  // namespace wavecrest::base
