#include "base/address.hpp"

#include <algorithm>
#include <array>
#include <cctype>

namespace wavecrest::base {
namespace {

using Kind = SchemeTraits::Kind;

constexpr std::array<SchemeTraits, 7> kSchemes = {{{Scheme::http, "http", Kind::web},
                                                   {Scheme::https, "https", Kind::web},
                                                   {Scheme::udp, "udp", Kind::datagrams},
                                                   {Scheme::rtp, "rtp", Kind::datagrams},
                                                   {Scheme::rtmp, "rtmp", Kind::session},
                                                   {Scheme::smb, "smb", Kind::share},
                                                   {Scheme::nfs, "nfs", Kind::share}}};
constexpr std::string_view kBehind = "://";

// The scheme a text begins with; empty: none.
std::string_view scheme_of(std::string_view text) {
    const std::size_t end = text.find(kBehind);
    if (end == std::string_view::npos || end == 0 || std::isalpha(static_cast<unsigned char>(text[0])) == 0) return {};
    const bool plain = std::all_of(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(end), [](char c) {
        return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '+' || c == '-' || c == '.';
    });
    return plain ? text.substr(0, end) : std::string_view();
}

SchemeTraits traits_of(std::string_view text) {
    if (text == "-") return {Scheme::standard_input, "", Kind::local};
    const std::string_view scheme = scheme_of(text);
    if (scheme.empty()) return {};
    const auto same = [&](const SchemeTraits& one) {
        return std::equal(scheme.begin(), scheme.end(), one.name.begin(), one.name.end(), [](char a, char b) {
            return std::tolower(static_cast<unsigned char>(a)) == static_cast<unsigned char>(b);
        });
    };
    const auto found = std::find_if(kSchemes.begin(), kSchemes.end(), same);
    return found != kSchemes.end() ? *found : SchemeTraits{Scheme::unknown, "", Kind::session};
}

}  // namespace

std::span<const SchemeTraits> schemes() {
    return kSchemes;
}

Address::Address(std::string text) : text_(std::move(text)), traits_(traits_of(text_)) {}

std::string_view Address::behind_scheme() const {
    const std::string_view scheme = scheme_of(text_);
    return std::string_view(text_).substr(scheme.empty() ? 0 : scheme.size() + kBehind.size());
}

std::string Address::name() const {
    if (!is_local() && !is_share()) return text_;
    const Path path(text_);
    return path.has_filename() ? path.filename().string() : path.parent_path().filename().string();
}

std::string Address::extension() const {
    return Path(is_web() ? text_.substr(0, text_.find_first_of("?#")) : text_).extension().string();
}

Address without_links(const Address& address) {
    if (!address.is_local()) return address;
    std::error_code error;
    const Path real = std::filesystem::canonical(address.path(), error);
    return error ? absolute_path(address.path()) : real;
}

std::string scheme_names() {
    std::string names;
    for (const SchemeTraits& one : kSchemes) names += (names.empty() ? "" : ", ") + std::string(one.name);
    return names;
}

bool has_scheme(std::string_view text) {
    return !scheme_of(text).empty();
}

bool is_web_address(std::string_view text) {
    return traits_of(text).kind == Kind::web;
}

}  // namespace wavecrest::base
