// Files written to a share, with the promise that base::AtomicFile makes on this machine's disks: under its name a file
// is there whole or not at all.
#pragma once

#include <functional>
#include <string>

#include "base/byte_source.hpp"
#include "share/share.hpp"

namespace wavecrest::share {

// Copies `from` to a path of the share, under a hidden temporary name first (base/atomic_file.hpp); missing folders are
// made. A server that comes back within Limits::reconnect gets the file from its beginning again. `progress` is told
// how many bytes are there.
//
// Fails (kind machine) where something of this name is there, or appears meanwhile: nothing is replaced; where writing
// isn't permitted; where the disk is full. Then nothing of it is left, unless the server is gone: such leftovers are
// removed by the next upload into the same folder, a day later. `IfThere::take`: what is there is taken for it, where
// it is the same to the byte (an earlier upload, of which the rest failed).
enum class IfThere : std::uint8_t { refuse, take };
Status upload(const Share& share, base::ByteSource& from, const std::string& path,
              const std::function<void(std::uint64_t bytes)>& progress = {}, IfThere if_there = IfThere::refuse);

// Whether files can be written into a folder, or where that isn't there yet into what is there of its way: a hidden
// file is made and removed. Fails as upload() does.
Status try_writing(const Share& share, const std::string& folder);

}  // namespace wavecrest::share
