// Who asks a file server: accounts of servers, in a file of this user that nobody else may read. Passwords are in no
// message, address or result.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "share/location.hpp"

namespace wavecrest::share {

// An empty user is a guest.
struct Account {
    std::string user;
    std::string password;
    std::string domain;  // the workgroup or domain the account is of; empty: the server's own

    bool is_guest() const { return user.empty(); }
};
// "HOME\owner" has its domain in front.
Account account_of(const std::string& user, const std::string& password);

// [[account]] tables with server, share (empty: all of the server's), user, password, domain.
class Accounts {
  public:
    // None where there is no such file. Fails (kind machine) where others may read it, or (kind usage) as configuration
    // files do.
    static Result<Accounts> load(const base::Path& file);
    // Replaces or adds one; the file is made, for this user alone.
    static Status keep(const base::Path& file, const Location& of, const Account& account);
    // The one for a share, or for its server; a guest where there is none.
    Account find(const Location& location) const;

  private:
    struct Entry {
        std::string server, share;
        Account account;
    };
    std::vector<Entry> entries_;
};
// In the state folder (base/file.hpp).
base::Path accounts_file();

}  // namespace wavecrest::share
