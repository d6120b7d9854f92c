// Search criteria of ContentDirectory (ISO/IEC 29341-4-12, 2.3.11.1): "upnp:class derivedfrom \"object.item.videoItem\"
// and dc:title contains \"lake\"", as a tree.
#pragma once

#include <memory>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.hpp"

namespace wavecrest::upnp {

struct Criteria {
    enum class Kind { all, both, either, compare } kind = Kind::all;  // all: "*"
    std::vector<Criteria> parts;                                      // of both and either: two
    std::string property, operation, value;                           // of compare; "exists" has "true" or "false"
};

// Fails (kind usage) for what is none: at most 4 KB, 64 comparisons and 32 parentheses deep.
Result<Criteria> parse_criteria(std::string_view text);

// "+dc:title,-dc:date".
struct SortKey {
    std::string property;
    bool descending = false;
};
// Fails (kind usage) where a property has no sign.
Result<std::vector<SortKey>> parse_sort(std::string_view text);

}  // namespace wavecrest::upnp
