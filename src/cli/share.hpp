// What the commands of shares have in common.
#pragma once

#include "cli/commands.hpp"
#include "share/account.hpp"
#include "share/location.hpp"

namespace wavecrest::cli {

// Of the options, asked for where the password isn't in a file; or what is kept for the server.
Result<share::Account> account_of(const ShareOptions& options, const share::Location& location);

}  // namespace wavecrest::cli
