#include "stream/file_version.hpp"

#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "base/file.hpp"
#include "source/share_input.hpp"

namespace wavecrest::stream {

Result<FileVersion> version_of(const base::Address& file) {
    if (file.is_share()) {
        WAVECREST_TRY_ASSIGN(there, source::open_share(file, nullptr));
        return FileVersion{0, there.entry.size, there.entry.modified_ns};
    }
    if (!file.is_local()) return FileVersion{};
    struct stat info {};
    const int handle = base::open_without_links(file.path());
    const bool known = handle >= 0 && ::fstat(handle, &info) == 0 && S_ISREG(info.st_mode);
    const int error = handle >= 0 && known ? 0 : errno;
    if (handle >= 0) ::close(handle);
    if (!known)
        return fail(ErrorKind::input, fmt::format("the file can't be read: {}", std::strerror(error)), file.text(),
                    "check whether it was moved, and its drive or share");
    return FileVersion{info.st_ino, static_cast<std::uint64_t>(info.st_size),
                       std::int64_t{info.st_mtim.tv_sec} * 1'000'000'000 + info.st_mtim.tv_nsec};
}

}  // namespace wavecrest::stream
