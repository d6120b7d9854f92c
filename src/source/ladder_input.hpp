// A ladder as an input: the best rung with the audio and subtitles beside it, as one title. From a folder, a playlist
// or a manifest, on this machine, a share or a web server.
#pragma once

#include <memory>

#include "source/input.hpp"

namespace wavecrest::source {

// A folder with a ladder in it (its multivariant playlist); empty for others.
base::Path ladder_in(const base::Path& folder);
// Whether an address is that of a ladder's folder: of one on a share by its name alone (NAME.ladder).
bool is_ladder_folder(const base::Address& address);
// Playlists and manifests by the ends of their names (adaptive_title.hpp). Fails (kind input) for those that can't be
// followed, are live, or encrypted.
Result<std::unique_ptr<Input>> open_ladder(const std::string& address);

}  // namespace wavecrest::source
