// A ladder's folder (convert/ladder.hpp) for players, on demand: its files as they are, its playlists and manifest as
// they are asked for. Nothing is kept of a viewer.
#pragma once

#include <memory>
#include <optional>
#include <string>

#include "base/address.hpp"
#include "container/ladder.hpp"

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
    // What is at a name in the folder; nothing for all else that may lie there. `query` is written behind the addresses
    // in playlists and manifest.
    std::optional<Answer> answer(std::string_view name, const std::string& query) const;
    // Up to which a title is there, when one of its files is so far, which is told by its size.
    Time time_at(std::uint64_t file_size, std::uint64_t offset) const;
    Time duration() const { return ladder_.duration(); }
    const container::Ladder& ladder() const { return ladder_; }
    std::uint64_t size_bytes() const { return size_; }

  private:
    FilmLadder(base::Address folder, container::Ladder ladder)
        : folder_(std::move(folder)), ladder_(std::move(ladder)) {}
    base::Address file(const std::string& name) const;

    base::Address folder_;
    container::Ladder ladder_;
    std::uint64_t size_ = 0;
};

}  // namespace wavecrest::stream
