// The first words with an SMB server (MS-SMB2): which version it speaks, whether it wants messages signed, and its
// answer to an account, by the status it gives. What libraries tell of a failure is one number for many causes.
#pragma once

#include <cstdint>
#include <optional>
#include <string>

#include "base/result.hpp"
#include "base/time.hpp"
#include "share/account.hpp"

namespace wavecrest::share {

struct SmbGreeting {
    std::uint16_t dialect = 0;  // 0x0202, 0x0210, 0x0300, 0x0302, 0x0311
    bool signing_required = false;
    std::uint32_t largest_read = 0;  // bytes

    std::string version() const;  // "SMB 3.1.1"
};
struct SmbLogon {
    std::uint32_t status = 0;  // MS-ERREF, 2.3.1; 0: let in
    bool as_guest = false;     // let in, but not as the user
    bool encrypted = false;    // the server encrypts everything
    std::string server_name;   // as it calls itself; empty: not told

    bool let_in() const { return status == 0; }
    std::string reason() const;  // of a refusal, for people: "wrong user name or password"
};
struct SmbProbe {
    SmbGreeting greeting;
    std::optional<SmbLogon> logon;
};

// Errors (kind machine): no connection; kind wanting: it isn't a server of SMB 2 or 3, with what it is in `what`.
// `limit`: of each wait.
Result<SmbProbe> probe_smb(const std::string& host, std::uint16_t port, const Account& account, Time limit);

}  // namespace wavecrest::share
