#include "host/file_system.hpp"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

#include "base/little_endian.hpp"
#include "host/mounts.hpp"

namespace wavecrest::host {
namespace {

bool is(ByteSpan bytes, std::size_t at, std::string_view text) {
    return at + text.size() <= bytes.size() &&
           std::equal(text.begin(), text.end(), bytes.begin() + static_cast<std::ptrdiff_t>(at),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}
// Text that ends at a zero, or is filled up with blanks.
std::string text_at(ByteSpan bytes, std::size_t at, std::size_t most) {
    std::string text;
    for (std::size_t i = at; i < std::min(at + most, bytes.size()) && bytes[i] != 0; ++i)
        text += static_cast<char>(bytes[i]);
    while (!text.empty() && text.back() == ' ') text.pop_back();
    return text;
}
std::string uuid(ByteSpan bytes, std::size_t at) {
    std::string text;
    for (std::size_t i = 0; i < 16; ++i) {
        if (i == 4 || i == 6 || i == 8 || i == 10) text += '-';
        text += fmt::format("{:02x}", base::little_endian(bytes, at + i, 1));
    }
    return text;
}
std::string serial(ByteSpan bytes, std::size_t at) {
    return fmt::format("{:04X}-{:04X}", base::little_endian(bytes, at + 2, 2), base::little_endian(bytes, at, 2));
}

// Whether an NTFS volume says that it wasn't closed: the flags of $Volume, record 3 of the master file table.
std::optional<bool> is_ntfs_clean(ByteSpan boot, const ReadAt& read) {
    constexpr std::size_t kVolumeRecord = 3;
    constexpr std::uint64_t kVolumeInformation = 0x70, kDirty = 1;
    const std::uint64_t sector = base::little_endian(boot, 11, 2), cluster = sector * boot[13];
    const auto units = static_cast<std::int8_t>(boot[64]);
    const std::uint64_t record = units > 0     ? static_cast<std::uint64_t>(units) * cluster
                                 : units > -20 ? std::uint64_t{1} << -units
                                               : 0;
    if (record < 512 || record > 65536 || cluster == 0) return std::nullopt;
    ByteVector bytes(record);
    if (read(base::little_endian(boot, 48, 8) * cluster + kVolumeRecord * record, bytes) != bytes.size() ||
        !is(bytes, 0, "FILE"))
        return std::nullopt;
    for (std::uint64_t at = base::little_endian(bytes, 20, 2); at + 24 <= bytes.size();) {
        const std::uint64_t type = base::little_endian(bytes, at, 4), length = base::little_endian(bytes, at + 4, 4);
        if (type == kVolumeInformation && bytes[at + 8] == 0)
            return (base::little_endian(bytes, at + base::little_endian(bytes, at + 20, 2) + 10, 2) & kDirty) == 0;
        if (length < 16 || type == 0xFFFFFFFF) break;
        at += length;
    }
    return std::nullopt;
}

}  // namespace

std::optional<FileSystem> recognise_file_system(const ReadAt& read) {
    ByteVector first(4096);
    first.resize(read(0, first));
    FileSystem found;
    // ext2 to ext4: superblock at 1024.
    if (base::little_endian(first, 1024 + 56, 2) == 0xEF53) {
        constexpr std::uint64_t kClean = 1, kNeedsRecovery = 4;
        found.type = "ext4";
        found.id = uuid(first, 1024 + 104);
        found.label = text_at(first, 1024 + 120, 16);
        found.clean = (base::little_endian(first, 1024 + 58, 2) & kClean) != 0 &&
                      (base::little_endian(first, 1024 + 96, 4) & kNeedsRecovery) == 0;
        return found;
    }
    if (is(first, 0, "XFSB")) {
        found.type = "xfs";
        found.id = uuid(first, 32);
        found.label = text_at(first, 108, 12);
        return found;
    }
    if (is(first, 3, "EXFAT   ")) {
        constexpr std::uint64_t kDirty = 2;
        found.type = "exfat";
        found.id = serial(first, 100);
        found.clean = (base::little_endian(first, 106, 2) & kDirty) == 0;
        return found;
    }
    if (is(first, 3, "NTFS    ")) {
        found.type = "ntfs3";
        found.id = fmt::format("{:016X}", base::little_endian(first, 72, 8));
        found.clean = is_ntfs_clean(first, read);
        return found;
    }
    const bool fat32 = is(first, 82, "FAT32   "), fat16 = is(first, 54, "FAT1");
    if ((fat32 || fat16) && base::little_endian(first, 510, 2) == 0xAA55) {
        found.type = "vfat";
        found.id = serial(first, fat32 ? 67 : 39);
        found.label = text_at(first, fat32 ? 71 : 43, 11);
        if (found.label == "NO NAME") found.label.clear();
        if (fat32) {
            // The second entry of the table: bit 27 says that it was closed.
            ByteVector entry(8);
            const std::uint64_t at = base::little_endian(first, 14, 2) * base::little_endian(first, 11, 2);
            if (read(at, entry) == entry.size()) found.clean = (base::little_endian(entry, 4, 4) & 0x08000000) != 0;
        }
        return found;
    }
    ByteVector block(4096);
    if (read(65536, block) == block.size() && is(block, 64, "_BHRfS_M")) {
        found.type = "btrfs";
        found.id = uuid(block, 32);
        found.label = text_at(block, 0x12B, 256);
        return found;
    }
    return std::nullopt;
}

Result<FileSystem> file_system_of(const base::Path& device) {
    const int handle = ::open(device.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK);
    if (handle < 0)
        return fail(ErrorKind::machine, fmt::format("the disk can't be read: {}", base::system_reason(errno)),
                    device.string(),
                    errno == EACCES ? "run it as root (sudo)" : "check that it is plugged in, and its name (lsblk)");
    auto found = recognise_file_system([&](std::uint64_t offset, std::span<std::uint8_t> into) -> std::size_t {
        const ssize_t n = ::pread(handle, into.data(), into.size(), static_cast<off_t>(offset));
        return n > 0 ? static_cast<std::size_t>(n) : 0;
    });
    ::close(handle);
    if (!found)
        return fail(ErrorKind::input, "no file system that is known is on it", device.string(),
                    "name its partition (lsblk shows them), formatted as ext4, XFS, Btrfs, exFAT, FAT or NTFS");
    // (While it is mounted its own mark says that it wasn't unmounted.)
    if (is_mounted(device)) found->clean = std::nullopt;
    return *found;
}

base::Path device_of(const std::string& id) {
    const std::string bare = id.starts_with("UUID=") ? id.substr(5) : id;
    if (bare.empty() || bare.find('/') != std::string::npos) return {};
    std::error_code error;
    const base::Path link = base::Path("/dev/disk/by-uuid") / bare;
    return std::filesystem::exists(link, error) ? link : base::Path();
}

}  // namespace wavecrest::host
