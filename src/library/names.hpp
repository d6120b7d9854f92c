// What a file of a library is, by its name and place: "Film (Year)/Film (Year).mp4", "Series/Season 01/Series -
// S01E02.mkv", "Performer/Album/03 Title.flac". What music says of itself (tags) is known to the catalogue, and
// counts more.
#pragma once

#include <string>

#include "base/file.hpp"

namespace wavecrest::library {

struct NamedAs {
    std::string title;
    int year = 0;        // 0: not known
    std::string series;  // of an episode; empty: it is none
    int season = 0, episode = 0;
    std::string performer, album;  // by the folders, for music
    int track = 0;
    std::string track_title;  // the title without the number in front of it
};
// `relative`: its path below the collection's folder.
NamedAs named_as(const base::Path& relative);

// Files that are looked at, by their extension.
bool is_media(const base::Path& file);
// By which names are sorted: in lower case, without an article in front.
std::string sorting(const std::string& title);

}  // namespace wavecrest::library
