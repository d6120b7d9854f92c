// The UDF file system (ECMA-167 with the OSTA profile) of DVD and Blu-ray images: revision 1.02 as DVD-Video uses it,
// to 2.60 with the metadata partition of Blu-ray. Read only.
#pragma once

#include "base/byte_source.hpp"
#include "disc/disc_files.hpp"

namespace wavecrest::disc {

Result<std::shared_ptr<DiscFiles>> open_udf(std::shared_ptr<base::ByteSource> image);

}  // namespace wavecrest::disc
