#include "share/account.hpp"

#include <fmt/format.h>
#include <sys/stat.h>

#include <algorithm>

#include "base/atomic_file.hpp"
#include "base/config.hpp"

namespace wavecrest::share {
namespace {

// Hosts and shares are the same in any letters.
bool same(std::string_view a, std::string_view b) {
    const auto low = [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : c; };
    return std::equal(a.begin(), a.end(), b.begin(), b.end(), [&](char x, char y) { return low(x) == low(y); });
}

// A basic string of TOML.
std::string quoted(const std::string& text) {
    std::string out = "\"";
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        if (c == '"' || c == '\\') out += '\\';
        out += u < 32 || u == 127 ? fmt::format("\\u{:04X}", u) : std::string(1, c);
    }
    return out + "\"";
}

}  // namespace

Account account_of(const std::string& user, const std::string& password) {
    Account account;
    const std::size_t mark = user.find('\\');
    if (mark != std::string::npos) account.domain = user.substr(0, mark);
    account.user = mark == std::string::npos ? user : user.substr(mark + 1);
    account.password = password;
    return account;
}

base::Path accounts_file() {
    return base::state_folder() / "share-accounts.toml";
}

Result<Accounts> Accounts::load(const base::Path& file) {
    Accounts accounts;
    std::error_code error;
    if (!std::filesystem::exists(file, error)) return accounts;
    struct stat info {};
    if (::stat(file.c_str(), &info) == 0 && (info.st_mode & (S_IRWXG | S_IRWXO)) != 0)
        return fail(ErrorKind::machine, "passwords are in this file, and others may read it", file.string(),
                    fmt::format("keep it for yourself: chmod 600 '{}'", file.string()));
    WAVECREST_TRY_ASSIGN(text, base::read_text_file(file));
    WAVECREST_TRY_ASSIGN(root, base::ConfigTable::parse(text, file.string()));
    for (base::ConfigTable& table : root.tables("account")) {
        Entry entry;
        entry.server = table.text("server");
        entry.share = table.text("share", "");
        entry.account.user = table.text("user");
        entry.account.password = table.text("password", "");
        entry.account.domain = table.text("domain", "");
        table.finish();
        accounts.entries_.push_back(std::move(entry));
    }
    root.finish();
    return root.complete(Result<Accounts>(std::move(accounts)));
}

Status Accounts::keep(const base::Path& file, const Location& of, const Account& account) {
    WAVECREST_TRY_ASSIGN(accounts, load(file));
    std::erase_if(accounts.entries_,
                  [&](const Entry& one) { return same(one.server, of.host) && same(one.share, of.share); });
    accounts.entries_.push_back({of.host, of.share, account});
    std::string text = "# Accounts of file servers: keep this file to yourself.\n";
    for (const Entry& one : accounts.entries_) {
        text += fmt::format("\n[[account]]\nserver = {}\n", quoted(one.server));
        if (!one.share.empty()) text += fmt::format("share = {}\n", quoted(one.share));
        text += fmt::format("user = {}\npassword = {}\n", quoted(one.account.user), quoted(one.account.password));
        if (!one.account.domain.empty()) text += fmt::format("domain = {}\n", quoted(one.account.domain));
    }
    // (Made for this user alone from its first byte on.)
    const mode_t before = ::umask(077);
    const auto written = [&]() -> Status {
        WAVECREST_TRY_ASSIGN(out, base::AtomicFile::create(file, base::AtomicFile::IfExists::replace));
        WAVECREST_TRY(out.write(base::as_bytes(text)));
        return out.commit();
    }();
    ::umask(before);
    WAVECREST_TRY(written);
    std::error_code error;
    std::filesystem::permissions(file, std::filesystem::perms::owner_read | std::filesystem::perms::owner_write, error);
    return {};
}

Account Accounts::find(const Location& location) const {
    const Entry* best = nullptr;
    for (const Entry& one : entries_) {
        if (!same(one.server, location.host)) continue;
        if (same(one.share, location.share)) return one.account;
        if (one.share.empty()) best = &one;
    }
    return best != nullptr ? best->account : Account{};
}

}  // namespace wavecrest::share
