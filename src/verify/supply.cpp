#include "verify/supply.hpp"

#include <algorithm>

#include "base/address.hpp"
#include "net/http_source.hpp"
#include "net/url.hpp"
#include "source/share_input.hpp"

namespace wavecrest::verify {
namespace {

class HttpBody : public Body {
  public:
    explicit HttpBody(net::Url url) : client_(std::move(url)) {}
    Result<net::ResponseHead> get(std::uint64_t from, std::optional<std::uint64_t> last) override {
        return last ? client_.get(from, *last) : client_.get(from);
    }
    Result<std::size_t> read(std::span<std::uint8_t> into) override { return client_.read(into); }
    void close() override { client_.close(); }

  private:
    net::HttpClient client_;
};

class ShareBody : public Body {
  public:
    ShareBody(base::Address address, const Cancel& cancel) : address_(std::move(address)), cancel_(cancel) {}
    Result<net::ResponseHead> get(std::uint64_t from, std::optional<std::uint64_t> last) override {
        if (!file_) {
            auto file = open();
            // (A file that isn't there yet may come; the server's own failures don't pass so.)
            if (!file) return fail(std::move(file).error());
            file_ = std::move(*file);
        }
        at_ = from;
        end_ = last ? std::min(*last + 1, file_->size()) : file_->size();
        net::ResponseHead head;
        head.status = 206;
        head.full_size = file_->size();
        head.takes_ranges = true;
        head.media_type = "file on a share";
        return head;
    }
    Result<std::size_t> read(std::span<std::uint8_t> into) override {
        if (!file_ || at_ >= end_) return std::size_t{0};
        const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), end_ - at_));
        WAVECREST_TRY_ASSIGN(got, file_->read_at(at_, into.first(count)));
        at_ += got;
        return got;
    }
    void close() override { file_.reset(); }

  private:
    Result<std::unique_ptr<base::ByteSource>> open() const {
        WAVECREST_TRY_ASSIGN(opened, source::open_share(address_, &cancel_));
        return opened.share->read(opened.path);
    }

    const base::Address address_;
    const Cancel& cancel_;
    std::unique_ptr<base::ByteSource> file_;
    std::uint64_t at_ = 0, end_ = 0;
};

}  // namespace

Result<Supply> supply_of(const std::string& address, const base::Path& trusted, const Cancel& cancel) {
    const base::Address place(address);
    if (place.is_share()) {
        Supply supply{address, place.scheme() == base::Scheme::smb ? "smb" : "nfs", {}, {}};
        supply.body = [place, &cancel] { return std::make_unique<ShareBody>(place, cancel); };
        supply.file = [place, &cancel]() -> Result<std::shared_ptr<base::ByteSource>> {
            WAVECREST_TRY_ASSIGN(opened, source::open_share(place, &cancel));
            WAVECREST_TRY_ASSIGN(file, opened.share->read(opened.path));
            return std::shared_ptr<base::ByteSource>(std::move(file));
        };
        return supply;
    }
    WAVECREST_TRY_ASSIGN(url, net::parse_url(address));
    url.trusted = trusted;
    Supply supply{url.text(), url.secure ? "https" : "http", {}, {}};
    supply.body = [url] { return std::make_unique<HttpBody>(url); };
    supply.file = [url]() -> Result<std::shared_ptr<base::ByteSource>> {
        WAVECREST_TRY_ASSIGN(opened, net::open_http(url));
        return std::shared_ptr<base::ByteSource>(std::move(opened));
    };
    return supply;
}

}  // namespace wavecrest::verify
