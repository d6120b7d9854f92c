// Where in a file the pieces of a film lie: what a player can show when so many bytes have come.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "base/cancel.hpp"
#include "container/mp4_reader.hpp"
#include "measure/playback.hpp"
#include "media/types.hpp"
#include "verify/supply.hpp"

namespace wavecrest::verify {

struct Film {
    struct Piece {  // a picture, or a piece of audio
        std::uint64_t offset = 0, size = 0;
        Time pts{}, duration{};
        bool key = false;
    };
    struct TrackState {  // of a track with pictures or audio
        bool pictures = false;
        std::vector<Piece> pieces;  // in decoding order
    };
    std::string container;
    Time duration{};
    std::vector<Track> tracks;
    std::vector<TrackState> track_states;
    bool index_in_front = true;
    std::string damage;  // empty: none

    // Where a player begins to read to show what is at some time.
    struct Entry {
        Time keyframe{};           // its time, the last at or before the one asked for
        std::uint64_t offset = 0;  // of it, or of the audio there if that lies somewhat before it
    };

    std::vector<RatePiece> rate() const;
    // By the first track with pictures; nothing where there is none.
    std::optional<Entry> entry_at(Time time) const;
};

// What of a film's file has arrived, as far as a player can show it, by how it hands bytes to its decoder
// (device::Playing::read_size).
class FilmArrivals : public measure::Arrivals {
  public:
    // `from`: where it begins to read; what lies before it is taken to be there.
    FilmArrivals(const Film& film, std::uint64_t bytes, std::int64_t read_size, std::uint64_t from = 0);
    // `received`: the end of what came, as an offset in the file.
    Time playable(std::uint64_t received) override;
    void restart() override;
    std::uint64_t bytes() const override { return bytes_; }
    std::uint64_t part_end(std::uint64_t at) const override;

  private:
    struct Arrival {
        std::uint64_t end;
        Time until;
    };
    struct TrackState {
        std::vector<Arrival> pieces;
        std::size_t next = 0;
    };
    Time duration_;
    std::uint64_t bytes_, read_size_, from_;
    std::vector<TrackState> track_states_;
};

Film film_of(const container::Mp4Movie& movie);
// Fetches a file of any format and reads it through, outside of any link. Formats that say nowhere where their packets
// lie are taken to spend as many bytes on packing everywhere. Errors as of Supply::file and open_media();
// kind interrupted.
Result<Film> learn_film(const Supply& supply, const Cancel& cancel);

}  // namespace wavecrest::verify
