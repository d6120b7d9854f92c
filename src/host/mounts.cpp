#include "host/mounts.hpp"

#include <dirent.h>
#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <future>
#include <memory>
#include <random>
#include <sstream>
#include <thread>
#include <vector>

#include "host/machine.hpp"

namespace wavecrest::host {
namespace {

// Blanks and tabs stand as octal escapes in these tables (getmntent(3)).
std::string unescaped(const std::string& text) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        if (text[i] == '\\' && i + 3 < text.size()) {
            out += static_cast<char>((text[i + 1] - '0') * 64 + (text[i + 2] - '0') * 8 + (text[i + 3] - '0'));
            i += 3;
        } else {
            out += text[i];
        }
    }
    return out;
}

std::string contents(const char* file) {
    std::ifstream in(file);
    return {std::istreambuf_iterator<char>(in), {}};
}

std::vector<Mount> mounts_now() {
    std::istringstream lines(contents("/proc/self/mounts"));
    std::vector<Mount> all;
    for (std::string line; std::getline(lines, line);) {
        std::istringstream fields(line);
        std::string device, at, type;
        if (fields >> device >> at >> type) all.push_back({unescaped(at), type, unescaped(device)});
    }
    return all;
}

std::string absolute_text(const base::Path& path) {
    std::error_code error;
    const base::Path full = std::filesystem::weakly_canonical(path, error);
    return (error ? path : full).string();
}

}  // namespace

bool Mount::is_share() const {
    static constexpr std::string_view kShares[] = {"cifs", "smb3", "nfs", "nfs4", "9p", "fuse.sshfs", "fuse.smbnetfs"};
    return std::find(std::begin(kShares), std::end(kShares), type) != std::end(kShares);
}

bool Mount::holds_processes() const {
    return type.starts_with("nfs") || type.starts_with("fuse");
}

std::optional<Mount> find_mount(std::string_view table, const base::Path& path) {
    std::istringstream lines{std::string(table)};
    std::optional<Mount> best;
    const std::string text = path.string();
    for (std::string line; std::getline(lines, line);) {
        std::istringstream fields(line);
        std::string device, at, type;
        if (line.starts_with("#") || !(fields >> device >> at >> type)) continue;
        at = unescaped(at);
        const bool holds = at == "/" || text == at || text.starts_with(at + "/");
        if (holds && at.starts_with("/") && (!best || at.size() >= best->at.size()))
            best = Mount{at, type, unescaped(device)};
    }
    return best;
}

Result<bool> mounted_at(const base::Path& folder, std::chrono::milliseconds longest) {
    // In a thread that may be left behind: nothing wakes one that a hanging share holds.
    const auto listed = std::make_shared<std::promise<int>>();
    std::future<int> answer = listed->get_future();
    std::thread([listed, folder] {
        DIR* const open = ::opendir(folder.c_str());
        int failed = open == nullptr ? errno : 0;
        if (open != nullptr) {
            errno = 0;
            if (::readdir(open) == nullptr) failed = errno;
            ::closedir(open);
        }
        listed->set_value(failed);
    }).detach();
    if (answer.wait_for(longest) != std::future_status::ready)
        return fail(
            ErrorKind::machine,
            fmt::format("no answer within {} s", std::chrono::duration_cast<std::chrono::seconds>(longest).count()),
            folder.string(), "check the server and the network");
    if (const int failed = answer.get(); failed != 0)
        return fail(ErrorKind::machine, std::strerror(failed), folder.string(),
                    "see what the system says of it: journalctl -b -u '*.mount'");
    // (What mounts on demand has an entry of its own, which is there before the file system's.)
    const std::string at = (folder.has_filename() ? folder : folder.parent_path()).string();
    const std::vector<Mount> all = mounts_now();
    return std::any_of(all.begin(), all.end(), [&](const Mount& one) { return one.at == at && one.type != "autofs"; });
}

std::optional<std::uint64_t> nfs_answers(std::string_view mountstats, std::string_view path) {
    // "device server:/films mounted on /media/films with fstype nfs4 statvers=1.1", and further down, indented,
    // "xprt: tcp PORT BINDS CONNECTS TIME IDLE SENT RECEIVED …" (nfs-utils' mountstats(8) reads the same).
    std::string best;
    std::optional<std::uint64_t> answers;
    bool here = false;
    std::istringstream lines{std::string(mountstats)};
    for (std::string line; std::getline(lines, line);) {
        std::istringstream fields(line);
        std::string word;
        if (line.starts_with("device ")) {
            const std::size_t on = line.find(" mounted on ");
            const std::size_t with = line.rfind(" with fstype ");
            here = false;
            if (on == std::string::npos || with == std::string::npos || with < on + 12) continue;
            const std::string at = unescaped(line.substr(on + 12, with - on - 12));
            const bool holds =
                path.starts_with(at) && (at == "/" || path.size() == at.size() || path[at.size()] == '/');
            if (!holds || at.size() < best.size()) continue;
            best = at;
            answers.reset();
            here = line.substr(with + 13).starts_with("nfs");
        } else if (here && fields >> word && word == "xprt:") {
            std::uint64_t received = 0;
            std::string ignored;
            for (int i = 0; i < 7; ++i) fields >> ignored;  // the protocol, then six numbers
            if (fields >> received) answers = answers.value_or(0) + received;
        }
    }
    return answers;
}

