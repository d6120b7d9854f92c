// HLS made on the fly: the segments of a film hold all of it exactly once, whatever order they are asked for in; the
// window of a live stream keeps what it promised.
#include <catch2/catch.hpp>

#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "stream/film_hls.hpp"
#include "stream/live_hls.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::vector<Lane> read_segment(const Bytes& bytes) {
    auto media = container::open_media(
        std::make_shared<base::MemorySource>(ByteVector(bytes.data(), bytes.data() + bytes.size())));
    REQUIRE(media);
    return read_all_packets(*media->source);
}

void append(ByteVector& to, const ByteVector& more) {
    to.insert(to.end(), more.begin(), more.end());
}

}  // namespace

TEST_CASE("a film's segments hold every picture and every sound once, and begin with keyframes", "[hls]") {
    const TempDir dir;
    const Lane sound = sound_lane(Codec::aac, 24);
    const auto check = [&](const Lane& picture, const char* format, const char* name) {
        INFO(name);
        write_media(dir / name, format, {picture, sound});
        const auto film = stream::FilmHls::open(dir / name);
        REQUIRE(film);
        const auto text = (*film)->playlist("film", "?key=k");
        REQUIRE(text);
        const auto list = container::parse_playlist(*text, "playlist");
        REQUIRE(list);
        CHECK(list->ended);
        CHECK(list->on_demand);
        REQUIRE(list->segments.size() >= 3);
        CHECK(list->segments[1].uri == "film-1.ts?key=k");
        for (const auto& segment : list->segments)
            CHECK(std::llround(base::to_seconds(segment.duration)) <= list->target_s);
        CHECK(base::to_seconds(list->duration()) == Approx(24.0).margin(0.2));
        ByteVector pictures, sounds, again;
        Time start{};
        std::vector<Bytes> segments;
        for (std::size_t i = 0; i < list->segments.size(); ++i) {
            const auto bytes = (*film)->segment(i);
            REQUIRE(bytes);
            segments.push_back(*bytes);
            const auto lanes = read_segment(*bytes);
            REQUIRE(lanes.size() == 2);
            REQUIRE_FALSE(lanes[0].packets.empty());
            CHECK(lanes[0].packets.front().key);
            append(pictures, payload_of(lanes[0]));
            append(sounds, payload_of(lanes[1]));
            start += list->segments[i].duration;
        }
        CHECK(pictures == payload_of(picture));
        CHECK(sounds == payload_of(sound));
        // Out of order, by other readings: the same pictures and sound.
        const auto other = stream::FilmHls::open(dir / name);
        REQUIRE(other);
        for (std::size_t i = segments.size(); i-- > 0;) {
            const auto bytes = (*other)->segment(i);
            REQUIRE(bytes);
            const auto one = read_segment(*bytes), same = read_segment(segments[i]);
            for (std::size_t lane = 0; lane < 2; ++lane) CHECK(payload_of(one.at(lane)) == payload_of(same.at(lane)));
        }
        CHECK((*film)->segment(list->segments.size()).error().kind == ErrorKind::usage);
    };
    const Lane avc = picture_lane(Codec::h264, 576);
    check(avc, "mp4", "film.mp4");
    check(avc, "matroska", "film.mkv");
    check(avc, "mpeg-ts", "film.ts");
    // Groups that are open: pictures shown before a keyframe but coded behind it stay with it.
    check(open_group_lane(576), "matroska", "open.mkv");
}

TEST_CASE("sound alone is cut evenly; what HLS can't carry is refused by name", "[hls]") {
    const TempDir dir;
    const Lane sound = sound_lane(Codec::mp3, 20, 1);
    write_media(dir / "a.mp3", "mp3", {sound});
    const auto film = stream::FilmHls::open(dir / "a.mp3");
    REQUIRE(film);
    const auto text = (*film)->playlist("a");
    REQUIRE(text);
    const auto list = container::parse_playlist(*text, "playlist");
    REQUIRE(list);
    REQUIRE(list->segments.size() == 4);
    ByteVector all;
    for (std::size_t i = 0; i < 4; ++i) {
        const auto bytes = (*film)->segment(i);
        REQUIRE(bytes);
        append(all, payload_of(read_segment(*bytes).at(0)));
    }
    CHECK(all == payload_of(sound));
    write_media(dir / "b.webm", "webm", {picture_lane(Codec::vp9, 48)});
    const auto refused = stream::FilmHls::open(dir / "b.webm");
    REQUIRE_FALSE(refused);
    CHECK(refused.error().what.find("vp9") != std::string::npos);
    CHECK_FALSE(stream::FilmHls::open(dir / "none.mp4"));
}

TEST_CASE("a live window moves on, keeps what just left it, and says when it is over", "[hls]") {
    stream::LiveHlsSettings settings;
    settings.least = base::from_seconds(2);
    settings.listed = 3;
    settings.kept = 2;
    stream::LiveHls hls(settings);
    CHECK_FALSE(hls.playlist("x"));
    const ByteVector packet(188, 0x47);
    hls.push(packet, false, {});  // before the first keyframe: nobody could use it
    for (int i = 0; i <= 20; ++i) {
        // A keyframe a second, marked twice as multiplexers may.
        hls.push(packet, true, base::from_seconds(i));
        hls.push(packet, true, base::from_seconds(i));
        hls.push(packet, false, {});
    }
    auto list = container::parse_playlist(*hls.playlist("x"), "x");
    REQUIRE(list);
    REQUIRE(list->segments.size() == 3);
    CHECK(list->sequence == 7);
    CHECK_FALSE(list->ended);
    for (const auto& segment : list->segments) CHECK(base::to_seconds(segment.duration) == Approx(2));
    CHECK(list->segments.front().uri == "x-7.ts");
    CHECK(hls.segment(9)->size() == 6 * 188);
    CHECK(hls.segment(5));
    CHECK_FALSE(hls.segment(4));
    CHECK_FALSE(hls.segment(10));
    hls.finish(base::from_seconds(21));
    list = container::parse_playlist(*hls.playlist("x"), "x");
    REQUIRE(list);
    CHECK(list->ended);
    CHECK(list->sequence == 8);
    CHECK(base::to_seconds(list->segments.back().duration) == Approx(1));
}
