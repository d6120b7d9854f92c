// What arrives on shelves (source/shelf.hpp) while a program runs: told when it is there as a whole, not while somebody
// still copies it. Folders are looked at again and again: so it works on shares, mounted or not, where changes aren't
// told.
#pragma once

#include <map>
#include <string>
#include <vector>

#include "base/file.hpp"
#include "base/result.hpp"
#include "base/time.hpp"

namespace wavecrest::job {

class Arrivals {
  public:
    // Folders here, or addresses of some on shares. `rest`: so long nothing of a source may have changed.
    Arrivals(std::vector<base::Path> folders, Time rest) : folders_(std::move(folders)), rest_(rest) {}

    struct Looked {
        std::vector<base::Path> whole;  // at rest since this look, and whole as far as their structure tells
        // At rest, but not whole, or not known: each told once, with why.
        std::vector<std::pair<base::Path, std::string>> broken;
        std::vector<Error> unreadable;  // folders, now; each told once until it can be read again
        std::size_t waiting = 0;        // sources that still change, or did lately
        Time due{};                     // of these, when the first may be at rest
    };
    // `now`: of a clock that only goes forward. Sources are told once, and again where they change later.
    Looked look(Time now);

  private:
    // Files below a source, by what tells that one changed.
    struct State {
        std::size_t files = 0;
        std::uint64_t bytes = 0;
        std::int64_t newest_ns = 0;

        bool operator==(const State&) const = default;
    };
    static Result<State> state_of(const base::Path& source);

    struct Source {
        State state;
        Time since{};
        bool told = false;
    };
    const std::vector<base::Path> folders_;
    const Time rest_;
    std::map<base::Path, Source> sources_;
    std::map<base::Path, bool> unreadable_;
};

}  // namespace wavecrest::job
