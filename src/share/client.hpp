// What is asked of a file server, by one thread over one connection: thin adapters over libsmbclient (SMB 2 and 3) and
// libnfs (NFS 3 and 4). Connection (share.hpp) puts threads, time limits and reconnection around them.
#pragma once

#include <sys/types.h>

#include <cerrno>
#include <cstdint>
#include <memory>
#include <string>
#include <tl/expected.hpp>
#include <vector>

#include "base/bytes.hpp"
#include "base/time.hpp"
#include "share/account.hpp"
#include "share/location.hpp"

namespace wavecrest::share {

struct Entry {
    std::string name;
    bool folder = false;
    std::uint64_t size = 0;
    std::int64_t modified_ns = 0;  // since 1970

    bool operator==(const Entry&) const = default;
};

// A failure is told by its number (errno), as the libraries do.
template <typename T>
using Answer = tl::expected<T, int>;
// A server of NFS 4 that has just been started opens no files until its grace period is over.
inline constexpr int kInGrace = EBUSY;

class Client {
  public:
    virtual ~Client() = default;

    // Paths as of Location::path. Names of a folder, without "." and ".."; of the server itself its shares (folders).
    virtual Answer<std::vector<Entry>> list(const std::string& folder) = 0;
    virtual Answer<Entry> look(const std::string& path) = 0;
    // A file, to read; or to write, made anew (EEXIST where it is there). The number is for what follows.
    enum class Open : std::uint8_t { read, make };
    virtual Answer<int> open(const std::string& path, Open how) = 0;
    virtual Answer<std::size_t> read(int file, std::uint64_t offset, std::span<std::uint8_t> into) = 0;
    virtual Answer<std::size_t> write(int file, std::uint64_t offset, ByteSpan bytes) = 0;
    // What was written is with the server's disk then, where the protocol can ask for that (NFS).
    virtual Answer<void> close(int file) = 0;
    virtual Answer<void> remove(const std::string& path) = 0;
    virtual Answer<void> make_folder(const std::string& path) = 0;
    virtual Answer<void> remove_folder(const std::string& path) = 0;  // an empty one
    // EEXIST where something of the new name is there: nothing is replaced.
    virtual Answer<void> rename(const std::string& from, const std::string& to) = 0;
    // Bytes that this user may still write in a folder; ENOTSUP where that isn't told.
    virtual Answer<std::uint64_t> free_space(const std::string& folder) = 0;
};

// Connects with the first question. `limit`: of the wait for each answer. Each works in a process of its
// own (client_process.hpp).
std::unique_ptr<Client> make_smb_client(const Location& at, const Account& account, Time limit);
std::unique_ptr<Client> make_nfs_client(const Location& at, Time limit);

}  // namespace wavecrest::share
