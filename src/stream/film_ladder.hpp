// A ladder's folder (convert/ladder.hpp) for players, on demand: its files as they are, its playlists and manifest as
// they are asked for. Nothing is kept of a viewer. A folder that was made anew since is looked at anew.
#pragma once

#include <chrono>
#include <memory>
#include <optional>
#include <string>

#include "base/address.hpp"
#include "base/mutex.hpp"
#include "container/ladder.hpp"
#include "stream/file_version.hpp"

namespace wavecrest::stream {

class FilmLadder {
  public:
    // Reads the headers and indices. Fails as container::read_ladder().
    static Result<std::unique_ptr<FilmLadder>> open(const base::Address& folder);

    struct Answer {
        std::string text;                   // either
        std::optional<base::Address> file;  // or
        std::string media_type;
    };
    // What is at a name in the folder, as it was looked at last; nothing for all else that may lie there. `query` is
    // written behind the addresses in playlists and manifest. Never waits for the folder.
    std::optional<Answer> answer(std::string_view name, const std::string& query) const;
    // Reads headers and indices again where the folder was made anew (on a share this is looked at every few seconds at
    // most); may take as long as its drive or server does. Fails as open(), and then all stays as it was.
    Status look_again();
    // Up to which a title is there, when one of its files is so far, which is told by its size.
    Time time_at(std::uint64_t file_size, std::uint64_t offset) const;
    Time duration() const { return now()->duration(); }
    std::uint64_t size_bytes() const;

  private:
    using Ladder = std::shared_ptr<const container::Ladder>;
    explicit FilmLadder(base::Address folder) : folder_(std::move(folder)) {}
    base::Address file(const std::string& name) const;
    // All files of a ladder are written together: its playlist and the first of its media files tell.
    Result<FileVersion> version_of_playlist() const;
    Result<FileVersion> version_of_media(const container::Ladder& ladder) const;
    Ladder now() const;

    const base::Address folder_;
    base::Mutex looking_;  // one looks at a time
    mutable base::Mutex mutex_;
    Ladder ladder_ GUARDED_BY(mutex_);
    FileVersion playlist_ GUARDED_BY(looking_), media_ GUARDED_BY(looking_);
    std::chrono::steady_clock::time_point looked_at_ GUARDED_BY(looking_);
};

}  // namespace wavecrest::stream
