// HLS made on the fly: the segments of a film hold all of it exactly once, whatever order they are asked for in; the
// window of a live stream keeps what it promised.
#include <fmt/format.h>

#include <catch2/catch.hpp>
#include <thread>

#include "base/byte_source.hpp"
#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "measure/transport.hpp"
#include "media/language.hpp"
#include "stream/film_hls.hpp"
#include "stream/hls_viewers.hpp"
#include "stream/live.hpp"
#include "stream/live_hls.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

std::vector<TestTrack> read_segment(const Bytes& bytes) {
    auto media = container::open_media(
        std::make_shared<base::MemorySource>(ByteVector(bytes.data(), bytes.data() + bytes.size())));
    REQUIRE(media);
    return read_all_packets(*media->source);
}

void append(ByteVector& to, const ByteVector& more) {
    to.insert(to.end(), more.begin(), more.end());
}

// The cues of a WebVTT segment; none where nothing is said in it.
std::vector<Packet> cues_of(const Bytes& bytes) {
    auto media = container::open_media(
        std::make_shared<base::MemorySource>(ByteVector(bytes.data(), bytes.data() + bytes.size())));
    return media ? read_all_packets(*media->source).at(0).packets : std::vector<Packet>{};
}

std::string text_of(const Packet& packet) {
    const ByteSpan bytes = packet.data.view();
    return std::string(bytes.begin(), bytes.end());
}

}  // namespace

