// A shelf of rips: folders of ripped discs, disc images and media files below one folder, in however many folders.
#pragma once

#include <string>
#include <vector>

#include "base/address.hpp"
#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::source {

struct ShelfEntry {
    enum class Kind { disc, image, file, unknown } kind = Kind::unknown;
    base::Path path;  // or an address on a share
};

// Whether a folder is itself a ripped disc.
bool is_disc_folder(const base::Path& folder);
// Whether it is one input: a disc, or a ladder (ladder_input.hpp).
bool is_input_folder(const base::Path& folder);

// Whether it is a folder with something in it that isn't one input itself, here or on a share.
bool is_shelf(const base::Address& place);

// What lies below a folder, here or on a share, in the order of names. A folder with files but nothing that is known by
// its structure or extension is `unknown`. Ladders are what was made of something, and left out. Links to folders are
// not followed, hidden ones left out. Fails (kind input or machine) where the folder itself can't be read.
Result<std::vector<ShelfEntry>> read_shelf(const base::Address& folder);

}  // namespace wavecrest::source
