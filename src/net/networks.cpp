#include "net/networks.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>

#include <charconv>

namespace wavecrest::net {
namespace {

// The number of bytes; 0 when it is no address.
int read_address(const std::string& text, std::array<unsigned char, 16>& bytes) {
    if (::inet_pton(AF_INET, text.c_str(), bytes.data()) == 1) return 4;
    if (::inet_pton(AF_INET6, text.c_str(), bytes.data()) == 1) return 16;
    return 0;
}

}  // namespace

Result<Networks> Networks::parse(const std::vector<std::string>& texts) {
    Networks networks;
    for (const std::string& text : texts) {
        Network network;
        const std::size_t slash = text.find('/');
        network.size = read_address(text.substr(0, slash), network.bytes);
        network.prefix = network.size * 8;
        bool good = network.size > 0;
        if (good && slash != std::string::npos) {
            const char* const end = text.data() + text.size();
            const auto [rest, error] = std::from_chars(text.data() + slash + 1, end, network.prefix);
            good = error == std::errc{} && rest == end && network.prefix >= 0 && network.prefix <= network.size * 8;
        }
        if (!good)
            return fail(ErrorKind::usage, fmt::format("\"{}\" isn't an IP address or network", text),
                        "addresses let in", "write 192.168.1.20, or 192.168.1.0/24 for a subnet");
        networks.list_.push_back(network);
    }
    return networks;
}

bool Networks::contain(const std::string& address) const {
    std::array<unsigned char, 16> bytes{};
    const int size = read_address(address, bytes);
    for (const Network& network : list_) {
        if (network.size != size) continue;
        bool same = true;
        for (int bit = 0; bit < network.prefix && same; bit += 8) {
            const int left = network.prefix - bit;
            const auto mask = static_cast<unsigned>(left >= 8 ? 0xFF : 0xFF00 >> left) & 0xFF;
            const auto at = static_cast<std::size_t>(bit / 8);
            same = (bytes[at] & mask) == (network.bytes[at] & mask);
        }
        if (same) return true;
    }
    return false;
}

}  // namespace wavecrest::net
