#include "net/url.hpp"
#include "base/address.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <boost/url/encode.hpp>
#include <boost/url/parse.hpp>
#include <boost/url/rfc/pchars.hpp>
#include <boost/url/rfc/unreserved_chars.hpp>
#include <boost/url/url.hpp>
#include <cctype>
#include <charconv>

namespace wavecrest::net {
namespace {

namespace urls = boost::urls;

constexpr std::string_view kPlainScheme = "http://", kSecureScheme = "https://";

urls::string_view view(std::string_view text) {
    return {text.data(), text.size()};
}
std::string decoded(std::string_view text) {
    const auto encoded = urls::make_pct_string_view(view(text));
    return encoded ? encoded->decode() : std::string(text);
}
// With what is no character of an address encoded, a percent sign that begins no escape too; delimiters stay.
std::string encoded(std::string_view text) {
    const auto hex = [&](std::size_t at) {
        return at < text.size() && std::isxdigit(static_cast<unsigned char>(text[at])) != 0;
    };
    // (The library takes no percent sign for a character that stays.)
    std::string escaped;
    for (std::size_t i = 0; i < text.size();) {
        const std::size_t end = std::min(text.find('%', i), text.size());
        escaped += urls::encode(view(text.substr(i, end - i)), urls::pchars + "/?#[]");
        if (end < text.size()) escaped += hex(end + 1) && hex(end + 2) ? "%" : "%25";
        i = end + 1;
    }
    return escaped;
}

}  // namespace

Result<AddressParts> split_address(std::string_view text) {
    const auto wrong = [&](const char* what) {
        return fail(ErrorKind::usage, what, std::string(text),
                    "write an address such as http://192.168.1.10:8080/film.mp4");
    };
    const std::size_t scheme = text.find("://");
    if (scheme == std::string_view::npos || scheme == 0) return wrong("the address has no scheme such as http://");
    const std::size_t end = std::min(text.find_first_of("/?#", scheme + 3), text.size());
    std::string front(text.substr(0, end));
    // A zone of a link-local address (RFC 6874), which goes to the resolver as it is.
    std::string zone;
    if (const std::size_t mark = front.find('%'), close = front.find(']');
        mark != std::string::npos && close != std::string::npos && mark < close && front[scheme + 3] == '[') {
        zone = decoded(std::string_view(front).substr(mark, close - mark));
        front.erase(mark, close - mark);
        if (zone.size() < 2) return wrong("the address has no valid zone behind its IP address");
    }
    const auto parsed = urls::parse_uri(front);
    if (!parsed || !parsed->encoded_path().empty()) {
        const std::size_t colon = front.rfind(':');
        const bool port = colon > scheme && front.find_first_of("[]", scheme) == std::string::npos;
        return wrong(port ? "the address has no valid port" : "the address has no valid host");
    }
    if (parsed->has_userinfo()) return wrong("user names and passwords in an address are not supported");
    AddressParts parts;
    parts.scheme = std::string(parsed->scheme());
    std::transform(parts.scheme.begin(), parts.scheme.end(), parts.scheme.begin(),
                   [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; });
    parts.host = parsed->host_address() + zone;
    if (parts.host.empty()) return wrong("the address has no host");
    // (The library's own number is wrong for what is too large.)
    const std::string port(parsed->port());
    const auto [rest, error] = std::from_chars(port.data(), port.data() + port.size(), parts.port);
    if (!port.empty() && (error != std::errc{} || parts.port == 0)) return wrong("the address has no valid port");
    parts.rest = std::string(text.substr(end));
    return parts;
}

std::string authority(const std::string& host, std::uint16_t port, std::uint16_t usual_port) {
    const bool ipv6 = host.find(':') != std::string::npos;
    // A link-local address goes with the name of an interface, which means nothing to the other end.
    return fmt::format("{}{}{}{}", ipv6 ? "[" : "", host.substr(0, host.find('%')), ipv6 ? "]" : "",
                       port == usual_port ? "" : fmt::format(":{}", port));
}

std::string Url::text() const {
    return fmt::format("{}{}{}", secure ? kSecureScheme : kPlainScheme, authority(host, port, usual_port()), target);
}

Result<Url> parse_url(const std::string& text) {
    if (!base::is_web_address(text))
        return fail(ErrorKind::usage, "the address does not begin with http:// or https://", text,
                    "write an address such as http://192.168.1.10:8080/film.mp4");
    WAVECREST_TRY_ASSIGN(parts, split_address(text));
    Url url;
    url.secure = parts.scheme == "https";
    url.host = parts.host;
    url.port = parts.port != 0 ? parts.port : url.usual_port();
    url.target = encoded(parts.rest.substr(0, parts.rest.find('#')));
    if (!url.target.starts_with('/')) url.target.insert(0, "/");
    return url;
}

std::string resolve_uri(const std::string& base, const std::string& reference) {
    const std::string base_text = encoded(base), reference_text = encoded(reference);
    const auto from = urls::parse_uri(base_text);
    const auto to = urls::parse_uri_reference(reference_text);
    if (!from || !from->has_authority() || !to) return reference;
    urls::url resolved(*from);
    if (!resolved.resolve(*to)) return reference;
    // What leads above the root stays at the root (5.2.4), which the library leaves in.
    while (resolved.encoded_path() == "/.." || resolved.encoded_path().starts_with("/../")) {
        const std::string above(resolved.encoded_path().substr(3));
        resolved.set_encoded_path(above.empty() ? "/" : above);
    }
    return std::string(resolved.buffer());
}

std::string decode_path(std::string_view target) {
    return decoded(target.substr(0, target.find_first_of("?#")));
}

std::string encode_path(std::string_view path) {
    return urls::encode(view(path), urls::unreserved_chars + '/');
}

std::optional<std::string> query_value(std::string_view query, std::string_view name) {
    for (std::size_t at = 0; at <= query.size();) {
        const std::size_t end = std::min(query.find('&', at), query.size());
        const std::string_view one = query.substr(at, end - at);
        if (one.size() > name.size() && one.starts_with(name) && one[name.size()] == '=')
            return decoded(one.substr(name.size() + 1));
        at = end + 1;
    }
    return std::nullopt;
}

}  // namespace wavecrest::net
