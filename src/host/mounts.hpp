// Where a path lies: on a drive of this machine or a share of another; and what should be mounted but isn't.
#pragma once

#include <chrono>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::host {

struct Mount {
    std::string at;      // the folder
    std::string type;    // "ext4", "cifs", "nfs4"
    std::string device;  // "//server/share"
    bool is_share() const;
    // Whether a process may be held there against any signal: NFS and file systems in user space.
    bool holds_processes() const;
};
// The mount that holds a path (which need not exist); nothing where that can't be told.
std::optional<Mount> mount_of(const base::Path& path);
// The same by the path's own name: links on the way don't count, and nothing is looked at, so that no drive can hold it.
std::optional<Mount> mount_by_name(const base::Path& path);
// The folders at which file systems are mounted now. Looks at none of them.
std::vector<std::string> mount_points();
// Whether a block device ("/dev/sdb1") is mounted anywhere.
bool is_mounted(const base::Path& device);
// Looks into a folder, which mounts what is mounted on demand (autofs(5)), for `longest` at most; then whether a file
// system is mounted there. Kind machine: why the folder can't be listed, or that it didn't answer in time.
Result<bool> mounted_at(const base::Path& folder, std::chrono::milliseconds longest);
// One of /etc/fstab that would hold the path, but isn't mounted.
std::optional<Mount> missing_mount_of(const base::Path& path);
// The same from the texts of /proc/self/mounts and /etc/fstab.
std::optional<Mount> find_mount(std::string_view table, const base::Path& path);

// The answers that came from the server of the NFS mount that holds `path`, by the text of /proc/self/mountstats;
// nothing where another file system holds it.
std::optional<std::uint64_t> nfs_answers(std::string_view mountstats, std::string_view path);

// Bytes a second at which the beginning of a file is read anew from where it lies (up to 64 MB or two seconds); nothing
// where it can't be read.
std::optional<double> read_speed(const base::Path& file);

// Bytes a second at which a drive or share takes and gives back what is written into `folder` now: up to 256 MB, two
// seconds each way, or a twentieth of the free space; until it is durable, and read anew from where it lies. The file
// has no name, or loses it at once. Kind machine where nothing can be written.
struct DriveTrial {
    double write = 0, read = 0;
};
Result<DriveTrial> try_drive(const base::Path& folder);

}  // namespace wavecrest::host
