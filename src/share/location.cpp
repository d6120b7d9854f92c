#include "share/location.hpp"

#include <fmt/format.h>

#include <algorithm>
#include <cctype>

#include "base/printable.hpp"
#include "net/url.hpp"

namespace wavecrest::share {
namespace {

constexpr std::uint16_t kSmbPort = 445, kNfsPort = 2049;

std::vector<std::string> names_of(std::string_view path) {
    std::vector<std::string> names;
    while (!path.empty()) {
        const std::size_t end = std::min(path.find('/'), path.size());
        if (end > 0) names.emplace_back(path.substr(0, end));
        path.remove_prefix(std::min(end + 1, path.size()));
    }
    return names;
}

}  // namespace

std::string joined(const std::string& folder, const std::string& name) {
    return folder.empty() ? name : name.empty() ? folder : folder + "/" + name;
}

std::uint16_t Location::port_used() const {
    if (port != 0) return port;
    return scheme == base::Scheme::smb ? kSmbPort : kNfsPort;
}

std::vector<std::string> Location::names() const {
    return names_of(path);
}

std::string Location::text_of(const std::string& other_path) const {
    const bool smb = scheme == base::Scheme::smb;
    std::string text = smb ? "smb://" : "nfs://";
    text += net::authority(host, port_used(), smb ? kSmbPort : kNfsPort);
    const auto is_hex = [](char c) { return std::isxdigit(static_cast<unsigned char>(c)) != 0; };
    for (const std::string& part : {share, other_path}) {
        if (part.empty()) continue;
        text += '/';
        // (A name may have in it what looks encoded, and bytes of another encoding than UTF-8.)
        for (std::size_t i = 0; i < part.size();) {
            const bool looks_encoded =
                part[i] == '%' && i + 2 < part.size() && is_hex(part[i + 1]) && is_hex(part[i + 2]);
            const std::size_t size = base::utf8_size(part, i);
            text += looks_encoded ? "%25"
                    : size == 0   ? fmt::format("%{:02X}", static_cast<unsigned char>(part[i]))
                                  : part.substr(i, size);
            i += std::max<std::size_t>(size, 1);
        }
    }
    return text;
}

Result<Location> parse_location(const base::Address& address) {
    const auto wrong = [&](const std::string& what) {
        return fail(ErrorKind::usage, what, address.text(),
                    "write an address such as smb://192.168.1.20/films or nfs://192.168.1.20/export/films");
    };
    if (!address.is_share()) return wrong("this is no address of a share");
    if (const std::size_t at = address.behind_scheme().substr(0, address.behind_scheme().find('/')).find('@');
        at != std::string_view::npos)
        return fail(ErrorKind::usage, "the address must not hold a user name or password",
                    std::string(address.scheme() == base::Scheme::smb ? "smb://" : "nfs://") +
                        std::string(address.behind_scheme().substr(at + 1)),
                    "leave it out, and give the user with --user; the password is asked for");
    // (What begins a query or a fragment in other addresses is part of a name here.)
    std::string plain;
    for (const char c : address.text()) plain += c == '?' ? "%3F" : c == '#' ? "%23" : std::string(1, c);
    WAVECREST_TRY_ASSIGN(parts, net::split_address(plain));
    Location location;
    location.scheme = address.scheme();
    location.host = parts.host;
    location.port = parts.port;
    std::vector<std::string> names = names_of(net::decode_path(parts.rest));
    for (const std::string& name : names) {
        if (name == "." || name == "..") return wrong("the address has \".\" or \"..\" among its names");
        if (std::any_of(name.begin(), name.end(), [](char c) { return static_cast<unsigned char>(c) < 32; }))
            return wrong("a name in the address has control characters");
    }
    if (location.scheme == base::Scheme::smb && !names.empty()) {
        location.share = names.front();
        names.erase(names.begin());
    }
    for (const std::string& name : names) location.path = joined(location.path, name);
    return location;
}

}  // namespace wavecrest::share