TEST_CASE("a film's segments hold every picture and every audio once, and begin with keyframes", "[hls]") {
    const TempDir dir;
    const TestTrack audio = audio_track(Codec::aac, 24, 2, 256'000);
    const auto check = [&](const TestTrack& picture, const char* format, const char* name) {
        INFO(name);
        write_media(dir / name, format, {picture, audio});
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
        ByteVector pictures, audio_tracks, again;
        Time start{};
        std::vector<Bytes> segments;
        for (std::size_t i = 0; i < list->segments.size(); ++i) {
            const auto bytes = (*film)->segment(i);
            REQUIRE(bytes);
            segments.push_back(*bytes);
            const auto test_tracks = read_segment(*bytes);
            REQUIRE(test_tracks.size() == 2);
            REQUIRE_FALSE(test_tracks[0].packets.empty());
            CHECK(test_tracks[0].packets.front().key);
            append(pictures, payload_of(test_tracks[0]));
            append(audio_tracks, payload_of(test_tracks[1]));
            start += list->segments[i].duration;
        }
        CHECK(pictures == payload_of(picture));
        CHECK(audio_tracks == payload_of(audio));
        // One behind the other they are one stream: no packet looks lost, or sent twice.
        measure::TransportMeter meter;
        for (const Bytes& segment : segments) {
            for (std::size_t at = 0; at < segment.size(); at += 188) meter.push(segment.view().subspan(at, 188));
        }
        const measure::TransportReport report = meter.report();
        CHECK(report.discontinuities == 0);
        // Nor does their clock jump, nor is a picture late by it, nor audio so early that its decoder can't hold it.
        CHECK(report.clock_jumps == 0);
        CHECK(report.clock_interval <= base::from_seconds(0.040));
        CHECK(base::to_seconds(report.duration) == Approx(24.0).margin(0.3));
        for (const auto& one : report.streams) {
            INFO("stream type " << one.type << ", held " << one.held_bytes);
            CHECK(one.late == 0);
            if (one.type == 0x0F) CHECK(one.held_bytes <= 3584);
        }
        const double payload = static_cast<double>(payload_of(picture).size() + payload_of(audio).size());
        CHECK(static_cast<double>(report.packets) * 188 < 1.05 * payload + 24 * 120'000 / 8);
        // Out of order, by other readings: the same pictures and audio.
        const auto other = stream::FilmHls::open(dir / name);
        REQUIRE(other);
        for (std::size_t i = segments.size(); i-- > 0;) {
            const auto bytes = (*other)->segment(i);
            REQUIRE(bytes);
            const auto one = read_segment(*bytes), same = read_segment(segments[i]);
            for (std::size_t test_track = 0; test_track < 2; ++test_track)
                CHECK(payload_of(one.at(test_track)) == payload_of(same.at(test_track)));
        }
        CHECK((*film)->segment(list->segments.size()).error().kind == ErrorKind::usage);
    };
    const TestTrack avc = video_track(Codec::h264, 576);
    check(avc, "mp4", "film.mp4");
    check(avc, "matroska", "film.mkv");
    check(avc, "mpeg-ts", "film.ts");
    // Groups that are open: pictures shown before a keyframe but coded behind it stay with it.
    check(open_gop_track(576), "matroska", "open.mkv");
}

TEST_CASE("subtitles of text go beside a film's segments, each where it is shown", "[hls]") {
    const TempDir dir;
    TestTrack english = text_track({{{1'000, 2'000}, "The lake is calm."},
                                    {{4'500, 7'000}, "So it seems."},
                                    {{13'000, 13'500}, "A boat!"},
                                    {{22'000, 23'500}, "Good night."}},
                                   3),
              german = text_track({{{5'000, 20'000}, "Der See & die Nacht"}}, 4);
    english.track.language = "eng";
    german.track.language = "deu";
    german.track.forced = true;
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 576), audio_track(Codec::aac, 24), english,
                                                german};
    for (const auto& [format, name] : {std::pair("mp4", "film.mp4"), std::pair("matroska", "film.mkv")}) {
        INFO(name);
        write_media(dir / name, format, test_tracks);
        const auto film = stream::FilmHls::open(dir / name);
        REQUIRE(film);
        CHECK((*film)->tracks().size() == 2);
        REQUIRE((*film)->text_subtitles().size() == 2);
        CHECK(media::language_639_2((*film)->text_subtitles()[1].language) == "deu");
        CHECK((*film)->notes().empty());
        const auto list =
            container::parse_playlist(*(*film)->subtitles_playlist("film-subtitles-1", "?key=k"), "words");
        REQUIRE(list);
        REQUIRE(list->segments.size() == 4);
        CHECK(list->segments[1].uri == "film-subtitles-1-1.vtt?key=k");
        const std::vector<std::vector<std::string>> shown = {
            {"The lake is calm.", "So it seems."}, {"So it seems."}, {"A boat!"}, {"Good night."}};
        Time from{};
        for (std::size_t i = 0; i < 4; ++i) {
            INFO(i);
            const auto words = (*film)->subtitles_segment(0, i);
            REQUIRE(words);
            std::vector<std::string> texts;
            for (const Packet& cue : cues_of(*words)) texts.push_back(text_of(cue));
            CHECK(texts == shown[i]);
            // The text's clock stands on that of the pictures beside it.
            const std::string text(words->data(), words->data() + words->size());
            const auto pictures = (*film)->segment(i);
            REQUIRE(pictures);
            const std::int64_t ms = base::to_ticks(from, 1000);
            CHECK(text.find(fmt::format("LOCAL:00:00:{:02}.{:03}", ms / 1000, ms % 1000)) != std::string::npos);
            const std::size_t map = text.find("MPEGTS:");
            REQUIRE(map != std::string::npos);
            CHECK(std::abs(std::stoll(text.substr(map + 7)) - first_picture_ticks(pictures->view())) <= 90);
            from += list->segments[i].duration;
        }
        // Skipping into a cue: it is still there.
        const auto other = stream::FilmHls::open(dir / name);
        REQUIRE(other);
        const auto late = (*other)->subtitles_segment(0, 1);
        REQUIRE(late);
        REQUIRE(cues_of(*late).size() == 1);
        CHECK(cues_of(*late)[0].pts == base::from_seconds(4.5));
        for (std::size_t i = 0; i < 4; ++i) CHECK(cues_of(*(*film)->subtitles_segment(1, i)).size() == 1);
        CHECK(text_of(cues_of(*(*film)->subtitles_segment(1, 2))[0]) == "Der See & die Nacht");
        CHECK((*film)->subtitles_segment(2, 0).error().kind == ErrorKind::usage);
        CHECK((*film)->subtitles_segment(0, 4).error().kind == ErrorKind::usage);
    }
}

TEST_CASE("of several pictures the one that is asked for goes out", "[hls]") {
    const TempDir dir;
    const TestTrack far = video_track(Codec::h264, 96), close = video_track(Codec::h264, 48, 2);
    write_media(dir / "two.mkv", "matroska", {far, close});
    const auto pictures_of = [&](int number) {
        TrackChoice choice;
        choice.video = number;
        const auto film = stream::FilmHls::open(dir / "two.mkv", choice);
        INFO((film ? "" : film.error().what));
        REQUIRE(film);
        REQUIRE((*film)->tracks().size() == 1);
        CHECK((*film)->notes().size() == 1);
        return read_segment(*(*film)->segment(0)).at(0).packets.size();
    };
    CHECK(pictures_of(0) == 96);
    CHECK(pictures_of(1) == 96);
    CHECK(pictures_of(2) == 48);
    TrackChoice third;
    third.video = 3;
    const auto refused = stream::FilmHls::open(dir / "two.mkv", third);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().kind == ErrorKind::usage);
    CHECK(refused.error().what == "there is no video track 3");
}

