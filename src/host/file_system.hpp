// The file system of an external disk, by its first blocks: so that a disk is known again whatever it is called at the
// next start, and one that was pulled out while it was written to is told.
#pragma once

#include <functional>
#include <optional>
#include <span>
#include <string>

#include "base/bytes.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::host {

struct FileSystem {
    std::string type;   // as mount(8) has it: "ext4", "xfs", "btrfs", "vfat", "exfat", "ntfs3"
    std::string id;     // as /dev/disk/by-uuid has it
    std::string label;  // empty: none
    // False: not unmounted the last time; nothing: it doesn't tell, or is mounted now.
    std::optional<bool> clean;

    // Files belong to whoever mounts it: it keeps no owners.
    bool has_owners() const { return type == "ext4" || type == "xfs" || type == "btrfs"; }
};

// `read` gives bytes at an offset, fewer only at the end. Nothing for what isn't known.
using ReadAt = std::function<std::size_t(std::uint64_t offset, std::span<std::uint8_t> into)>;
std::optional<FileSystem> recognise_file_system(const ReadAt& read);
// Of a block device or an image. Kind machine where it can't be read, kind input where it isn't known.
Result<FileSystem> file_system_of(const base::Path& device);

// The device an identity leads to now ("UUID=..." or its bare value), by /dev/disk; empty: it isn't plugged in.
base::Path device_of(const std::string& id);

}  // namespace wavecrest::host
