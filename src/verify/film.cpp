#include "verify/film.hpp"

#include <algorithm>

#include "container/reader.hpp"
#include "net/http_source.hpp"

namespace wavecrest::verify {

std::vector<RatePiece> Film::rate() const {
    std::vector<RatePiece> all;
    for (const Lane& lane : lanes) {
        for (const Piece& piece : lane.pieces) all.push_back({piece.pts, piece.pts + piece.duration, piece.size});
    }
    return all;
}

const Film::Piece* Film::keyframe_before(Time time) const {
    for (const Lane& lane : lanes) {
        if (!lane.pictures || lane.pieces.empty()) continue;
        const Piece* key = &lane.pieces.front();
        for (const Piece& piece : lane.pieces) {
            if (piece.key && piece.pts <= time) key = &piece;
        }
        return key;
    }
    return nullptr;
}

Film film_of(const container::Mp4Movie& movie) {
    Film film;
    film.container = "mp4";
    film.duration = movie.duration;
    film.index_in_front = movie.index_in_front;
    if (movie.missing_bytes > 0) film.damage = "the file is cut short";
    for (const container::Mp4Track& track : movie.tracks) {
        film.tracks.push_back(track.info);
        if (track.info.kind == TrackKind::subtitle) continue;
        Film::Lane lane;
        lane.pictures = track.info.kind == TrackKind::video;
        for (const container::Mp4Sample& s : track.samples)
            lane.pieces.push_back({s.offset, s.size, s.pts, s.duration, s.key});
        film.lanes.push_back(std::move(lane));
    }
    return film;
}

Result<Film> learn_film(const net::Url& url, const Cancel& cancel) {
    WAVECREST_TRY_ASSIGN(opened, net::open_http(url));
    const std::shared_ptr<base::ByteSource> bytes = std::move(opened);
    WAVECREST_TRY_ASSIGN(media, container::open_media(bytes));
    PacketSource& source = *media.source;
    Film film;
    film.container = media.container;
    film.tracks = source.tracks();
    film.lanes.resize(film.tracks.size());
    std::uint64_t payload = 0;
    while (true) {
        if (cancel.requested()) return base::interrupted();
        WAVECREST_TRY_ASSIGN(packet, source.read());
        if (!packet) break;
        for (std::size_t i = 0; i < film.tracks.size(); ++i) {
            if (film.tracks[i].id != packet->track || film.tracks[i].kind == TrackKind::subtitle) continue;
            film.lanes[i].pictures = film.tracks[i].kind == TrackKind::video;
            film.lanes[i].pieces.push_back({payload, packet->data.size(), packet->pts, packet->duration, packet->key});
        }
        payload += packet->data.size();
    }
    film.duration = source.duration();
    std::erase_if(film.lanes, [](const Film::Lane& lane) { return lane.pieces.empty(); });
    if (!source.problems().empty()) film.damage = source.problems().front().what;
    if (!media.problems.empty()) film.damage = media.problems.front().what;
    const double packing = payload > 0 ? static_cast<double>(bytes->size()) / static_cast<double>(payload) : 1;
    for (Film::Lane& lane : film.lanes) {
        for (Film::Piece& piece : lane.pieces) {
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
