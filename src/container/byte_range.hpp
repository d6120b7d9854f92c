// A part of a file, as playlists and manifests name it.
#pragma once

#include <cstdint>

namespace wavecrest::container {

struct ByteRange {
    std::uint64_t offset = 0, length = 0;

    std::uint64_t end() const { return offset + length; }
    bool operator==(const ByteRange&) const = default;
};

}  // namespace wavecrest::container
