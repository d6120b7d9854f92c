// The messages by which NTLM version 2 logs on (MS-NLMP): enough to hear a server's answer to an account.
#pragma once

#include <array>
#include <cstdint>
#include <string>

#include "base/bytes.hpp"
#include "base/result.hpp"
#include "share/account.hpp"

namespace wavecrest::share::ntlm {

using Key = std::array<std::uint8_t, 16>;
using Nonce = std::array<std::uint8_t, 8>;

// 3.3.2: NTOWFv2. Text is UTF-8; what is not is taken for Latin-1.
Key response_key(const Account& account);
// 3.3.2: the NT response to a server's challenge. `time`: 100 ns since 1601.
ByteVector response(const Key& key, const Nonce& server, const Nonce& client, std::uint64_t time, ByteSpan target_info);

// 2.2.1.1
ByteVector negotiate();
// 2.2.1.2: what is used of it.
struct Challenge {
    Nonce server{};
    ByteVector target_info;        // AV pairs (2.2.2.1)
    std::uint64_t time = 0;        // of them; 0: not told
    std::string domain, computer;  // the server's own names, as it tells them
};
// Kind input: no such message.
Result<Challenge> parse_challenge(ByteSpan message);
// 2.2.1.3; of a guest the anonymous form. `client`: unforeseeable.
ByteVector authenticate(const Account& account, const Challenge& challenge, const Nonce& client);

ByteVector utf16(const std::string& text);
std::string utf8(ByteSpan utf16_little);

}  // namespace wavecrest::share::ntlm
