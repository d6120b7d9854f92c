#include <fcntl.h>
#include <nfsc/libnfs.h>
#include <poll.h>
#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <deque>
#include <map>
#include <memory>
#include <random>

#include <fmt/format.h>

#include "share/client_process.hpp"
#include "share/onc_rpc.hpp"

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
        while (!files_.empty()) (void)close(files_.begin()->first);
        for (const Mounted& one : mounts_) nfs_destroy_context(one.context);
    }

    Answer<std::vector<Entry>> list(const std::string& folder) override {
        nfsdir* opened = nullptr;
        const auto in = ask(
            folder, [&](const Mounted& there, const char* path) { return nfs_opendir(there.context, path, &opened); });
        if (!in && in.error() == ENOENT && !exports_.empty()) return exports_below(folder);
        if (!in) return tl::make_unexpected(in.error());
        std::vector<Entry> entries;
        while (const nfsdirent* const one = nfs_readdir((*in)->context, opened)) {
            const std::string name = one->name;
            if (name == "." || name == "..") continue;
            const bool is_folder = S_ISDIR(one->mode);
            if (!is_folder && !S_ISREG(one->mode)) continue;
            entries.push_back({name, is_folder, is_folder ? 0 : one->size,
                               std::int64_t{one->mtime.tv_sec} * 1'000'000'000 + one->mtime_nsec});
        }
        nfs_closedir((*in)->context, opened);
        return entries;
    }

    Answer<Entry> look(const std::string& path) override {
        const std::size_t slash = path.rfind('/');
        const std::string name = path.substr(slash == std::string::npos ? 0 : slash + 1);
        nfs_stat_64 info{};
        const auto in = ask(
            path, [&](const Mounted& there, const char* inside) { return nfs_stat64(there.context, inside, &info); });
        if (!in && in.error() == ENOENT && exports_below(path)) return Entry{name, true, 0, 0};
        if (!in) return tl::make_unexpected(in.error());
        const bool is_folder = S_ISDIR(info.nfs_mode);
        return Entry{
            name, is_folder, is_folder ? 0 : info.nfs_size,
            static_cast<std::int64_t>(info.nfs_mtime) * 1'000'000'000 + static_cast<std::int64_t>(info.nfs_mtime_nsec)};
    }

    Answer<int> open(const std::string& path, Open how) override {
        // By NFS 4 a file that is open twice is one to the server: closing it once would close it for both (RFC 7530,
        // 9.1.4), and libnfs crashes. So it is opened once, as long as it is the same file.
        nfs_stat_64 info{};
        if (how == Open::read) {
            const auto there = ask(path, [&](const Mounted& mounted, const char* inside) {
                return nfs_stat64(mounted.context, inside, &info);
            });
            if (!there) return tl::make_unexpected(there.error());
            for (const auto& [number, one] : files_) {
                if (one->written || one->path != path || one->inode != info.nfs_ino) continue;
                files_.emplace(++last_, one);
                return last_;
            }
        }
        nfsfh* file = nullptr;
        const auto in = ask(path, [&](const Mounted& there, const char* inside) {
            return how == Open::make ? nfs_create(there.context, inside, O_RDWR | O_EXCL | O_CREAT, 0644, &file)
                                     : nfs_open(there.context, inside, O_RDONLY, &file);
        });
        if (!in) return tl::make_unexpected(in.error());
        files_.emplace(++last_, std::make_shared<Opened>(Opened{(*in)->context, file, (*in)->version, how == Open::make,
                                                                path, info.nfs_ino}));
        return last_;
    }

    Answer<std::size_t> read(int file, std::uint64_t offset, std::span<std::uint8_t> into) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return tl::make_unexpected(EBADF);
        const std::size_t count = std::min(into.size(), kMostBytes);
        const int got =
            nfs_pread(found->second->in, found->second->file, offset, count, reinterpret_cast<char*>(into.data()));
        if (got < 0) return failed(got, found->second->in);
        return static_cast<std::size_t>(got);
    }

    Answer<std::size_t> write(int file, std::uint64_t offset, ByteSpan bytes) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return tl::make_unexpected(EBADF);
        if (found->second->version == 4) return write_pieces(*found->second, offset, bytes);
        const std::size_t count = std::min(bytes.size(), kMostBytes);
        const int put = nfs_pwrite(found->second->in, found->second->file, offset, count,
                                   reinterpret_cast<char*>(const_cast<std::uint8_t*>(bytes.data())));
        if (put < 0) return failed(put);
        return static_cast<std::size_t>(put);
    }

    Answer<void> close(int file) override {
        const auto found = files_.find(file);
        if (found == files_.end()) return {};
        const std::shared_ptr<Opened> one = found->second;
        files_.erase(found);
        if (one.use_count() > 1) return {};
        const int synced = one->written ? nfs_fsync(one->in, one->file) : 0;
        const int closed = nfs_close(one->in, one->file);
        if (synced != 0) return failed(synced);
        if (closed != 0) return failed(closed);
        return {};
    }

    Answer<void> remove(const std::string& path) override {
        return done(path, [](const Mounted& there, const char* inside) { return nfs_unlink(there.context, inside); });
    }
    Answer<void> make_folder(const std::string& path) override {
        return done(path, [](const Mounted& there, const char* inside) { return nfs_mkdir(there.context, inside); });
    }
    Answer<void> remove_folder(const std::string& path) override {
        return done(path, [](const Mounted& there, const char* inside) { return nfs_rmdir(there.context, inside); });
    }
    Answer<void> rename(const std::string& from, const std::string& to) override {
        // A second name is refused where it is there (RFC 7530, 16.9); renaming would replace it.
        return done(from, [&](const Mounted& there, const char* inside) {
            const std::string target = this->inside("/" + to, there);
            if (const int status = nfs_link(there.context, inside, target.c_str()); status != 0) return status;
            return nfs_unlink(there.context, inside);
        });
    }
    Answer<std::uint64_t> free_space(const std::string& folder) override {
        struct statvfs info {};
        const auto asked = done(folder, [&](const Mounted& there, const char* inside) {
            return nfs_statvfs(there.context, inside, &info);
        });
        if (!asked) return tl::make_unexpected(asked.error());
        if (info.f_blocks == 0) return tl::make_unexpected(ENOTSUP);  // libnfs 4.0 doesn't ask by NFS 4
        return static_cast<std::uint64_t>(info.f_bavail) * std::max<std::uint64_t>(info.f_frsize, 1);
    }

  private:
    // An export of NFS 3, or all the server has by NFS 4 ("/").
    struct Mounted {
        std::string folder;
        int version = 4;
        nfs_context* context = nullptr;
    };
    struct Opened {
        nfs_context* in = nullptr;
        nfsfh* file = nullptr;
        int version = 4;
        bool written = false;
        std::string path;
        std::uint64_t inode = 0;
    };

    template <typename Question>
    Answer<void> done(const std::string& path, Question question) {
        const auto in = ask(path, std::move(question));
        if (!in) return tl::make_unexpected(in.error());
        return {};
    }

    // Many small requests under way at once, so that their answers aren't waited for one by one.
    Answer<std::size_t> write_pieces(const Opened& file, std::uint64_t offset, ByteSpan bytes) {
        constexpr std::size_t kUnderWay = 128;
        struct Writing {
            std::size_t under_way = 0;
            int error = 0;
            bool cut = false;  // a piece was written in part
        } writing;
        struct Piece {
            Writing* of;
            std::size_t size;
        };
        const std::size_t whole = std::min(bytes.size(), kMostBytes);
        std::vector<Piece> pieces;
        pieces.reserve(whole / kMostWrittenByFour + 1);
        const auto answered = [](int status, nfs_context*, void*, void* piece_of) {
            const Piece& piece = *static_cast<Piece*>(piece_of);
            --piece.of->under_way;
            if (status < 0 && piece.of->error == 0) piece.of->error = -status;
            if (status >= 0 && static_cast<std::size_t>(status) != piece.size) piece.of->cut = true;
        };
        const auto until =
            std::chrono::steady_clock::now() + std::chrono::duration_cast<std::chrono::nanoseconds>(
                                                   std::chrono::duration<double>(base::to_seconds(limit_)));
        std::size_t begun = 0;
        while (begun < whole || writing.under_way > 0) {
            while (begun < whole && writing.under_way < kUnderWay && writing.error == 0) {
                const std::size_t count = std::min(whole - begun, kMostWrittenByFour);
                pieces.push_back({&writing, count});
                const auto* const from = bytes.data() + begun;
                if (nfs_pwrite_async(file.in, file.file, offset + begun, count,
                                     reinterpret_cast<char*>(const_cast<std::uint8_t*>(from)), answered,
                                     &pieces.back()) != 0)
                    return tl::make_unexpected(EIO);
                ++writing.under_way;
                begun += count;
            }
            if (writing.error != 0 && writing.under_way == 0) break;
            pollfd one{nfs_get_fd(file.in), static_cast<short>(nfs_which_events(file.in)), 0};
            if (std::chrono::steady_clock::now() >= until) return tl::make_unexpected(ETIMEDOUT);
            const int ready = ::poll(&one, 1, 100);
            if (ready < 0 && errno != EINTR) return tl::make_unexpected(errno);
            if (ready >= 0 && nfs_service(file.in, one.revents) < 0) return tl::make_unexpected(EIO);
        }
        if (writing.error != 0) return tl::make_unexpected(writing.error);
        if (writing.cut) return tl::make_unexpected(EIO);
        return whole;
    }

    // A server that has just been started opens no files until its clients of before had the time to take theirs up
    // again (RFC 7530, 9.6.2): the library has no number for that.
    static tl::unexpected<int> failed(int status, nfs_context* in = nullptr) {
        const char* const told = in != nullptr && status == -ERANGE ? nfs_get_error(in) : nullptr;
        if (told != nullptr && std::string_view(told).find("NFS4ERR_GRACE") != std::string_view::npos)
            return tl::make_unexpected(kInGrace);
        return tl::make_unexpected(status < 0 ? -status : EIO);
    }
    static bool is_within(const std::string& whole, const std::string& folder) {
        return folder == "/" || whole == folder || whole.starts_with(folder + "/");
    }

    // Asks where the path is mounted. Paths that NFS 4 doesn't know are looked for among the exports of NFS 3, where
    // they may be others (RFC 7530, 7: the pseudo file system).
    template <typename Question>
    Answer<const Mounted*> ask(const std::string& path, Question question) {
        const std::string whole = "/" + path;
        if (mounts_.empty() && !without_four_) {
            if (const int error = mount(4, "/"); error != 0) {
                constexpr std::array kFinal = {ENOENT, EACCES, EPERM, ECONNREFUSED, ETIMEDOUT, EHOSTUNREACH};
                if (std::find(kFinal.begin(), kFinal.end(), error) != kFinal.end() || !read_exports())
                    return tl::make_unexpected(error);
                without_four_ = true;
            }
        }
        const Mounted* there = mounted_for(whole);
        int status = -ENOENT;
        if (there != nullptr) status = question(*there, inside(whole, *there).c_str());
        if (status == 0) return there;
        if (status != -ENOENT || (there != nullptr && there->version == 3))
            return failed(status, there != nullptr ? there->context : nullptr);
        if (!read_exports()) return failed(status);
        const std::string* best = nullptr;
        for (const std::string& one : exports_) {
            if (is_within(whole, one) && (best == nullptr || one.size() > best->size())) best = &one;
        }
        if (best == nullptr) return failed(status);
        if (const int error = mount(3, *best); error != 0)
            return tl::make_unexpected(there != nullptr ? ENOENT : error);
        there = mounted_for(whole);
        status = question(*there, inside(whole, *there).c_str());
        if (status != 0) return failed(status);
        return there;
    }

    // The innermost mount that holds a path; null: none does.
    const Mounted* mounted_for(const std::string& whole) const {
        const Mounted* best = nullptr;
        for (const Mounted& one : mounts_) {
            if (is_within(whole, one.folder) && (best == nullptr || one.folder.size() >= best->folder.size()))
                best = &one;
        }
        return best;
    }
    static std::string inside(const std::string& whole, const Mounted& there) {
        if (there.folder == "/") return whole;
        return whole == there.folder ? "/" : whole.substr(there.folder.size());
    }

    // 0, or an error number.
    int mount(int version, const std::string& what) {
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
        mounts_.push_back({what, version, made});
        return 0;
    }

    // Once.
    bool read_exports() {
        if (!std::exchange(asked_exports_, true)) {
            for (NfsExport& one : nfs_exports(at_.host, limit_).value_or(std::vector<NfsExport>()))
                exports_.push_back(std::move(one.path));
        }
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

    const Location at_;
    const Time limit_;
    std::deque<Mounted> mounts_;  // (each stays where it is)
    bool without_four_ = false, asked_exports_ = false;
    std::vector<std::string> exports_;
    std::map<int, std::shared_ptr<Opened>> files_;  // several numbers may mean one
    int last_ = 0;
};

}  // namespace

std::unique_ptr<Client> make_nfs_client(const Location& at, Time limit) {
    return in_own_process([=] { return std::make_unique<NfsClient>(at, limit); }, limit);
}

}  // namespace wavecrest::share
