// What tells that a file is another than before: it was replaced, or written on.
#pragma once

#include <cstdint>

#include "base/address.hpp"
#include "base/result.hpp"

namespace wavecrest::stream {

struct FileVersion {
    std::uint64_t inode = 0;  // of a file on this machine
    std::uint64_t size = 0;   // bytes
    std::int64_t changed_ns = 0;
    bool operator==(const FileVersion&) const = default;
};
// Of a file on this machine or on a share; may take as long as its drive or server does. Fails (kind input) where it
// can't be read.
Result<FileVersion> version_of(const base::Address& file);

}  // namespace wavecrest::stream
