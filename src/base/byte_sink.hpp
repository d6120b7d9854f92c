// Where written bytes go: a file that appears when it is whole (atomic_file.hpp), memory, or something that takes them
// one after the other.
#pragma once

#include "base/bytes.hpp"
#include "base/result.hpp"

namespace wavecrest::base {

class ByteSink {
  public:
    virtual ~ByteSink() = default;

    virtual Status write(ByteSpan bytes) = 0;  // appends
    virtual std::uint64_t size() const = 0;
    // Nothing more comes: what was written is there for good. Without it nothing remains.
    virtual Status commit() = 0;

    // Whether what was written can be changed; else the following fail.
    virtual bool seeks_back() const = 0;
    virtual Status write_at(std::uint64_t offset, ByteSpan bytes) = 0;  // overwrites bytes already written
    // Puts bytes in front of what was written; cheap where their number is a multiple of block_size().
    virtual Status insert_front(ByteSpan bytes) = 0;
    virtual std::size_t block_size() const = 0;

  protected:
    ByteSink() = default;
    ByteSink(ByteSink&&) = default;
    ByteSink(const ByteSink&) = default;
    ByteSink& operator=(ByteSink&&) = default;
    ByteSink& operator=(const ByteSink&) = default;
};

// Bytes in memory, for those who keep `bytes`. With `seeks` false it takes them as a socket would.
class MemorySink : public ByteSink {
  public:
    explicit MemorySink(ByteVector& bytes, bool seeks = true) : bytes_(bytes), seeks_(seeks) {}

    Status write(ByteSpan more) override {
        bytes_.insert(bytes_.end(), more.begin(), more.end());
        return {};
    }
    std::uint64_t size() const override { return bytes_.size(); }
    Status commit() override { return {}; }
    bool seeks_back() const override { return seeks_; }
    Status write_at(std::uint64_t offset, ByteSpan with) override;
    Status insert_front(ByteSpan before) override;
    std::size_t block_size() const override { return 1; }

  private:
    ByteVector& bytes_;
    bool seeks_;
};

}  // namespace wavecrest::base
