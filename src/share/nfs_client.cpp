#include <fcntl.h>
#include <nfsc/libnfs.h>
#include <sys/stat.h>
// (After the library's own header, whose types it uses.)
#include <nfsc/libnfs-raw-mount.h>

#include <algorithm>
#include <cerrno>
#include <map>
#include <random>

#include <fmt/format.h>

#include "share/client_process.hpp"

namespace wavecrest::share {
namespace {

// Servers take at least this much in one request (RFC 7530 leaves it to them; all of today do).
constexpr std::size_t kMostBytes = 1 << 20;
// libnfs 4.0 has no room for more in the messages of NFS 4 that it writes.
constexpr std::size_t kMostWrittenByFour = 2000;

class NfsClient : public Client {
  public:
    NfsClient(Location at, Time limit) : at_(std::move(at)), limit_(limit) {}
    ~NfsClient() override {
        for (const auto& [number, file] : files_) nfs_close(context_, file);
        end();
    }

    Answer<std::vector<Entry>> list(const std::string& folder) override {
        if (const int error = begin(folder)) return tl::make_unexpected(error);
        // (NFS 3 has no folder above its exports.)
        if (version_ == 3 && inside(folder) == nullptr) return exports_below(folder);
        nfsdir* opened = nullptr;
        if (const int status = nfs_opendir(context_, inside(folder), &opened); status != 0) return failed(status);
        std::vector<Entry> entries;
        while (const nfsdirent* const one = nfs_readdir(context_, opened)) {
            const std::string name = one->name;
            if (name == "." || name == "..") continue;
            const bool is_folder = S_ISDIR(one->mode);
            if (!is_folder && !S_ISREG(one->mode)) continue;
            entries.push_back({name, is_folder, is_folder ? 0 : one->size,
                               std::int64_t{one->mtime.tv_sec} * 1'000'000'000 + one->mtime_nsec});
        }
        nfs_closedir(context_, opened);
        return entries;
    }

    Answer<Entry> look(const std::string& path) override {
        if (const int error = begin(path)) return tl::make_unexpected(error);
        const std::size_t slash = path.rfind('/');
        const std::string name = path.substr(slash == std::string::npos ? 0 : slash + 1);
        if (version_ == 3 && inside(path) == nullptr) {
            const auto below = exports_below(path);
            if (!below) return tl::make_unexpected(below.error());
            return Entry{name, true, 0, 0};
        }
        nfs_stat_64 info{};
        if (const int status = nfs_stat64(context_, inside(path), &info); status != 0) return failed(status);
        const bool is_folder = S_ISDIR(info.nfs_mode);
        return Entry{
            name, is_folder, is_folder ? 0 : info.nfs_size,
            static_cast<std::int64_t>(info.nfs_mtime) * 1'000'000'000 + static_cast<std::int64_t>(info.nfs_mtime_nsec)};
    }

    Answer<int> open(const std::string& path, bool make) override {
        if (const int error = begin(path)) return tl::make_unexpected(error);
        const char* const there = inside(path);
        if (there == nullptr) return tl::make_unexpected(ENOENT);
        nfsfh* file = nullptr;
        const int status = make ? nfs_create(context_, there, O_RDWR | O_EXCL | O_CREAT, 0644, &file)
                                : nfs_open(context_, there, O_RDONLY, &file);
        if (status != 0) return failed(status);
        files_.emplace(++last_, file);
        return last_;
    }

    Answer<std::size_t> read(int file, std::uint64_t offset, std::span<std::uint8_t> into) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return tl::make_unexpected(EBADF);
        const std::size_t count = std::min(into.size(), kMostBytes);
        const int got = nfs_pread(context_, found->second, offset, count, reinterpret_cast<char*>(into.data()));
        if (got < 0) return failed(got);
        return static_cast<std::size_t>(got);
    }

    Answer<std::size_t> write(int file, std::uint64_t offset, ByteSpan bytes) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return tl::make_unexpected(EBADF);
        const std::size_t count = std::min(bytes.size(), version_ == 4 ? kMostWrittenByFour : kMostBytes);
        const int put = nfs_pwrite(context_, found->second, offset, count,
                                   reinterpret_cast<char*>(const_cast<std::uint8_t*>(bytes.data())));
        if (put < 0) return failed(put);
        return static_cast<std::size_t>(put);
    }

    Answer<void> close(int file) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return {};
        const int status = nfs_close(context_, found->second);
        files_.erase(found);
        if (status != 0) return failed(status);
        return {};
    }

    Answer<void> remove(const std::string& path) override {
        if (const int error = begin(path)) return tl::make_unexpected(error);
        const char* const there = inside(path);
        if (there == nullptr) return tl::make_unexpected(ENOENT);
        if (const int status = nfs_unlink(context_, there); status != 0) return failed(status);
        return {};
    }

