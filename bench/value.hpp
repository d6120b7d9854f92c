// What a benchmark needs, or it ends.
#pragma once

#include <fmt/core.h>

#include <cstdlib>

#include "base/result.hpp"

template <typename T>
T value(wavecrest::Result<T> result) {
    if (!result) {
        fmt::print(stderr, "{} ({})\n", result.error().what, result.error().where);
        std::exit(1);
    }
    return std::move(*result);
}
