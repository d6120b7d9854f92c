// Parts played one after the other: one timeline without jumps, whatever happens to the sources.
#include "stream/playout.hpp"

#include <atomic>
#include <catch2/catch.hpp>
#include <chrono>
#include <thread>

#include "base/byte_source.hpp"
#include "container/reader.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using stream::Playout;

namespace {

std::string any_track(const Track& track, bool) {
    return track.kind == TrackKind::subtitle ? "no" : "";
}

// Pictures have to follow one another at their rate, audio without a gap or overlap of more than a packet, and times
// of decoding may never go back.
void check_timeline(const std::vector<Packet>& packets, const std::vector<Track>& tracks) {
    for (const Track& track : tracks) {
        std::vector<Time> shown;
        Time last = Time::min(), end{};
        bool any = false;
        for (const Packet& p : packets) {
            if (p.track != track.id) continue;
            CHECK(p.dts > last);
            CHECK(p.pts >= p.dts);
            last = p.dts;
            if (track.kind == TrackKind::video) shown.push_back(p.pts);
            if (track.kind == TrackKind::audio && any) CHECK(std::chrono::abs(p.pts - end) <= p.duration);
            any = true;
            end = p.pts + p.duration;
        }
        std::sort(shown.begin(), shown.end());
        // Reading ends anywhere: the last few pictures may lack one shown before them.
        for (std::size_t i = 1; i + 4 < shown.size(); ++i)
            CHECK(std::chrono::abs(shown[i] - shown[i - 1] - base::from_ticks(1001, 24000)) < 2ms);
    }
}

std::vector<Packet> read_all_of(Playout& playout, std::size_t most = 100'000) {
    std::vector<Packet> packets;
    while (packets.size() < most) {
        auto packet = playout.read();
        REQUIRE(packet);
        if (!*packet) break;
        packets.push_back(std::move(**packet));
    }
    return packets;
}

std::size_t pictures(const std::vector<Packet>& packets, TrackId id) {
    return static_cast<std::size_t>(
        std::count_if(packets.begin(), packets.end(), [&](const Packet& p) { return p.track == id; }));
}

}  // namespace

TEST_CASE("reading again after a seek to the beginning gives every picture again, in every format", "[playout]") {
    const TempDir dir;
    const TestTrack avc = video_track(Codec::h264, 72), audio = audio_track(Codec::aac, 3);
    for (const char* format : {"mp4", "matroska", "mpeg-ts", "flv"}) {
        INFO(format);
        write_media(dir / format, format, {avc, audio});
        auto file = base::FileSource::open(dir / format);
        REQUIRE(file);
        auto media = container::open_media(std::make_shared<base::FileSource>(std::move(*file)));
        REQUIRE(media);
        const auto first = read_all_packets(*media->source);
        REQUIRE(media->source->seek(Time{}));
        const auto second = read_all_packets(*media->source);
        REQUIRE(first.size() == second.size());
        CHECK(payload_of(first[0]) == payload_of(second[0]));
        // Audio that only starts its decoder isn't given again.
        const std::size_t left_out = first[1].packets.size() - second[1].packets.size();
        CHECK(left_out <= 2);
        CHECK(second[1].packets.front().pts <= Time{});
        CHECK(second[1].packets.front().pts == first[1].packets[left_out].pts);
    }
}

TEST_CASE("different files in a row play as one, three rounds of them", "[playout]") {
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    // Its audio lasts longer than its pictures, and it is another container.
    write_media(dir / "b.mkv", "matroska", {video_track(Codec::h264, 72), audio_track(Codec::aac, 3.4)});
    auto ready = stream::prepare_playout({{dir / "a.mp4"}, {dir / "b.mkv"}}, any_track);
    REQUIRE(ready);
    CHECK(ready->parts.size() == 2);
    const std::vector<Track> tracks = ready->tracks;
    Cancel cancel;
    {
        Playout once(*ready, false, cancel);
        const auto packets = read_all_of(once);
        CHECK(pictures(packets, tracks[0].id) == 48 + 72);
        check_timeline(packets, tracks);
        CHECK(once.position_at(base::from_seconds(1)).part == 0);
        CHECK(once.position_at(base::from_seconds(3)).part == 1);
        CHECK(base::to_seconds(once.position_at(base::from_seconds(3)).position) == Approx(1).margin(0.1));
    }
    Playout loop(*ready, true, cancel);
    const auto packets = read_all_of(loop, 1500);
    check_timeline(packets, tracks);
    CHECK(loop.position_at(packets.back().pts).rounds >= 2);
}

