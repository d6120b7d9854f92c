// Paths, and what the system says of files. Reading is in byte_source.hpp, writing in atomic_file.hpp.
#pragma once

#include <filesystem>
#include <string>

#include "base/result.hpp"

namespace wavecrest::base {

using Path = std::filesystem::path;

// A whole file of at most `limit` bytes, as text.
Result<std::string> read_text_file(const Path& path, std::size_t limit = 4 << 20);

// Opens a file for reading: without waiting for a pipe's other end, and not when a link stands in the path now. For
// paths that were looked up earlier (std::filesystem::canonical): a file or folder replaced by a link since isn't
// followed. -1 with errno, as open(2).
int open_without_links(const Path& path);

// Whether a file lies on a share or another program's file system, where any look at it may wait for somebody else.
bool may_be_remote(int handle);
// Whether `count` bytes at `offset` of a file are in memory (the page cache), as far as can be told without reading
// them: all pages by cachestat(2); `by_probes`, as of kernels before 6.5, one in sixteen. False where the file system
// can't tell.
bool is_in_memory(int handle, std::uint64_t offset, std::size_t count, bool by_probes = false);

// An absolute form of a path that need not exist; the path itself where the working folder is gone.
Path absolute_path(const Path& path);

// Where this user's programs keep what they must remember: wavecrest in $XDG_STATE_HOME, or in ~/.local/state (XDG Base
// Directory Specification).
Path state_folder();
// And what they can make again: wavecrest in $XDG_CACHE_HOME, or in ~/.cache.
Path cache_folder();

// What an error number of the system (errno) says, for people: "permission denied".
std::string system_reason(int error);

}  // namespace wavecrest::base
