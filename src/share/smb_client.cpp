#include <fcntl.h>

#include <libsmbclient.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <map>

#include "net/url.hpp"
#include "share/client_process.hpp"
#include "share/smb_library.hpp"

namespace wavecrest::share {
namespace {

void copy_text(const std::string& from, char* to, int room) {
    if (room <= 0) return;
    const std::size_t count = std::min(from.size(), static_cast<std::size_t>(room) - 1);
    std::memcpy(to, from.data(), count);
    to[count] = '\0';
}

class SmbClient : public Client {
  public:
    SmbClient(Location at, Account account, Time limit)
        : at_(std::move(at)), account_(std::move(account)), limit_(limit) {}
    ~SmbClient() override {
        if (context_ == nullptr) return;
        for (const auto& [number, file] : files_) smbc_getFunctionClose(context_)(context_, file);
        smbc_free_context(context_, 1);
    }

    Answer<std::vector<Entry>> list(const std::string& folder) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        SMBCFILE* const opened = smbc_getFunctionOpendir(context_)(context_, url(folder).c_str());
        if (opened == nullptr) return failed();
        std::vector<Entry> entries;
        if (at_.share.empty()) {
            while (const smbc_dirent* const one = smbc_getFunctionReaddir(context_)(context_, opened)) {
                // What is no share of files (printers, IPC$) is none, and those that end with "$" are hidden by custom.
                const std::string name = one->name;
                if (one->smbc_type == SMBC_FILE_SHARE && !name.ends_with("$")) entries.push_back({name, true, 0, 0});
            }
        } else {
            while (const libsmb_file_info* const one = smbc_getFunctionReaddirPlus(context_)(context_, opened)) {
                const std::string name = one->name;
                if (name == "." || name == "..") continue;
                constexpr unsigned kDirectory = 0x10;  // MS-FSCC, 2.6: FILE_ATTRIBUTE_DIRECTORY
                const bool is_folder = (one->attrs & kDirectory) != 0;
                entries.push_back({name, is_folder, is_folder ? 0 : one->size,
                                   std::int64_t{one->mtime_ts.tv_sec} * 1'000'000'000 + one->mtime_ts.tv_nsec});
            }
        }
        smbc_getFunctionClosedir(context_)(context_, opened);
        return entries;
    }

    Answer<Entry> look(const std::string& path) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        struct stat info {};
        if (smbc_getFunctionStat(context_)(context_, url(path).c_str(), &info) != 0) return failed();
        const std::size_t slash = path.rfind('/');
        const bool is_folder = S_ISDIR(info.st_mode);
        return Entry{path.substr(slash == std::string::npos ? 0 : slash + 1), is_folder,
                     is_folder ? 0 : static_cast<std::uint64_t>(info.st_size),
                     std::int64_t{info.st_mtim.tv_sec} * 1'000'000'000 + info.st_mtim.tv_nsec};
    }

    Answer<int> open(const std::string& path, Open how) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        SMBCFILE* const file = smbc_getFunctionOpen(context_)(
            context_, url(path).c_str(), how == Open::make ? O_RDWR | O_CREAT | O_EXCL : O_RDONLY, 0644);
        if (file == nullptr) return failed();
        files_.emplace(++last_, file);
        offsets_[last_] = 0;
        return last_;
    }

    Answer<std::size_t> read(int file, std::uint64_t offset, std::span<std::uint8_t> into) override {
        SMBCFILE* const opened = at(file, offset);
        if (opened == nullptr) return failed();
        const ssize_t got = smbc_getFunctionRead(context_)(context_, opened, into.data(), into.size());
        if (got < 0) return failed();
        offsets_[file] += static_cast<std::uint64_t>(got);
        return static_cast<std::size_t>(got);
    }

    Answer<std::size_t> write(int file, std::uint64_t offset, ByteSpan bytes) override {
        SMBCFILE* const opened = at(file, offset);
        if (opened == nullptr) return failed();
        const ssize_t put = smbc_getFunctionWrite(context_)(context_, opened, bytes.data(), bytes.size());
        if (put < 0) return failed();
        offsets_[file] += static_cast<std::uint64_t>(put);
        return static_cast<std::size_t>(put);
    }

    Answer<void> close(int file) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return {};
        const int status = smbc_getFunctionClose(context_)(context_, found->second);
        files_.erase(found);
        offsets_.erase(file);
        if (status != 0) return failed();
        return {};
    }

    Answer<void> remove(const std::string& path) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        if (smbc_getFunctionUnlink(context_)(context_, url(path).c_str()) != 0) return failed();
        return {};
    }

