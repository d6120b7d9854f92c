// A picture that stands for a film: the one with most to see of some that are taken from it.
#pragma once

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::library {

// A PNG of at most 640x360 of a film, kept in the user's cache until the film changes. May take as long as decoding a
// few pictures. Fails (kind input) where there is none that can be decoded.
Result<base::Path> poster_of(const base::Path& film);

}  // namespace wavecrest::library
