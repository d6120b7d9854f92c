// What a piece of music says of itself.
#pragma once

#include <string>

namespace wavecrest::media {

struct Tags {
    std::string title, performer, album, genre;
    std::string date;  // "2019", or with month and day: "2019-05-01"
    int number = 0;    // on its album; 0: none

    bool empty() const {
        return title.empty() && performer.empty() && album.empty() && genre.empty() && date.empty() && number == 0;
    }
    bool operator==(const Tags&) const = default;
};

}  // namespace wavecrest::media
