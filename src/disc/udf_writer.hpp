// Writes a folder as a disc image with a UDF file system (ECMA-167, OSTA UDF), as sample discs need it.
#pragma once

#include <string>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::disc {

enum class UdfRevision {
    dvd_video,  // 1.02
    blu_ray,    // 2.50, files' entries in a metadata partition
};

// `image` must not exist; it appears when it is whole. Names of files take at most 250 characters of ASCII. Errors:
// input (the folder can't be read), machine (can't write).
Status write_udf_image(const base::Path& folder, const base::Path& image, const std::string& label,
                       UdfRevision revision);

}  // namespace wavecrest::disc