  private:
    static tl::unexpected<int> failed(int status) { return tl::make_unexpected(status < 0 ? -status : EIO); }

    void end() {
        if (context_ != nullptr) nfs_destroy_context(context_);
        context_ = nullptr;
    }

    // Mounts the server's root by NFS 4; or by NFS 3, where it has that alone, the export the path is in.
    int begin(const std::string& path) {
        if (context_ != nullptr) return 0;
        const int fourth = mount(4, "/");
        if (fourth == 0) {
            export_ = "/";
            return 0;
        }
        if (fourth == ENOENT || fourth == EACCES || fourth == EPERM || fourth == ECONNREFUSED || fourth == ETIMEDOUT ||
            fourth == EHOSTUNREACH)
            return fourth;
        if (!read_exports()) return fourth;
        const std::string whole = "/" + path;
        const std::string* best = nullptr;
        for (const std::string& one : exports_) {
            const bool within = whole == one || whole.starts_with(one == "/" ? one : one + "/");
            if (within && (best == nullptr || one.size() > best->size())) best = &one;
        }
        if (best == nullptr) {
            // Above or beside all exports: only they can be listed.
            context_ = nfs_init_context();
            version_ = 3;
            export_.clear();
            return 0;
        }
        const int third = mount(3, *best);
        if (third == 0) export_ = *best;
        return third;
    }

    int mount(int version, const std::string& what) {
        end();
        nfs_context* const made = nfs_init_context();
        if (made == nullptr) return ENOMEM;
        // (The library takes the port by an address alone.)
        const std::string options =
            fmt::format("nfs://x/?version={}{}", version,
                        version == 4 || at_.port != 0 ? fmt::format("&nfsport={}", at_.port_used()) : std::string());
        nfs_url* const url = nfs_parse_url_dir(made, options.c_str());
        if (url != nullptr) nfs_destroy_url(url);
        const auto milliseconds = std::chrono::duration_cast<std::chrono::milliseconds>(limit_).count();
        nfs_set_timeout(made, static_cast<int>(std::clamp<std::int64_t>(milliseconds, 100, 600'000)));
        nfs_set_autoreconnect(made, 0);
        // RFC 7530, 9.1.1: two clients of one name are one that was restarted, and its open files are forgotten.
        std::random_device random;
        const std::string name = fmt::format("wavecrest-{:08x}{:08x}", random(), random());
        nfs4_set_client_name(made, name.c_str());
        nfs4_set_verifier(made, name.substr(name.size() - 8).c_str());
        nfs_set_tcp_syncnt(made, 2);
        const int status = nfs_mount(made, at_.host.c_str(), what.c_str());
        if (status != 0) {
            nfs_destroy_context(made);
            return status < 0 ? -status : EIO;
        }
        context_ = made;
        version_ = version;
        return 0;
    }

    bool read_exports() {
        exports_.clear();
        exportnode* const list = mount_getexports(at_.host.c_str());
        for (const exportnode* one = list; one != nullptr; one = one->ex_next) exports_.emplace_back(one->ex_dir);
        if (list != nullptr) mount_free_export_list(list);
        return !exports_.empty();
    }

    // Of NFS 3: names of what is exported below a folder that is none.
    Answer<std::vector<Entry>> exports_below(const std::string& folder) const {
        const std::string front = folder.empty() ? "/" : "/" + folder + "/";
        std::vector<Entry> entries;
        for (const std::string& one : exports_) {
            if (!one.starts_with(front) || one.size() == front.size()) continue;
            const std::string name = one.substr(front.size(), one.find('/', front.size()) - front.size());
            const bool known =
                std::any_of(entries.begin(), entries.end(), [&](const Entry& other) { return other.name == name; });
            if (!known) entries.push_back({name, true, 0, 0});
        }
        if (entries.empty()) return tl::make_unexpected(ENOENT);
        return entries;
    }

    // The path within what is mounted; null where it is above that. Valid until the next call.
    const char* inside(const std::string& path) {
        const std::string whole = "/" + path;
        if (export_.empty()) return nullptr;
        if (export_ == "/") {
            inside_ = whole;
        } else if (whole == export_) {
            inside_ = "/";
        } else if (whole.starts_with(export_ + "/")) {
            inside_ = whole.substr(export_.size());
        } else {
            return nullptr;
        }
        return inside_.c_str();
    }

    const Location at_;
    const Time limit_;
    nfs_context* context_ = nullptr;
    int version_ = 0;
    std::string export_, inside_;
    std::vector<std::string> exports_;
    std::map<int, nfsfh*> files_;
    int last_ = 0;
};

}  // namespace

std::unique_ptr<Client> make_nfs_client(const Location& at, Time limit) {
    return in_own_process([=] { return std::make_unique<NfsClient>(at, limit); }, limit);
}

}  // namespace wavecrest::share