TEST_CASE("audio alone is cut evenly, what HLS can't carry is refused by name", "[hls]") {
    const TempDir dir;
    const TestTrack audio = audio_track(Codec::mp3, 20, 1);
    write_media(dir / "a.mp3", "mp3", {audio});
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
    CHECK(all == payload_of(audio));
    write_media(dir / "b.webm", "webm", {video_track(Codec::vp9, 48)});
    const auto refused = stream::FilmHls::open(dir / "b.webm");
    REQUIRE_FALSE(refused);
    CHECK(refused.error().what.find("VP9") != std::string::npos);
    CHECK_FALSE(stream::FilmHls::open(dir / "none.mp4"));
}

TEST_CASE("viewers of segments are whoever has asked lately, told apart behind one address", "[hls]") {
    stream::HlsViewers viewers;
    const auto start = std::chrono::steady_clock::now();
    const std::string a = viewers.new_name(), b = viewers.new_name();
    CHECK(a != b);
    viewers.asked({"192.168.1.5", a, "harbour", true}, "", 10, 1000, start);
    viewers.asked({"192.168.1.5", b, "harbour", true}, "", 9, 1000, start);
    viewers.asked({"192.168.1.6", "", "film", false}, "", 0, 500, start);
    viewers.asked({"192.168.1.5", a, "harbour", true}, "", 11, 1000, start + 4s);
    auto now = viewers.watching(start + 5s);
    REQUIRE(now.size() == 3);
    CHECK(now[0].segment == 11);
    CHECK(now[0].sent == 2000);
    CHECK(now[0].connected == base::from_seconds(5));
    CHECK(now[1].segment == 9);
    CHECK(viewers.watching(start + 22s).size() == 1);
    viewers.asked({"192.168.1.5", b, "harbour", true}, "", 40, 1000, start + 60s);
    now = viewers.watching(start + 61s);
    REQUIRE(now.size() == 1);
    CHECK(now[0].sent == 1000);
    // Who has been given a live list up to a segment needs it again when there is another.
    CHECK_FALSE(viewers.has_listed({"192.168.1.5", b, "harbour", true}, "", 41));
    viewers.listed({"192.168.1.5", b, "harbour", true}, "", 41, start + 61s);
    CHECK(viewers.has_listed({"192.168.1.5", b, "harbour", true}, "", 41));
    CHECK_FALSE(viewers.has_listed({"192.168.1.5", b, "harbour", true}, "", 42));
    CHECK_FALSE(viewers.has_listed({"192.168.1.5", b, "other", true}, "", 41));
    // Who has fetched nothing yet isn't kept waiting.
    viewers.listed({"192.168.1.9", "", "harbour", true}, "", 41, start + 61s);
    CHECK_FALSE(viewers.has_listed({"192.168.1.9", "", "harbour", true}, "", 41));
    CHECK_FALSE(viewers.is_known({"192.168.1.9", "", "harbour", true}));
    CHECK(viewers.watching(start + 61s).size() == 1);
    // But once they have, what they were given before counts: some give up over a list without anything new.
    viewers.asked({"192.168.1.9", "", "harbour", true}, "", 39, 1000, start + 62s);
    CHECK(viewers.has_listed({"192.168.1.9", "", "harbour", true}, "", 41));
    CHECK(viewers.watching(start + 62s).size() == 2);
    // Of a ladder's lists each by itself: it has seen no segment of the other yet.
    viewers.asked({"192.168.1.5", b, "harbour", true}, "720p.m3u8", 41, 1000, start + 62s);
    viewers.listed({"192.168.1.5", b, "harbour", true}, "720p.m3u8", 43, start + 62s);
    viewers.listed({"192.168.1.5", b, "harbour", true}, "360p.m3u8", 43, start + 62s);
    CHECK(viewers.has_listed({"192.168.1.5", b, "harbour", true}, "720p.m3u8", 43));
    CHECK_FALSE(viewers.has_listed({"192.168.1.5", b, "harbour", true}, "360p.m3u8", 43));
    CHECK(viewers.has_listed({"192.168.1.5", b, "harbour", true}, "", 41));
    // And names in mere requests for the list fill no memory, either.
    for (int i = 0; i < 20000; ++i) viewers.listed({"192.168.1.8", std::to_string(i), "x", true}, "", 1, start + 62s);
    viewers.asked({"192.168.1.8", "19999", "x", true}, "", 1, 1, start + 62s);
    CHECK(viewers.watching(start + 62s).size() == 2);
    CHECK(viewers.is_known({"192.168.1.5", b, "harbour", true}));
    // Names without end fill no memory.
    for (int i = 0; i < 20000; ++i) viewers.asked({"192.168.1.7", std::to_string(i), "x", true}, "", 1, 1, start + 62s);
    CHECK(viewers.watching(start + 62s).size() <= 4096);
}