TEST_CASE("parts with other tracks than the first are refused before anything plays", "[playout]") {
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 24), audio_track(Codec::aac, 1)});
    write_media(dir / "b.mkv", "matroska", {video_track(Codec::mpeg2, 24), audio_track(Codec::aac, 1)});
    write_media(dir / "c.mkv", "matroska", {video_track(Codec::h264, 24)});
    const auto codec = stream::prepare_playout({{dir / "a.mp4"}, {dir / "b.mkv"}}, any_track);
    REQUIRE_FALSE(codec);
    CHECK(codec.error().what.find("H.264") != std::string::npos);
    CHECK_FALSE(stream::prepare_playout({{dir / "a.mp4"}, {dir / "c.mkv"}}, any_track));
    CHECK_FALSE(stream::prepare_playout({{dir / "a.mp4"}, {dir / "gone.mkv"}}, any_track));
    CHECK_FALSE(stream::prepare_playout({}, any_track));
    const auto chapter = stream::prepare_playout({{dir / "a.mp4", "main", 3}}, any_track);
    REQUIRE_FALSE(chapter);
    CHECK(chapter.error().kind == ErrorKind::usage);
}

TEST_CASE("seeks land on keyframes and leave no jump in time", "[playout]") {
    const TempDir dir;
    for (const char* format : {"mp4", "matroska", "mpeg-ts"}) {
        INFO(format);
        const base::Path a = dir / (std::string("a.") + format), b = dir / (std::string("b.") + format);
        write_media(a, format, {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)});
        write_media(b, format, {video_track(Codec::h264, 240), audio_track(Codec::aac, 10)});
        auto ready = stream::prepare_playout({{a}, {b}}, any_track);
        REQUIRE(ready);
        Cancel cancel;
        Playout playout(*ready, false, cancel);
        auto packets = read_all_of(playout, 60);
        const auto go = [&](const Playout::SeekOrder& seek) {
            playout.order_seek(seek);
            const auto more = read_all_of(playout, 60);
            packets.insert(packets.end(), more.begin(), more.end());
            return playout.position_at(more.back().pts);
        };
        const auto to = go({Playout::SeekOrder::What::to, base::from_seconds(6), 0});
        CHECK(to.part == 0);
        CHECK(base::to_seconds(to.position) == Approx(6.5).margin(1.5));
        const auto back = go({Playout::SeekOrder::What::by, base::from_seconds(-60), 0});
        CHECK(base::to_seconds(back.position) == Approx(1).margin(1.2));
        CHECK(go({Playout::SeekOrder::What::part, {}, 1}).part == 1);
        CHECK(go({Playout::SeekOrder::What::part, {}, -1}).part == 0);
        const auto far = go({Playout::SeekOrder::What::by, base::from_seconds(100), 0});
        CHECK(far.part == 1);
        check_timeline(packets, playout.tracks());
    }
}

TEST_CASE("a source that goes away is waited for, and goes on where it was", "[playout]") {
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 48), audio_track(Codec::aac, 2)});
    auto ready = stream::prepare_playout({{dir / "a.mp4"}}, any_track);
    REQUIRE(ready);
    Cancel cancel;
    Playout playout(*ready, true, cancel);
    auto packets = read_all_of(playout, 20);
    std::filesystem::rename(dir / "a.mp4", dir / "away.mp4");
    std::atomic<bool> noticed{false};
    std::thread other([&] {
        for (int i = 0; i < 500 && playout.lost().empty(); ++i) std::this_thread::sleep_for(10ms);
        noticed = playout.lost().find("a.mp4") != std::string::npos;
        std::filesystem::rename(dir / "away.mp4", dir / "a.mp4");
    });
    const auto more = read_all_of(playout, 400);
    other.join();
    CHECK(noticed);
    CHECK(playout.lost().empty());
    packets.insert(packets.end(), more.begin(), more.end());
    check_timeline(packets, playout.tracks());
    // Asked to end while it waits, it does at once.
    std::filesystem::remove(dir / "a.mp4");
    std::thread ender([&] {
        for (int i = 0; i < 500 && playout.lost().empty(); ++i) std::this_thread::sleep_for(10ms);
        cancel.request();
    });
    while (true) {
        const auto packet = playout.read();
        if (packet) continue;
        CHECK(packet.error().kind == ErrorKind::interrupted);
        break;
    }
    ender.join();
}