std::vector<std::string> mount_points() {
    std::vector<std::string> all;
    for (Mount& one : mounts_now()) all.push_back(std::move(one.at));
    return all;
}

bool is_mounted(const base::Path& device) {
    struct stat wanted {};
    if (::stat(device.c_str(), &wanted) != 0 || !S_ISBLK(wanted.st_mode)) return false;
    const std::vector<Mount> all = mounts_now();
    return std::any_of(all.begin(), all.end(), [&](const Mount& one) {
        struct stat info {};
        return one.device.starts_with("/dev/") && ::stat(one.device.c_str(), &info) == 0 && S_ISBLK(info.st_mode) &&
               info.st_rdev == wanted.st_rdev;
    });
}

std::optional<Mount> mount_of(const base::Path& path) {
    return find_mount(contents("/proc/self/mounts"), absolute_text(path));
}

std::optional<Mount> mount_by_name(const base::Path& path) {
    std::error_code error;
    const base::Path from = path.is_absolute() ? base::Path() : std::filesystem::current_path(error);
    return find_mount(contents("/proc/self/mounts"), (from / path).lexically_normal());
}

std::optional<Mount> missing_mount_of(const base::Path& path) {
    const auto wanted = find_mount(contents("/etc/fstab"), absolute_text(path));
    const auto real = mount_of(path);
    if (!wanted || wanted->at == "/" || (real && real->at.size() >= wanted->at.size())) return std::nullopt;
    return wanted;
}

std::optional<double> read_speed(const base::Path& file) {
    const int handle = ::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (handle < 0) return std::nullopt;
    // What is in memory already says nothing of the way to it.
    ::posix_fadvise(handle, 0, 0, POSIX_FADV_DONTNEED);
    std::vector<char> buffer(128 << 10);  // small, so that a slow way is left in time
    const auto start = std::chrono::steady_clock::now();
    double bytes = 0, seconds = 0;
    while (bytes < 64e6 && seconds < 2) {
        const ssize_t n = ::read(handle, buffer.data(), buffer.size());
        if (n <= 0) break;
        bytes += static_cast<double>(n);
        seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    }
    ::close(handle);
    if (bytes == 0 || seconds <= 0) return std::nullopt;
    return bytes / seconds;
}

namespace {

// Open for both, and gone with its handle.
int open_nameless(const base::Path& folder) {
    if (const int handle = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600); handle >= 0) return handle;
    // Shares have names for all files.
    std::string name = (folder / ".wavecrest-speed-XXXXXX").string();
    const int handle = ::mkostemp(name.data(), O_CLOEXEC);
    if (handle >= 0) ::unlink(name.c_str());
    return handle;
}

double seconds_since(std::chrono::steady_clock::time_point start) {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace

Result<DriveTrial> try_drive(const base::Path& folder) {
    const auto failed = [&](int error) {
        return fail(ErrorKind::machine, fmt::format("can't write: {}", base::system_reason(error)), folder.string(),
                    "choose a folder that this user may write to");
    };
    WAVECREST_TRY_ASSIGN(free, free_space(folder));
    const int handle = open_nameless(folder);
    if (handle < 0) return failed(errno);
    const double most = std::min(256e6, static_cast<double>(free) / 20);
    std::vector<char> buffer(1 << 20);
    std::minstd_rand random(1);  // some drives press together what they are given
    for (char& byte : buffer) byte = static_cast<char>(random() >> 8);
    DriveTrial trial;
    double bytes = 0;
    int error = 0;
    auto start = std::chrono::steady_clock::now();
    while (bytes < most && seconds_since(start) < 2) {
        const ssize_t n = ::write(handle, buffer.data(), buffer.size());
        if (n <= 0) {
            error = errno;
            break;
        }
        bytes += static_cast<double>(n);
    }
    if (error == 0 && ::fdatasync(handle) != 0) error = errno;
    trial.write = bytes / std::max(seconds_since(start), 1e-6);
    if (error == 0 && bytes > 0) {
        ::posix_fadvise(handle, 0, 0, POSIX_FADV_DONTNEED);
        ::lseek(handle, 0, SEEK_SET);
        bytes = 0;
        start = std::chrono::steady_clock::now();
        while (seconds_since(start) < 2) {
            const ssize_t n = ::read(handle, buffer.data(), buffer.size());
            if (n < 0) error = errno;
            if (n <= 0) break;
            bytes += static_cast<double>(n);
        }
        trial.read = bytes / std::max(seconds_since(start), 1e-6);
    }
    ::close(handle);
    if (error != 0 || trial.read == 0) return failed(error != 0 ? error : ENOSPC);
    return trial;
}

}  // namespace wavecrest::host
