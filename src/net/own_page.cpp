#include "net/own_page.hpp"

#include <unistd.h>

#include <algorithm>
#include <array>
#include <cctype>

namespace wavecrest::net {

bool is_own_host(const HttpRequest& request, const std::string& announced) {
    const std::string field(request.field("Host"));
    std::string host = field.starts_with("[") ? field.substr(0, field.find(']') + 1) : field.substr(0, field.find(':'));
    std::transform(host.begin(), host.end(), host.begin(), [](unsigned char c) { return std::tolower(c); });
    if (host.ends_with('.')) host.pop_back();
    std::array<char, 256> name{};
    ::gethostname(name.data(), name.size() - 1);
    std::string own(name.data());
    std::transform(own.begin(), own.end(), own.begin(), [](unsigned char c) { return std::tolower(c); });
    const bool address = host.starts_with("[") || host.find_first_not_of("0123456789.") == std::string::npos;
    return address || host == "localhost" || host == own || host == announced || host.ends_with(".local") ||
           host.ends_with(".home.arpa");
}

HttpReply guarded(HttpReply reply) {
    reply.any_origin = false;
    reply.fields = {{"X-Content-Type-Options", "nosniff"},
                    {"Referrer-Policy", "no-referrer"},
                    {"Content-Security-Policy", "frame-ancestors 'none'; base-uri 'none'; form-action 'none'"},
                    {"X-Frame-Options", "DENY"}};
    return reply;
}

}  // namespace wavecrest::net
