// The targets by name: scripts/fuzz builds a libFuzzer program of each, `fuzz_smoke` runs them all for a moment.
#pragma once

#include <vector>

#include "base/bytes.hpp"

struct FuzzTarget {
    const char* name;
    void (*run)(wavecrest::ByteSpan bytes);
};
const std::vector<FuzzTarget>& fuzz_targets();
