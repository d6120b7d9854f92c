// Walking the boxes of an ISO base media file (ISO/IEC 14496-12, 4.2) that are in memory.
#pragma once

#include <vector>

#include "base/bits.hpp"
#include "base/bytes.hpp"
#include "container/mp4_format.hpp"

namespace wavecrest::container::mp4 {

struct BoxView {
    std::uint32_t type = 0;
    ByteSpan body;
};

// The boxes directly inside `bytes`; stops at the first that does not fit.
std::vector<BoxView> children(ByteSpan bytes);

// The body of the first box of that type directly inside; empty when there is none.
ByteSpan child(ByteSpan bytes, const char (&type)[5]);

}  // namespace wavecrest::container::mp4
