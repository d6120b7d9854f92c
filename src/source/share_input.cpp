#include "source/share_input.hpp"

#include <algorithm>
#include <cerrno>
#include <map>
#include <tuple>

#include "base/mutex.hpp"
#include "share/account.hpp"
#include "source/input.hpp"

namespace wavecrest::source {
namespace {

class ShareFiles : public disc::DiscFiles {
  public:
    ShareFiles(OpenedShare opened, const disc::ReadSettings& settings)
        : opened_(std::move(opened)), settings_(settings) {}

    std::string path() const override { return opened_.share->location().text_of(opened_.path); }
    std::string label() const override {
        return opened_.path.empty() ? opened_.share->location().share : base::Path(opened_.path).filename().string();
    }
    Result<std::vector<Entry>> list(const std::string& folder) const override {
        WAVECREST_TRY_ASSIGN(real, real_path(folder));
        WAVECREST_TRY_ASSIGN(found, opened_.share->list(real));
        std::vector<Entry> entries;
        for (const share::Entry& one : found) entries.push_back({one.name, one.folder, one.size});
        return entries;
    }
    Result<std::unique_ptr<base::ByteSource>> open(const std::string& file) const override {
        WAVECREST_TRY_ASSIGN(real, real_path(file));
        WAVECREST_TRY_ASSIGN(bytes, opened_.share->read(real));
        return std::unique_ptr<base::ByteSource>(
            std::make_unique<base::RetryingSource>(std::move(bytes), settings_.retries));
    }

  private:
    // With each name as the server has it: copies of discs change the case.
    Result<std::string> real_path(const std::string& path) const {
        std::string real = opened_.path;
        std::size_t at = 0;
        while (at < path.size()) {
            const std::size_t end = std::min(path.find('/', at), path.size());
            const std::string name = path.substr(at, end - at);
            at = end + 1;
            WAVECREST_TRY_ASSIGN(entries, opened_.share->list(real));
            const auto found = std::find_if(entries.begin(), entries.end(),
                                            [&](const share::Entry& one) { return disc::same_name(one.name, name); });
            if (found == entries.end())
                return fail(ErrorKind::input, "there is no such file or folder on the server",
                            opened_.share->location().text_of(share::joined(real, name)),
                            "copy the disc to the share again");
            real = share::joined(real, found->name);
        }
        return real;
    }

    const OpenedShare opened_;
    const disc::ReadSettings settings_;
};

// One of few connections to a share, with those who are at it already; the one that fewest use.
Result<std::shared_ptr<share::Share>> shared_connection(const share::Location& location, const share::Account& account,
                                                        const Cancel* cancel) {
    constexpr std::size_t kMost = 4;
    using Key = std::tuple<std::string, std::string, std::string, const Cancel*>;
    static base::Mutex mutex;
    static std::map<Key, std::vector<std::weak_ptr<share::Share>>> connections;
    const base::MutexLock lock(mutex);
    auto& there = connections[Key(location.root(), account.user, account.password, cancel)];
    std::erase_if(there, [](const auto& one) { return one.expired(); });
    static std::shared_ptr<share::Share> latest;  // (Others are as long as their Cancel is.)
    const auto fewest = std::min_element(there.begin(), there.end(),
                                         [](const auto& a, const auto& b) { return a.use_count() < b.use_count(); });
    if (fewest != there.end()) {
        auto found = fewest->lock();
        const bool idle = found && found == latest && found.use_count() == 2;
        if (found && (idle || there.size() >= kMost)) return found;
    }
    share::Location root = location;
    root.path.clear();
    share::Limits limits;
    limits.cancel = cancel;
    WAVECREST_TRY_ASSIGN(opened, share::Share::open(root, account, limits));
    there.push_back(opened);
    // Who looks at many files one after the other logs on once.
    if (cancel == nullptr) latest = opened;
    return opened;
}

// What is at a path. A connection that was kept may have been lost since it was last used.
Result<share::Entry> look(const share::Share& share, const std::string& path) {
    const auto ask = [&] {
        return share.connection().ask<share::Entry>([path](share::Client& client) { return client.look(path); });
    };
    auto entry = ask();
    if (!entry && share::is_lost_connection(entry.error()) && entry.error() != ETIMEDOUT) {
        share.connection().restart();
        entry = ask();
    }
    if (!entry) return fail(share.error(entry.error(), path));
    return *std::move(entry);
}

}  // namespace

Result<OpenedShare> open_share(const base::Address& address, const Cancel* cancel) {
    WAVECREST_TRY_ASSIGN(location, share::parse_location(address));
    WAVECREST_TRY_ASSIGN(accounts, share::Accounts::load(share::accounts_file()));
    WAVECREST_TRY_ASSIGN(opened, shared_connection(location, accounts.find(location), cancel));
    WAVECREST_TRY_ASSIGN(entry, look(*opened, location.path));
    return OpenedShare{std::move(opened), std::move(entry), location.path};
}

Result<std::unique_ptr<base::ByteSource>> open_file(const base::Address& file) {
    if (file.is_share()) {
        WAVECREST_TRY_ASSIGN(opened, open_share(file, nullptr));
        return opened.share->read(opened.path);
    }
    WAVECREST_TRY_ASSIGN(here, base::FileSource::open(file.path()));
    return std::unique_ptr<base::ByteSource>(std::make_unique<base::FileSource>(std::move(here)));
}

std::optional<std::int64_t> bit_rate_on_share(const base::Address& address, const share::Account& account,
                                              const Cancel& cancel) {
    const auto location = share::parse_location(address);
    if (!location) return std::nullopt;
    share::Limits limits;
    limits.cancel = &cancel;
    const auto opened = share::Share::open(*location, account, limits);
    if (!opened) return std::nullopt;
    auto bytes = (*opened)->read(location->path);
    if (!bytes) return std::nullopt;
    const auto input = open_input(std::shared_ptr<base::ByteSource>(std::move(*bytes)), address.text());
    if (!input) return std::nullopt;
    const Title& title = (*input)->titles().front();
    if (title.duration.count() <= 0) return std::nullopt;
    return static_cast<std::int64_t>(static_cast<double>(title.size_bytes) * 8 / base::to_seconds(title.duration));
}

std::shared_ptr<disc::DiscFiles> share_files(OpenedShare opened, const disc::ReadSettings& settings) {
    return std::make_shared<ShareFiles>(std::move(opened), settings);
}

}  // namespace wavecrest::source