    Answer<void> make_folder(const std::string& path) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        if (smbc_getFunctionMkdir(context_)(context_, url(path).c_str(), 0755) != 0) return failed();
        return {};
    }

    Answer<void> remove_folder(const std::string& path) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        if (smbc_getFunctionRmdir(context_)(context_, url(path).c_str()) != 0) return failed();
        return {};
    }

    Answer<void> rename(const std::string& from, const std::string& to) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        // (The library replaces what is there: so it is looked for first.)
        struct stat info {};
        if (smbc_getFunctionStat(context_)(context_, url(to).c_str(), &info) == 0) return tl::make_unexpected(EEXIST);
        if (errno != ENOENT) return failed();
        if (smbc_getFunctionRename(context_)(context_, url(from).c_str(), context_, url(to).c_str()) != 0)
            return failed();
        return {};
    }

    Answer<std::uint64_t> free_space(const std::string& folder) override {
        if (const int error = begin()) return tl::make_unexpected(error);
        struct statvfs info {};
        const std::string text = url(folder);
        if (smbc_getFunctionStatVFS(context_)(context_, const_cast<char*>(text.c_str()), &info) != 0) return failed();
        // (Blocks are counted in f_frsize sectors of f_bsize bytes by libsmbclient, after MS-FSCC 2.5.4.)
        return static_cast<std::uint64_t>(info.f_bavail) * info.f_bsize * std::max<std::uint64_t>(info.f_frsize, 1);
    }

  private:
    static tl::unexpected<int> failed() { return tl::make_unexpected(errno != 0 ? errno : EIO); }

    // 0, or an error number.
    int begin() {
        if (context_ != nullptr) return 0;
        if (!load_smb_library()) return ELIBACC;
        SMBCCTX* const made = smbc_new_context();
        if (made == nullptr) return ENOMEM;
        smbc_setDebug(made, 0);
        smbc_setOptionUserData(made, this);
        smbc_setFunctionAuthDataWithContext(
            made, [](SMBCCTX* context, const char*, const char*, char* group, int group_room, char* user, int user_room,
                     char* password, int password_room) {
                const auto* const self = static_cast<const SmbClient*>(smbc_getOptionUserData(context));
                if (!self->account_.domain.empty()) copy_text(self->account_.domain, group, group_room);
                copy_text(self->account_.user, user, user_room);
                copy_text(self->account_.password, password, password_room);
            });
        const auto milliseconds = std::chrono::duration_cast<std::chrono::milliseconds>(limit_).count();
        smbc_setTimeout(made, static_cast<int>(std::clamp<std::int64_t>(milliseconds, 100, 600'000)));
        smbc_setPort(made, at_.port_used());
        // SMB 1 is neither safe nor fast, and is switched off on servers of today.
        smbc_setOptionProtocols(made, "SMB2_02", "SMB3_11");
        // Wrong passwords are told, not taken for a guest's visit.
        smbc_setOptionNoAutoAnonymousLogin(made, account_.is_guest() ? 0 : 1);
        if (smbc_init_context(made) == nullptr) {
            const int error = errno;
            smbc_free_context(made, 0);
            return error != 0 ? error : EIO;
        }
        context_ = made;
        return 0;
    }

    std::string url(const std::string& path) const {
        std::string text = "smb://" + (at_.host.find(':') != std::string::npos ? "[" + at_.host + "]" : at_.host) + "/";
        if (!at_.share.empty()) text += net::encode_path(joined(at_.share, path));
        return text;
    }

    SMBCFILE* at(int file, std::uint64_t offset) {
        const auto found = files_.find(file);
        if (found == files_.end()) {
            errno = EBADF;
            return nullptr;
        }
        if (offsets_[file] != offset) {
            if (smbc_getFunctionLseek(context_)(context_, found->second, static_cast<off_t>(offset), SEEK_SET) < 0)
                return nullptr;
            offsets_[file] = offset;
        }
        return found->second;
    }

    const Location at_;
    const Account account_;
    const Time limit_;
    SMBCCTX* context_ = nullptr;
    std::map<int, SMBCFILE*> files_;
    std::map<int, std::uint64_t> offsets_;
    int last_ = 0;
};

}  // namespace

std::unique_ptr<Client> make_smb_client(const Location& at, const Account& account, Time limit) {
    (void)load_smb_library();  // here, where it is needed once; not in each process
    return in_own_process([=] { return std::make_unique<SmbClient>(at, account, limit); }, limit);
}

}  // namespace wavecrest::share
