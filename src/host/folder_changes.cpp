#include "host/folder_changes.hpp"

#include <fcntl.h>
#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>

#include "base/address.hpp"
#include "host/mounts.hpp"

namespace wavecrest::host {
namespace {

constexpr std::size_t kMost = 8192;  // folders; each costs the kernel memory
constexpr std::uint32_t kWhat = IN_CREATE | IN_DELETE | IN_MOVED_FROM | IN_MOVED_TO | IN_CLOSE_WRITE | IN_MODIFY |
                                IN_ATTRIB | IN_DELETE_SELF | IN_ONLYDIR | IN_DONT_FOLLOW;

}  // namespace

FolderChanges::FolderChanges(std::vector<base::Path> folders) : folders_(std::move(folders)) {
    // (Without inotify, when too many are in use, nothing is told.)
    handle_ = ::inotify_init1(IN_NONBLOCK | IN_CLOEXEC);
    if (::pipe2(wake_.data(), O_CLOEXEC) != 0) wake_ = {-1, -1};
}

FolderChanges::~FolderChanges() {
    for (const int handle : {handle_, wake_[0], wake_[1]}) {
        if (handle >= 0) ::close(handle);
    }
}

void FolderChanges::renew() {
    tells_all_ = handle_ >= 0;
    const auto watch = [&](const base::Path& folder) {
        if (watched_.size() < kMost && ::inotify_add_watch(handle_, folder.c_str(), kWhat) >= 0)
            watched_.insert(folder.string());
        else
            tells_all_ = false;
    };
    watched_.clear();
    const std::vector<std::string> mounted = mount_points();
    for (const base::Path& one : folders_) {
        const std::string below = one.string() + "/";
        if (std::ranges::any_of(mounted, [&](const std::string& at) { return at.starts_with(below); }))
            tells_all_ = false;
        const auto mount = base::Address(one).is_share() ? std::nullopt : mount_of(one);
        if (!mount || mount->is_share()) tells_all_ = false;
        if (base::Address(one).is_share()) continue;
        watch(one);
        std::error_code error;
        for (std::filesystem::recursive_directory_iterator
                 entry(one, std::filesystem::directory_options::skip_permission_denied, error),
             end;
             !error && entry != end && watched_.size() < kMost; entry.increment(error)) {
            std::error_code ignored;
            if (!entry->is_symlink(ignored) && entry->is_directory(ignored)) watch(entry->path());
        }
        if (error || watched_.size() >= kMost) tells_all_ = false;
    }
}

bool FolderChanges::wait(Time most) {
    std::array<pollfd, 2> waiting{{{handle_, POLLIN, 0}, {wake_[0], POLLIN, 0}}};
    const auto wait =
        std::chrono::ceil<std::chrono::milliseconds>(std::chrono::duration<double>(base::to_seconds(most)));
    if (::poll(waiting.data(), waiting.size(), static_cast<int>(wait.count())) <= 0) return false;
    std::array<char, 16384> events{};
    bool any = false;
    while (::read(handle_, events.data(), events.size()) > 0) any = true;
    return any;
}

void FolderChanges::wake() {
    if (wake_[1] >= 0) (void)!::write(wake_[1], "x", 1);
}

}  // namespace wavecrest::host
