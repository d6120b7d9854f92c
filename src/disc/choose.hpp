// Which titles of a disc are worth converting: the film, the episodes, and what only repeats or imitates them.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include "base/time.hpp"

namespace wavecrest::disc {

// What a title is made of, as far as choosing needs it.
struct TitleShape {
    struct Segment {
        std::string id;  // equal where the data is: "set 1, sectors 0-4711", "00012, 0.5 s to 61.2 s"
        Time duration{};
        // Where it begins and ends on the medium, in any unit that grows along it; a segment that begins where the one
        // before ends follows on.
        std::int64_t begins = 0, ends = 0;
    };
    int number = 0;
    Time duration{};
    std::vector<Segment> segments;
    std::vector<Time> chapters;  // starts, ascending
    int audio_tracks = 0, subtitle_tracks = 0;
};

enum class Role {
    film,
    episode,    // one of several
    all,        // plays the episodes in a row
    duplicate,  // of another title
    fake,       // the film's pieces in a wrong order
    bonus,
};
std::string_view short_name(Role role);

struct Choice {
    Role role = Role::bonus;
    std::string why;  // in words
    int same_as = 0;  // duplicate: the number of the title it repeats
};

// An episode: a whole title, or a run of chapters of one that plays them all.
struct Episode {
    int title = 0;
    int first_chapter = 0, last_chapter = 0;  // from 1; 0: the whole title
    Time start{}, end{};
};

struct Choices {
    std::vector<Choice> titles;     // in the order given
    int main = 0;                   // number of the title to take when one is wanted
    std::vector<Episode> episodes;  // each once, in playing order; empty when the disc holds a film
};

// Decides from the shapes alone. `titles` must not be empty.
Choices choose_titles(const std::vector<TitleShape>& titles);

}  // namespace wavecrest::disc
