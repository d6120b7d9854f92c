// A file system on which reading fails at a place, as a scratched disc's or a dying drive's does:
//
//   failing_fs MOUNTPOINT FOLDER NAME FROM TO     reads of bytes FROM to TO of files called NAME fail with EIO
//   failing_fs MOUNTPOINT FOLDER NAME FROM TO N   and all reads give N bytes a second, as over a poor link
//
// Runs in the foreground until it is unmounted. Read only.
#define FUSE_USE_VERSION 31
#include <dirent.h>
#include <fcntl.h>
#include <fuse.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <string>

namespace {

std::string root, failing;
off_t fails_from = 0, fails_to = 0;
double bytes_per_second = 0;  // 0: as fast as it goes

std::string real(const char* path) {
    return root + path;
}

int get_attributes(const char* path, struct stat* out, fuse_file_info*) {
    return ::lstat(real(path).c_str(), out) == 0 ? 0 : -errno;
}

int read_folder(const char* path, void* buffer, fuse_fill_dir_t fill, off_t, fuse_file_info*, fuse_readdir_flags) {
    DIR* folder = ::opendir(real(path).c_str());
    if (folder == nullptr) return -errno;
    while (const dirent* entry = ::readdir(folder)) fill(buffer, entry->d_name, nullptr, 0, fuse_fill_dir_flags{});
    ::closedir(folder);
    return 0;
}

int open_file(const char* path, fuse_file_info* info) {
    const int handle = ::open(real(path).c_str(), O_RDONLY);
    if (handle < 0) return -errno;
    info->fh = static_cast<std::uint64_t>(handle);
    info->direct_io = 1;  // every read is asked for, none comes out of the page cache
    return 0;
}

int read_file(const char* path, char* buffer, size_t size, off_t offset, fuse_file_info* info) {
    const std::string name = path;
    const bool here =
        name.size() >= failing.size() && name.compare(name.size() - failing.size(), failing.size(), failing) == 0;
    if (here && offset < fails_to && offset + static_cast<off_t>(size) > fails_from) return -EIO;
    const ssize_t got = ::pread(static_cast<int>(info->fh), buffer, size, offset);
    if (got > 0 && bytes_per_second > 0)
        ::usleep(static_cast<useconds_t>(1e6 * static_cast<double>(got) / bytes_per_second));
    return got < 0 ? -errno : static_cast<int>(got);
}

int release_file(const char*, fuse_file_info* info) {
    return ::close(static_cast<int>(info->fh));
}

}  // namespace

int main(int argc, char** argv) {
    if (argc != 6 && argc != 7) return 2;
    root = argv[2];
    failing = argv[3];
    fails_from = std::atoll(argv[4]);
    fails_to = std::atoll(argv[5]);
    if (argc == 7) bytes_per_second = std::atof(argv[6]);
    fuse_operations operations{};
    operations.getattr = get_attributes;
    operations.readdir = read_folder;
    operations.open = open_file;
    operations.read = read_file;
    operations.release = release_file;
    char foreground[] = "-f", single[] = "-s";
    char* arguments[] = {argv[0], foreground, single, argv[1], nullptr};
    return fuse_main(4, arguments, &operations, nullptr);
}
