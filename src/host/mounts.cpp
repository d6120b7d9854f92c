#include "host/mounts.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <fstream>
#include <random>
#include <sstream>
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

std::vector<std::string> mount_points() {
    std::istringstream lines(contents("/proc/self/mounts"));
    std::vector<std::string> all;
    for (std::string line; std::getline(lines, line);) {
        std::istringstream fields(line);
        std::string device, at;
        if (fields >> device >> at) all.push_back(unescaped(at));
    }
    return all;
}

std::optional<Mount> mount_of(const base::Path& path) {
    return find_mount(contents("/proc/self/mounts"), absolute_text(path));
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
