#include "base/window_reader.hpp"

#include <algorithm>
#include <cstring>

namespace wavecrest::base {

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

}  // namespace wavecrest::base