TEST_CASE("of several languages only the audio that is asked for goes out", "[playout]") {
    const TempDir dir;
    TestTrack english = audio_track(Codec::aac, 3, 2), german = audio_track(Codec::aac, 3, 3);
    english.track.language = "eng";
    german.track.language = "deu";
    write_media(dir / "film.mp4", "mp4", {video_track(Codec::h264, 72), english, german});
    const auto all = [](const Track&, bool) { return std::string(); };
    const auto prepared = [&](std::vector<std::string> languages) {
        stream::Part part;
        part.source = dir / "film.mp4";
        part.choice.audio = std::move(languages);
        return stream::prepare_playout({part}, all);
    };
    const auto both = prepared({}), one = prepared({"de"}), none = prepared({"fr"});
    REQUIRE(both);
    CHECK(both->tracks.size() == 3);
    REQUIRE(one);
    REQUIRE(one->tracks.size() == 2);
    CHECK(one->tracks[1].language == "deu");
    CHECK(one->notes.size() == 1);
    REQUIRE_FALSE(none);
    CHECK(none.error().kind == ErrorKind::usage);
}

TEST_CASE("tracks alike in language stay apart, and one that a part lacks pauses there", "[playout]") {
    const TempDir dir;
    std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 48), audio_track(Codec::aac, 2, 2),
                                          audio_track(Codec::aac, 2, 3)};
    test_tracks[1].track.language = test_tracks[2].track.language = "eng";
    // Told apart by their sizes.
    for (Packet& packet : test_tracks[2].packets) {
        const ByteSpan bytes = packet.data.view();
        packet.data = Bytes(ByteVector(bytes.begin(), bytes.end() - 1));
    }
    write_media(dir / "two.mp4", "mp4", test_tracks);
    write_media(dir / "one.mp4", "mp4", {test_tracks[0], test_tracks[1]});
    const auto bytes_of = [](const std::vector<Packet>& packets, TrackId id) {
        std::size_t bytes = 0;
        for (const Packet& p : packets) bytes += p.track == id ? p.data.size() : 0;
        return bytes;
    };
    const auto of_test_track = [](const TestTrack& test_track) {
        std::size_t bytes = 0;
        for (const Packet& p : test_track.packets) bytes += p.data.size();
        return bytes;
    };
    const auto play = [&](const std::vector<stream::Part>& parts) {
        auto ready = stream::prepare_playout(parts, any_track);
        INFO((ready ? "" : ready.error().what));
        REQUIRE(ready);
        const Cancel cancel;
        Playout playout(std::move(*ready), false, cancel);
        return read_all_of(playout);
    };
    const auto both = play({{dir / "two.mp4"}});
    CHECK(bytes_of(both, 2) == of_test_track(test_tracks[1]));
    CHECK(bytes_of(both, 3) == of_test_track(test_tracks[2]));
    // The second alone, by its number.
    const auto second = play({{dir / "two.mp4", "main", 1, {{"2"}}}});
    CHECK(bytes_of(second, 2) == 0);
    CHECK(bytes_of(second, 3) == of_test_track(test_tracks[2]));
    const auto list = play({{dir / "two.mp4"}, {dir / "one.mp4"}, {dir / "two.mp4"}});
    // But for packets that overlap where parts meet.
    CHECK(static_cast<double>(bytes_of(list, 2)) ==
          Approx(3.0 * static_cast<double>(of_test_track(test_tracks[1]))).epsilon(0.03));
    CHECK(static_cast<double>(bytes_of(list, 3)) ==
          Approx(2.0 * static_cast<double>(of_test_track(test_tracks[2]))).epsilon(0.03));
    CHECK(pictures(list, 1) == 3 * 48);
}

TEST_CASE("subtitles may be missing from a part, and a part is entered in the middle of one", "[playout]") {
    const TempDir dir;
    const std::vector<TestTrack> test_tracks = {video_track(Codec::h264, 96), audio_track(Codec::aac, 4, 2),
                                                text_track({{{500, 1'000}, "one"}, {{1'500, 3'500}, "two"}}, 3)};
    write_media(dir / "with.mp4", "mp4", test_tracks);
    write_media(dir / "without.mp4", "mp4", {test_tracks[0], test_tracks[1]});
    auto ready = stream::prepare_playout({{dir / "with.mp4"}, {dir / "without.mp4"}, {dir / "with.mp4"}},
                                         [](const Track&, bool) { return std::string(); });
    INFO((ready ? "" : ready.error().what));
    REQUIRE(ready);
    // As if somebody began there.
    ready->parts[2].begin = base::from_seconds(2.2);
    const Cancel cancel;
    Playout playout(std::move(*ready), false, cancel);
    std::vector<Packet> cues;
    for (const Packet& packet : read_all_of(playout)) {
        if (packet.track == 3) cues.push_back(packet);
    }
    REQUIRE(cues.size() == 3);
    CHECK(base::to_seconds(cues[1].pts) == Approx(1.5));
    // The third part begins at its keyframe at 2.002 s; parts are 4.004 s long.
    CHECK(base::to_seconds(cues[2].pts) == Approx(8.008).margin(0.002));
    CHECK(base::to_seconds(cues[2].duration) == Approx(3.5 - 2.002).margin(0.002));
}
