// Names of converted films as media libraries expect them: "Name (Year)/Name (Year).mp4", or as a house's template
// says.
#pragma once

#include <string>
#include <string_view>

#include "base/file.hpp"
#include "base/result.hpp"

namespace wavecrest::convert {

struct FilmName {
    std::string name;
    int year = 0;     // 0: not known, and not written
    int part = 0;     // of a film on several discs, from 1; 0: it is on one
    int season = -1;  // of a series; 0: its specials; -1: not known
    int episode = 0;  // of a series, from 1; 0: it is a film

    std::string full() const;  // "Name (Year)", "Name", "Name (Year) - part2", "Name S01E02"
};

// From a folder's name or a volume label: takes a trailing "(Year)", "Disc 2" and "Season 3" off; turns underscores
// into blanks and all-capital labels into words. Characters no file system takes are replaced.
FilmName film_name(std::string_view text);
// From what somebody wrote for it: its letters stay as they are. A trailing "S02E05" makes it an episode.
FilmName given_name(std::string_view text);

// Where films and episodes go below a folder, without extension. {title}, {year}, {season}, {episode}, {part}; a number
// has at least so many digits with {season:02}. What is not known is left out, with the brackets around it.
struct NameTemplates {
    std::string film = "{title} ({year})/{title} ({year})";
    std::string episode = "{title} ({year})/Season {season:02}/{title} ({year}) - S{season:02}E{episode:02}";
};
// Fails (kind usage) for unknown fields, for names that would not tell films or episodes apart, and for those that lead
// out of the folder.
Status check(const NameTemplates& templates);

// "Name (Year)/Name (Year).mp4"; " - part2" behind the name where a film has parts and the template no {part}.
base::Path library_path(const FilmName& name, std::string_view extension, const NameTemplates& templates = {});

// A file's or folder's name that every file system and share takes (those of SMB clients among them: no \ : * ? " < >
// |, no blank or dot at its end, no CON or NUL), of at most 200 bytes.
std::string safe_name(std::string_view text);

}  // namespace wavecrest::convert
