#include "net/http_source.hpp"
#include "base/byte_source.hpp"

#include <fmt/format.h>

#include <algorithm>

namespace wavecrest::net {
namespace {

constexpr std::uint64_t kReadOn = 256 << 10;  // so much is read and dropped rather than asked for anew
constexpr std::size_t kPiece = 64 << 10;
constexpr std::size_t kKept = 32 << 20;  // of what went by, where nothing can be asked for again

class HttpSource : public base::ByteSource {
  public:
    HttpSource(const Url& url) : url_(url), client_(url) {}

    Status open() {
        WAVECREST_TRY(request(0));
        // A server that answers a request for a range with the whole can't be skipped in.
        takes_ranges_ = head_.takes_ranges;
        size_ = head_.full_size > 0 ? head_.full_size : head_.body_size > 0 ? head_.body_size : base::kUnknownSize;
        return {};
    }
    std::uint64_t size() const override { return size_; }
    std::string name() const override { return url_.text(); }
    bool seekable() const override { return takes_ranges_ && size_ != base::kUnknownSize; }

    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> buffer) override {
        if (offset >= size_) return std::size_t{0};
        const std::size_t wanted = static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size(), size_ - offset));
        if (!seekable()) return from_kept(offset, buffer.first(wanted));
        std::size_t done = 0;
        bool retried = false;
        while (done < wanted) {
            const std::uint64_t place = offset + done;
            if (place < position_ || place > position_ + kReadOn || !open_) WAVECREST_TRY(request(place));
            while (position_ < place) {
                std::uint8_t waste[kPiece];
                WAVECREST_TRY_ASSIGN(got, next(std::span(waste).first(static_cast<std::size_t>(
                                              std::min<std::uint64_t>(kPiece, place - position_)))));
                if (got == 0) break;
            }
            auto got = position_ == place ? next(buffer.subspan(done, wanted - done)) : Result<std::size_t>(0);
            if (got && *got > 0) {
                done += *got;
                retried = false;
                continue;
            }
            // The connection ended early: once more from here.
            open_ = false;
            if (std::exchange(retried, true)) {
                if (!got) return fail(std::move(got).error());
                break;
            }
        }
        return done;
    }

  private:
    Status request(std::uint64_t first) {
        auto head = client_.get(first);
        if (!head) {
            Error error = std::move(head).error();
            error.kind = error.kind == ErrorKind::wanting ? ErrorKind::input : error.kind;
            return fail(std::move(error));
        }
        head_ = *head;
        position_ = head_.status == 206 ? first : 0;
        open_ = true;
        return {};
    }
    Result<std::size_t> next(std::span<std::uint8_t> buffer) {
        auto got = client_.read(buffer);
        if (!got) {
            Error error = std::move(got).error();
            error.kind = ErrorKind::input;
            error.where = fmt::format("{}, byte {}", name(), position_);
            return fail(std::move(error));
        }
        position_ += *got;
        return *got;
    }
    // What arrives in order is kept for a while.
    Result<std::size_t> from_kept(std::uint64_t offset, std::span<std::uint8_t> buffer) {
        while (!ended_ && kept_from_ + kept_.size() < offset + buffer.size()) {
            if (kept_.size() > 2 * kKept) {
                kept_.erase(kept_.begin(), kept_.begin() + static_cast<std::ptrdiff_t>(kept_.size() - kKept));
                kept_from_ = position_ - kept_.size();
            }
            const std::size_t before = kept_.size();
            kept_.resize(before + kPiece);
            auto got = next(std::span(kept_).subspan(before));
            kept_.resize(before + (got ? *got : 0));
            if (!got) return fail(std::move(got).error());
            if (*got == 0) {
                ended_ = true;
                size_ = position_;
            }
        }
        if (offset < kept_from_) {
            return fail(ErrorKind::input, "the server does not support seeking (no byte ranges)",
                        fmt::format("{}, byte {}", name(), offset), "save it to a file and name that");
        }
        const std::uint64_t at = offset - kept_from_;
        if (at >= kept_.size()) return std::size_t{0};
        const std::size_t count = static_cast<std::size_t>(std::min<std::uint64_t>(buffer.size(), kept_.size() - at));
        std::copy_n(kept_.begin() + static_cast<std::ptrdiff_t>(at), count, buffer.begin());
        return count;
    }

    Url url_;
    HttpClient client_;
    ResponseHead head_;
    bool takes_ranges_ = false, open_ = false, ended_ = false;
    std::uint64_t size_ = 0, position_ = 0;
    ByteVector kept_;
    std::uint64_t kept_from_ = 0;
};

}  // namespace

Result<std::unique_ptr<base::ByteSource>> open_http(const Url& url) {
    auto source = std::make_unique<HttpSource>(url);
    WAVECREST_TRY(source->open());
    return std::unique_ptr<base::ByteSource>(std::move(source));
}

}  // namespace wavecrest::net
