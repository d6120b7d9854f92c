// The ISO 9660 file system (ECMA-119) of CD and DVD images: primary volume, interchange levels 1 to 3.
#pragma once

#include "base/byte_source.hpp"
#include "disc/disc_files.hpp"

namespace wavecrest::disc {

// Whether the volume descriptor's mark stands at its place (8.4: sector 16).
bool is_iso9660(base::ByteSource& image);
Result<std::shared_ptr<DiscFiles>> open_iso9660(std::shared_ptr<base::ByteSource> image);

}  // namespace wavecrest::disc
