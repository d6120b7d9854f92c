// Names of converted films as media libraries expect them: "Name (Year)/Name (Year).mp4".
#pragma once

#include <string>
#include <string_view>

#include "base/file.hpp"

namespace wavecrest::convert {

struct FilmName {
    std::string name;
    int year = 0;  // 0: not known, and not written

    std::string full() const;  // "Name (Year)", or the name alone
};

// From a folder's name or a volume label: takes a trailing "(Year)" off; turns underscores into blanks and all-capital
// labels into words. Characters no file system takes are replaced.
FilmName film_name(std::string_view text);
// From what somebody wrote for it: its letters stay as they are.
FilmName given_name(std::string_view text);

// Where the film goes below a folder: "Name (Year)/Name (Year).mp4".
base::Path library_path(const FilmName& name, std::string_view extension);

// Where an episode goes: "Name/Season 01/Name - S01E02.mp4".
base::Path episode_path(const FilmName& name, int season, int episode, std::string_view extension);

}  // namespace wavecrest::convert
