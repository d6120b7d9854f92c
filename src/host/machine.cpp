#include "host/machine.hpp"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <ifaddrs.h>
#include <net/if.h>
#include <netinet/in.h>
#include <sys/resource.h>
#include <sys/statvfs.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <charconv>
#include <cstring>
#include <fstream>
#include <set>
#include <sstream>
#include <thread>

namespace wavecrest::host {
namespace {

// -1 for what is none.
int number_in(std::string_view digits, int base) {
    int number = -1;
    std::from_chars(digits.data(), digits.data() + digits.size(), number, base);
    return number;
}

}  // namespace

namespace {
base::Path nearest_that_exists(const base::Path& path) {
    std::error_code error;
    base::Path at = base::absolute_path(path);
    while (!std::filesystem::exists(at, error) && at.has_parent_path() && at != at.parent_path()) at = at.parent_path();
    return at;
}
}  // namespace

Status check_writable(const base::Path& path) {
    const base::Path at = nearest_that_exists(path);
    // A file in a folder's place is no place to write either; the target itself may be one.
    std::error_code error;
    const bool in_the_way = at != base::absolute_path(path) && !std::filesystem::is_directory(at, error);
    if (!in_the_way && ::access(at.c_str(), W_OK) == 0) return {};
    return fail(ErrorKind::machine, fmt::format("not writable: {}", std::strerror(in_the_way ? ENOTDIR : errno)),
                at.string(), "choose a folder you may write to, or change its permissions");
}

Result<std::uint64_t> free_space(const base::Path& path) {
    const base::Path at = nearest_that_exists(path);
    struct statvfs info {};
    if (::statvfs(at.c_str(), &info) != 0) {
        return fail(ErrorKind::machine, fmt::format("free space unknown: {}", std::strerror(errno)), at.string(),
                    "check that the drive is mounted");
    }
    return static_cast<std::uint64_t>(info.f_bavail) * info.f_frsize;
}

int processors() {
    return std::max(1, static_cast<int>(std::thread::hardware_concurrency()));
}

void yield_to_others() {
    // Of a processor that others want, a thirtieth; what can't be had is no error.
    constexpr int kNice = 15;
    ::setpriority(PRIO_PROCESS, 0, kNice);
    // ioprio_set(2): of the best-effort class, the last. There is no wrapper in the C library.
    constexpr int kWhoProcess = 1, kBestEffort = 2, kClassShift = 13, kLast = 7;
    ::syscall(SYS_ioprio_set, kWhoProcess, 0, kBestEffort << kClassShift | kLast);
}

double processor_seconds() {
    rusage usage{};
    ::getrusage(RUSAGE_SELF, &usage);
    const auto seconds = [](const timeval& t) {
        return static_cast<double>(t.tv_sec) + static_cast<double>(t.tv_usec) / 1e6;
    };
    return seconds(usage.ru_utime) + seconds(usage.ru_stime);
}

std::vector<Address> addresses() {
    std::vector<Address> found;
    ifaddrs* list = nullptr;
    if (::getifaddrs(&list) != 0) return found;
    for (const ifaddrs* entry = list; entry != nullptr; entry = entry->ifa_next) {
        if (entry->ifa_addr == nullptr || (entry->ifa_flags & IFF_UP) == 0) continue;
        char text[INET6_ADDRSTRLEN] = {};
        Address address;
        address.interface = entry->ifa_name;
        address.loopback = (entry->ifa_flags & IFF_LOOPBACK) != 0;
        if (entry->ifa_addr->sa_family == AF_INET) {
            ::inet_ntop(AF_INET, &reinterpret_cast<const sockaddr_in*>(entry->ifa_addr)->sin_addr, text, sizeof text);
        } else if (entry->ifa_addr->sa_family == AF_INET6) {
            const in6_addr& ip = reinterpret_cast<const sockaddr_in6*>(entry->ifa_addr)->sin6_addr;
            if (IN6_IS_ADDR_LINKLOCAL(&ip)) continue;
            ::inet_ntop(AF_INET6, &ip, text, sizeof text);
            address.ipv6 = true;
        } else {
            continue;
        }
        address.address = text;
        found.push_back(std::move(address));
    }
    ::freeifaddrs(list);
    std::stable_sort(found.begin(), found.end(), [](const Address& a, const Address& b) {
        return std::pair(a.loopback, a.ipv6) < std::pair(b.loopback, b.ipv6);
    });
    return found;
}

std::string best_address() {
    for (const Address& address : addresses()) {
        if (!address.ipv6) return address.address;
    }
    return "127.0.0.1";
}

std::optional<PortHolder> tcp_listener(std::uint16_t port) {
    // /proc/net/tcp lists sockets with their inode; /proc/PID/fd tells whose inode it is.
    constexpr int kListen = 0x0A;
    std::set<std::string> inodes;
    for (const char* table : {"/proc/net/tcp", "/proc/net/tcp6"}) {
        std::ifstream file(table);
        std::string line;
        std::getline(file, line);
        while (std::getline(file, line)) {
            std::istringstream fields(line);
            std::string number, local, remote, state, queues, timer, retransmits, user, timeout, inode;
            fields >> number >> local >> remote >> state >> queues >> timer >> retransmits >> user >> timeout >> inode;
            const std::size_t colon = local.rfind(':');
            if (inode.empty() || colon == std::string::npos) continue;
            if (number_in(state, 16) == kListen && number_in(std::string_view(local).substr(colon + 1), 16) == port)
                inodes.insert("socket:[" + inode + "]");
        }
    }
    if (inodes.empty()) return std::nullopt;
    std::error_code error;
    for (const auto& process : std::filesystem::directory_iterator("/proc", error)) {
        const std::string name = process.path().filename().string();
        if (name.find_first_not_of("0123456789") != std::string::npos) continue;
        std::error_code denied;
        for (const auto& handle : std::filesystem::directory_iterator(process.path() / "fd", denied)) {
            const auto target = std::filesystem::read_symlink(handle.path(), denied);
            if (denied || !inodes.contains(target.string())) continue;
            std::ifstream comm(process.path() / "comm");
            PortHolder holder;
            holder.pid = number_in(name, 10);
            std::getline(comm, holder.program);
            return holder;
        }
    }
    return PortHolder{};
}

}  // namespace wavecrest::host
