#include "convert/share_folder.hpp"

#include <fmt/format.h>

#include <cctype>

#include "base/address.hpp"
#include "base/byte_source.hpp"
#include "convert/convert.hpp"
#include "share/account.hpp"
#include "share/upload.hpp"
#include "source/digest.hpp"

namespace wavecrest::convert {
namespace {

// Readable, and another for each address.
std::string folder_name(const share::Location& at) {
    std::string name;
    for (const char c : at.text()) {
        const bool plain = std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '.';
        if (plain || (!name.empty() && name.back() != '-')) name += plain ? c : '-';
    }
    constexpr std::size_t kMost = 100, kDigits = 8;
    return name.substr(0, kMost) + "-" + source::text_digest(at.text()).substr(0, kDigits);
}

}  // namespace

ShareFolder::ShareFolder(std::shared_ptr<share::Share> share, std::string path)
    : share_(std::move(share)), path_(std::move(path)) {
    share::Location at = share_->location();
    at.path = path_;
    outbox_ = base::state_folder() / "outbox" / folder_name(at);
}

Result<std::shared_ptr<const ShareFolder>> ShareFolder::open(const std::string& address, const Cancel* cancel) {
    WAVECREST_TRY_ASSIGN(location, share::parse_location(base::Address(address)));
    WAVECREST_TRY_ASSIGN(accounts, share::Accounts::load(share::accounts_file()));
    share::Location root = location;
    root.path.clear();
    share::Limits limits;
    limits.reconnect = base::from_seconds(120);
    limits.cancel = cancel;
    WAVECREST_TRY_ASSIGN(share, share::Share::open(root, accounts.find(location), limits));
    // (That its top can be listed shows that somebody may go in.)
    WAVECREST_TRY(share->look(""));
    std::shared_ptr<const ShareFolder> folder(new ShareFolder(std::move(share), location.path));
    std::string path;
    for (const std::string& name : location.names()) {
        path = share::joined(path, name);
        const auto entry = folder->share_->look(path);
        if (!entry && entry.error().kind == ErrorKind::input) break;
        if (!entry) return fail(entry.error());
        if (!entry->folder)
            return fail(ErrorKind::machine, "a file is there, and no folder", folder->share_->location().text_of(path),
                        "name another folder with --into");
    }
    return folder;
}

std::string ShareFolder::path_of(const base::Path& made) const {
    return share::joined(path_, made.lexically_relative(outbox_).generic_string());
}

std::string ShareFolder::address_of(const base::Path& made) const {
    return share_->location().text_of(path_of(made));
}

Result<std::optional<std::uint64_t>> ShareFolder::size_of(const base::Path& made) const {
    const auto entry = share_->look(path_of(made));
    if (entry) return std::optional(entry->size);
    // (What isn't there and what isn't shown are the same to who wants to write.)
    if (entry.error().kind == ErrorKind::input) return std::nullopt;
    return fail(entry.error());
}

Result<std::string> ShareFolder::text_of(const base::Path& made) const {
    constexpr std::uint64_t kMost = 1 << 20;
    WAVECREST_TRY_ASSIGN(file, share_->read(path_of(made)));
    if (file->size() > kMost)
        return fail(ErrorKind::input, "the file is too large for what it is", address_of(made), "look into it");
    WAVECREST_TRY_ASSIGN(bytes, base::read_exactly(*file, 0, static_cast<std::size_t>(file->size())));
    return std::string(bytes.begin(), bytes.end());
}

Status ShareFolder::check_writable() const {
    return share::try_writing(*share_, path_);
}

std::optional<std::uint64_t> ShareFolder::free_space() const {
    auto free = share_->free_space(path_);
    if (!free) free = share_->free_space("");  // the folder may not be there yet
    return free.value_or(std::nullopt);
}

Status ShareFolder::deliver(const std::vector<base::Path>& files, const std::vector<base::Path>& own,
                            const std::function<void(std::uint64_t)>& progress) const {
    std::uint64_t before = 0;
    for (const base::Path& file : files) {
        const auto copy = [&]() -> Status {
            WAVECREST_TRY_ASSIGN(source, base::FileSource::open(file));
            const auto told = [&](std::uint64_t bytes) {
                if (progress) progress(before + bytes);
            };
            WAVECREST_TRY(share::upload(*share_, source, path_of(file), told, share::IfThere::take));
            before += source.size();
            return {};
        };
        if (Status status = copy(); !status) {
            Error error = std::move(status).error();
            if (error.kind != ErrorKind::interrupted)
                error.remedy += fmt::format("; what was made is kept in {}: the same command copies it",
                                            file.parent_path().string());
            return fail(std::move(error));
        }
    }
    std::error_code ignored;
    for (const auto* all : {&files, &own}) {
        for (const base::Path& file : *all) std::filesystem::remove(file, ignored);
    }
    for (const base::Path& file : files) {
        for (base::Path folder = file.parent_path(); folder.string().size() >= outbox_.string().size();
             folder = folder.parent_path()) {
            if (!std::filesystem::remove(folder, ignored) || ignored) break;  // only empty ones go
        }
    }
    return {};
}

Status connect(Selection& selection, const Cancel* cancel) {
    if (!base::Address(selection.into.string()).is_share()) return {};
    WAVECREST_TRY_ASSIGN(folder, ShareFolder::open(selection.into.string(), cancel));
    selection.into = folder->outbox();
    selection.share = std::move(folder);
    return {};
}

}  // namespace wavecrest::convert
