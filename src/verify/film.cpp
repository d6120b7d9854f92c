#include "verify/film.hpp"

#include <algorithm>

#include "base/byte_source.hpp"
#include "container/reader.hpp"

namespace wavecrest::verify {

std::vector<RatePiece> Film::rate() const {
    std::vector<RatePiece> all;
    for (const TrackState& track_state : track_states) {
        for (const Piece& piece : track_state.pieces)
            all.push_back({piece.pts, piece.pts + piece.duration, piece.size});
    }
    return all;
}

std::optional<Film::Entry> Film::entry_at(Time time) const {
    const auto pictures = std::find_if(track_states.begin(), track_states.end(),
                                       [](const TrackState& one) { return one.pictures && !one.pieces.empty(); });
    if (pictures == track_states.end()) return std::nullopt;
    const Piece* key = &pictures->pieces.front();
    for (const Piece& piece : pictures->pieces) {
        if (piece.key && piece.pts <= time) key = &piece;
    }
    Entry entry{key->pts, key->offset};
    // What lies farther off is read over another connection.
    constexpr std::uint64_t kNear = 1 << 20;
    const std::uint64_t least = key->offset > kNear ? key->offset - kNear : 0;
    for (const TrackState& track : track_states) {
        const auto first = std::find_if(track.pieces.begin(), track.pieces.end(), [&](const Piece& piece) {
            return !track.pictures && piece.pts + piece.duration > key->pts;
        });
        if (first != track.pieces.end() && first->offset >= least) entry.offset = std::min(entry.offset, first->offset);
    }
    return entry;
}

FilmArrivals::FilmArrivals(const Film& film, std::uint64_t bytes, std::int64_t read_size, std::uint64_t from)
    : duration_(film.duration), bytes_(bytes), read_size_(static_cast<std::uint64_t>(read_size)), from_(from) {
    for (const Film::TrackState& track : film.track_states) {
        if (track.pieces.empty()) continue;
        TrackState track_state;
        for (const Film::Piece& piece : track.pieces)
            track_state.pieces.push_back({piece.offset + piece.size, std::max(piece.pts, Time{})});
        std::stable_sort(track_state.pieces.begin(), track_state.pieces.end(),
                         [](const Arrival& a, const Arrival& b) { return a.end < b.end; });
        // What is playable is limited by the earliest piece that is still missing.
        Time earliest = duration_;
        for (auto a = track_state.pieces.rbegin(); a != track_state.pieces.rend(); ++a)
            a->until = earliest = std::min(earliest, a->until);
        track_states_.push_back(std::move(track_state));
    }
}

Time FilmArrivals::playable(std::uint64_t received) {
    if (read_size_ > 0 && received < bytes_) {
        const std::uint64_t read = received - std::min(received, from_);
        received = from_ + (read < read_size_ / 2 ? 0
                            : read < read_size_   ? read_size_ / 2
                                                  : read / read_size_ * read_size_);
    }
    Time until = duration_;
    for (TrackState& track_state : track_states_) {
        while (track_state.next < track_state.pieces.size() && track_state.pieces[track_state.next].end <= received)
            ++track_state.next;
        if (track_state.next < track_state.pieces.size())
            until = std::min(until, track_state.pieces[track_state.next].until);
    }
    return until;
}

void FilmArrivals::restart() {
    for (TrackState& track_state : track_states_) track_state.next = 0;
}

std::uint64_t FilmArrivals::part_end(std::uint64_t at) const {
    // Finer steps than a large file needs would only take time.
    constexpr std::uint64_t kSteps = 40'000, kLeast = 16 << 10;
    const std::uint64_t step = std::max({read_size_ / 2, bytes_ / kSteps, kLeast});
    return (at / step + 1) * step;
}

Film film_of(const container::Mp4Movie& movie) {
    Film film;
    film.container = "mp4";
    film.duration = movie.duration;
    film.index_in_front = movie.index_in_front;
    if (movie.missing_bytes > 0) film.damage = "file is truncated";
    for (const container::Mp4Track& track : movie.tracks) {
        film.tracks.push_back(track.info);
        if (track.info.kind == TrackKind::subtitle) continue;
        Film::TrackState track_state;
        track_state.pictures = track.info.kind == TrackKind::video;
        for (const container::Mp4Sample& s : track.samples)
            track_state.pieces.push_back({s.offset, s.size, s.pts, s.duration, s.key});
        film.track_states.push_back(std::move(track_state));
    }
    return film;
}

Result<Film> learn_film(const Supply& supply, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(bytes, supply.file());
    WAVECREST_TRY_ASSIGN(media, container::open_media(bytes));
    PacketSource& source = *media.source;
    Film film;
    film.container = media.container;
    film.tracks = source.tracks();
    film.track_states.resize(film.tracks.size());
    std::uint64_t payload = 0;
    while (true) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        for (std::size_t i = 0; i < film.tracks.size(); ++i) {
            if (film.tracks[i].id != packet->track || film.tracks[i].kind == TrackKind::subtitle) continue;
            film.track_states[i].pictures = film.tracks[i].kind == TrackKind::video;
            film.track_states[i].pieces.push_back(
                {payload, packet->data.size(), packet->pts, packet->duration, packet->key});
        }
        payload += packet->data.size();
    }
    film.duration = source.duration();
    std::erase_if(film.track_states, [](const Film::TrackState& track_state) { return track_state.pieces.empty(); });
    if (!source.problems().empty()) film.damage = source.problems().front().what;
    if (!media.problems.empty()) film.damage = media.problems.front().what;
    const double packing = payload > 0 ? static_cast<double>(bytes->size()) / static_cast<double>(payload) : 1;
    for (Film::TrackState& track_state : film.track_states) {
        for (Film::Piece& piece : track_state.pieces) {
            const auto place = [&](std::uint64_t at) {
                return static_cast<std::uint64_t>(static_cast<double>(at) * packing);
            };
            const std::uint64_t end = std::min(place(piece.offset + piece.size), bytes->size());
            piece.offset = std::min(place(piece.offset), end);
            piece.size = end - piece.offset;
        }
    }
    return film;
}

}  // namespace wavecrest::verify
