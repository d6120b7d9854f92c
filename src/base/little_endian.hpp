// Numbers whose lowest byte comes first, as formats of disks and Windows networks have them.
#pragma once

#include "base/bytes.hpp"

namespace wavecrest::base {

// `count` bytes (1 to 8) at a position; 0 where the bytes end before.
inline std::uint64_t little_endian(ByteSpan bytes, std::size_t at, int count) {
    if (at > bytes.size() || static_cast<std::size_t>(count) > bytes.size() - at) return 0;
    std::uint64_t value = 0;
    for (int i = count - 1; i >= 0; --i) value = value << 8 | bytes[at + static_cast<std::size_t>(i)];
    return value;
}

}  // namespace wavecrest::base
