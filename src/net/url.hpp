// Addresses of streams as RFC 3986 writes them, over Boost.URL: taken apart, put together, resolved. What people type
// and playlists hold may contain what an address can't (spaces, letters beyond ASCII): it is percent-encoded on the
// way.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::net {

// An address of any scheme: where it leads, and what is asked for there.
struct AddressParts {
    std::string scheme;      // lower case
    std::string host;        // IPv6 without its brackets
    std::uint16_t port = 0;  // 0: not given
    std::string rest;        // as written, from the first "/", "?" or "#" behind the host
};
// Kind usage: no scheme, no host, a port that is none; a user name or password, which no protocol here takes.
Result<AddressParts> split_address(std::string_view text);
// The host and port of an address, with brackets around IPv6; without a port that is the scheme's usual one.
std::string authority(const std::string& host, std::uint16_t port, std::uint16_t usual_port);

// Of HTTP.
struct Url {
    std::string host;
    std::uint16_t port = 80;
    std::string target = "/";  // path and query, encoded
    bool secure = false;       // https://
    base::Path trusted;        // a certificate (PEM) accepted besides the system's; empty: none

    std::uint16_t usual_port() const { return secure ? 443 : 80; }
    std::string text() const;
};
// http:// and https://. Kind usage.
Result<Url> parse_url(const std::string& text);

// A reference resolved against the address it was found at (RFC 3986, 5.2); as it is where that address has no scheme,
// or either can't be read.
std::string resolve_uri(const std::string& base, const std::string& reference);

// Percent-decoding (2.1) of a request target's path; the query is cut off. What has malformed escapes stays as it is.
std::string decode_path(std::string_view target);
// Percent-encoding of everything but unreserved characters and "/".
std::string encode_path(std::string_view path);
// The value of the first parameter of that name in a query ("a=1&b=2"), decoded; nothing where there is none.
std::optional<std::string> query_value(std::string_view query, std::string_view name);

}  // namespace wavecrest::net
