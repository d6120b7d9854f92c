// Where a film's file comes from: a web server, or a share that a device plays from directly.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>

#include "base/byte_source.hpp"
#include "base/cancel.hpp"
#include "base/result.hpp"
#include "net/http_client.hpp"

namespace wavecrest::verify {

// The bytes of a file, in order, from where they were asked for.
class Body {
  public:
    virtual ~Body() = default;
    // From this byte on, to `last` where it is given. Errors as net::HttpClient::get() and share::Share have them.
    virtual Result<net::ResponseHead> get(std::uint64_t from, std::optional<std::uint64_t> last = {}) = 0;
    // 0 at the end.
    virtual Result<std::size_t> read(std::span<std::uint8_t> into) = 0;
    virtual void close() = 0;
};

struct Supply {
    std::string address, protocol;  // of device::Device::protocols: "http", "https", "smb", "nfs"
    std::function<std::unique_ptr<Body>()> body;
    std::function<Result<std::shared_ptr<base::ByteSource>>()> file;
};

// http, https, smb or nfs. Kind usage for others.
Result<Supply> supply_of(const std::string& address, const base::Path& trusted, const Cancel& cancel);

}  // namespace wavecrest::verify
