// What kind of file this is, from its first bytes.
#pragma once

#include <string_view>

#include "base/bytes.hpp"

namespace wavecrest::container {

inline constexpr std::size_t kSniffBytes = 4096;

// The container's short name ("mp4", "matroska", "mpeg-ts" ...); empty when nothing is recognised.
std::string_view sniff(ByteSpan first_bytes);

}  // namespace wavecrest::container