TEST_CASE("a live window moves on, keeps what just left it, and says when it is over", "[hls]") {
    stream::LiveHlsSettings settings;
    settings.least = base::from_seconds(2);
    settings.listed = 3;
    settings.kept = 2;
    Track words;
    words.id = 7;
    words.kind = TrackKind::subtitle;
    words.codec = Codec::text;
    stream::LiveHls hls(settings, {words});
    const ByteVector packet(188, 0x47);
    {
        // Players don't begin with one or two segments.
        stream::LiveHls early(settings);
        for (int i = 0; i <= 6; ++i) {
            INFO(i);
            CHECK_FALSE(early.playlist("x"));
            early.push(packet, true, base::from_seconds(i));
        }
        REQUIRE(early.playlist("x"));
        CHECK(container::parse_playlist(*early.playlist("x"), "x")->segments.size() == 3);
        CHECK(container::parse_playlist(*early.playlist("x"), "x")->target_s == 2);
    }
    {
        // Keyframes of a second are never quite one: 24 frames of 25 a second.
        stream::LiveHls short_ones;
        for (int i = 0; i <= 6; ++i) short_ones.push(packet, true, base::from_seconds(0.96 * i));
        const auto list = *container::parse_playlist(*short_ones.playlist("x"), "x");
        CHECK(list.target_s == 1);
        REQUIRE(list.segments.size() == 6);
        for (const auto& segment : list.segments) CHECK(base::to_seconds(segment.duration) == Approx(0.96));
    }
    {
        // A skip brings a keyframe early: no segment gets longer than was promised.
        stream::LiveHls cut(settings);
        for (const double at : {0.0, 2.0, 4.0, 6.0, 6.8, 8.8, 9.0, 11.0, 13.0})
            cut.push(packet, true, base::from_seconds(at));
        const auto list = *container::parse_playlist(*cut.playlist("x"), "x");
        CHECK(list.target_s == 2);
        CHECK(cut.segment(3)->size() == 188);
        for (const auto& segment : list.segments) CHECK(base::to_seconds(segment.duration) < 2.5);
    }
    {
        // (2.5 is rounded to 3.)
        stream::LiveHls cut(settings);
        for (const double at : {0.0, 2.0, 4.0, 6.0, 6.5, 8.5, 10.5}) cut.push(packet, true, base::from_seconds(at));
        CHECK(container::parse_playlist(*cut.playlist("x"), "x")->target_s == 2);
    }
    {
        // A later run goes on with larger numbers, and says that its times are others; a pause is told.
        settings.first_number = 1000;
        stream::LiveHls later(settings);
        for (int i = 0; i <= 8; ++i) later.push(packet, true, base::from_seconds(i));
        auto list = *container::parse_playlist(*later.playlist("x"), "x");
        CHECK(list.sequence == 1001);
        CHECK(list.discontinuities == 1001);
        CHECK(list.segments.size() == 3);
        CHECK(list.segments[0].uri == "x-1001.ts");
        CHECK_FALSE(list.segments[0].discontinuity);
        CHECK(*later.behind(1003) == Time{});
        CHECK(base::to_seconds(*later.behind(1001)) == 4);
        CHECK_FALSE(later.behind(7));
        CHECK_FALSE(list.paused);
        later.pause(true);
        CHECK(container::parse_playlist(*later.playlist("x"), "x")->paused);
        stream::LiveHls first(settings);
        for (int i = 0; i <= 6; ++i) first.push(packet, true, base::from_seconds(i));
        list = *container::parse_playlist(*first.playlist("x"), "x");
        CHECK(list.discontinuities == 1000);
        CHECK(list.segments[0].discontinuity);
        settings.first_number = 0;
    }
    hls.push(packet, false, {});  // before the first keyframe: nobody could use it
    for (int i = 0; i <= 20; ++i) {
        // A keyframe a second, marked twice as multiplexers may.
        if (i % 3 == 0) {
            // Half of them run into the next segment.
            Packet cue;
            cue.track = 7;
            cue.pts = base::from_seconds(i + 0.5);
            cue.duration = base::from_seconds(1.5);
            const std::string text = fmt::format("at {}", i);
            cue.data = Bytes(ByteVector(text.begin(), text.end()));
            hls.add_cue(cue);
        }
        hls.push(packet, true, base::from_seconds(i));
        hls.push(packet, true, base::from_seconds(i));
        hls.push(packet, false, {});
    }
    auto list = container::parse_playlist(*hls.playlist("x"), "x");
    REQUIRE(list);
    REQUIRE(list->segments.size() == 3);
    CHECK(list->sequence == 7);
    CHECK_FALSE(list->ended);
    // Players begin two long segments before the end, or three short ones.
    REQUIRE(list->start);
    CHECK(base::to_seconds(*list->start) == Approx(-3.95));
    CHECK(base::to_seconds(hls.latency()) == Approx(7));
    {
        stream::LiveHls quick;
        for (int i = 0; i <= 6; ++i) quick.push(packet, true, base::from_seconds(i));
        CHECK(base::to_seconds(*container::parse_playlist(*quick.playlist("x"), "x")->start) == Approx(-2.95));
        settings.reaches_ahead = true;
        stream::LiveHls further(settings);
        int whole = 0;
        for (int i = 0; i <= 6; ++i) {
            CHECK(further.has_begun() == (whole >= 3));
            whole += further.push(packet, true, base::from_seconds(2 * i)) ? 1 : 0;
        }
        CHECK(whole == 6);
        CHECK(base::to_seconds(*container::parse_playlist(*further.playlist("x"), "x")->start) == Approx(-5.95));
        CHECK(base::to_seconds(further.latency()) == Approx(5.8));
        quick.finish(base::from_seconds(7));
        CHECK_FALSE(container::parse_playlist(*quick.playlist("x"), "x")->start);
    }
    for (const auto& segment : list->segments) CHECK(base::to_seconds(segment.duration) == Approx(2));
    CHECK(list->segments.front().uri == "x-7.ts");
    CHECK(hls.segment(9)->size() == 6 * 188);
    CHECK(hls.segment(5));
    CHECK_FALSE(hls.segment(4));
    CHECK_FALSE(hls.segment(10));
    CHECK(hls.peak_bps() == 6 * 188 * 8 / 2);
    CHECK(hls.newest() == 10);
    CHECK(hls.target() == 2s);
    // 14 to 16, 16 to 18, 18 to 20.
    const auto said = [&](std::uint64_t number) {
        std::string all;
        for (const Packet& cue : cues_of(*hls.subtitles_segment(0, number))) all += text_of(cue) + ";";
        return all;
    };
    CHECK(container::parse_playlist(*hls.subtitles_playlist("w"), "w")->segments.front().uri == "w-7.vtt");
    CHECK(said(7) == "at 15;");
    CHECK(said(8) == "at 15;");
    CHECK(said(9) == "at 18;");
    CHECK(hls.subtitles_segment(0, 4).error().kind == ErrorKind::usage);
    CHECK(hls.subtitles_segment(1, 9).error().kind == ErrorKind::usage);
    hls.finish(base::from_seconds(21));
    list = container::parse_playlist(*hls.playlist("x"), "x");
    REQUIRE(list);
    CHECK(list->ended);
    CHECK(list->sequence == 8);
    CHECK(base::to_seconds(list->segments.back().duration) == Approx(1));
}

TEST_CASE("what lies here whole is listed before it has been shown, for players keep three segments back",
          "[hls][waits]") {
    stream::LiveItem item;
    item.name = "film";
    item.parts.resize(1);
    item.parts[0].source = sample_film();
    item.hls = true;
    auto ready = stream::prepare_live({item});
    REQUIRE(ready);
    const auto service = stream::LiveService::start(std::move(*ready), {});
    REQUIRE(service);
    const auto hls = (*service)->hls("film");
    REQUIRE(hls);
    for (int i = 0; i < 1000 && !hls->playlist("x"); ++i) std::this_thread::sleep_for(10ms);
    const auto text = hls->playlist("x");
    const Time shown = (*service)->figures().streams[0].position;
    REQUIRE(text);
    const auto list = container::parse_playlist(*text, "x");
    REQUIRE(list);
    // Keyframes are a second apart: three segments, when about the first 0.7 s are shown.
    CHECK(list->segments.size() >= 3);
    CHECK(list->duration() - shown > 1200ms);
    CHECK(list->duration() - shown < 3s);
}
