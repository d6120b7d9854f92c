#pragma once

#include <memory>

#include "base/byte_source.hpp"

namespace wavecrest::base {

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

}  // namespace wavecrest::base
