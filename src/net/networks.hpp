// Which addresses may come in: single ones and networks in CIDR notation (RFC 4632, RFC 4291).
#pragma once

#include <array>
#include <string>
#include <vector>

#include "base/result.hpp"

namespace wavecrest::net {

class Networks {
  public:
    // "192.168.1.20", "192.168.1.0/24", "fd00::/8". Kind usage.
    static Result<Networks> parse(const std::vector<std::string>& texts);
    bool empty() const { return list_.empty(); }
    bool contain(const std::string& address) const;

  private:
    struct Network {
        std::array<unsigned char, 16> bytes{};
        int size = 4;  // of the address, bytes
        int prefix = 32;
    };
    std::vector<Network> list_;
};

}  // namespace wavecrest::net
