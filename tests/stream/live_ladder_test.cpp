// The window of a live ladder: what is listed when, in HLS and DASH, and what has gone.
#include "stream/live_ladder.hpp"

#include <catch2/catch.hpp>
#include <chrono>

#include "container/dash_manifest.hpp"
#include "container/media_playlist.hpp"
#include "container/reader.hpp"
#include "support/clips.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;
using stream::LiveLadder;

namespace {

constexpr std::int64_t kNow = 1'796'083'200'000;

Bytes segment(std::size_t size) {
    return Bytes(ByteVector(size, 7));
}

LiveLadder make(std::vector<Track> subtitles = {}) {
    stream::LiveLadderSettings settings;
    settings.segment = 2s;
    settings.listed = 3;
    settings.kept = 2;
    settings.fewest = 2;
    settings.first_number = 100;
    settings.wall_ms = [] { return kNow; };
    return LiveLadder(settings, {{"video-720p", 3'000'000}, {"video-360p", 800'000}, {"audio-en", 160'000}},
                      std::move(subtitles));
}

void begin(LiveLadder& ladder) {
    Track video = video_track(Codec::h264, 1).track, audio = audio_track(Codec::aac, 0.1).track;
    video.width = 1280;
    video.height = 720;
    ladder.set_header(0, video, ByteVector(10, 1));
    video.width = 640;
    video.height = 360;
    ladder.set_header(1, video, ByteVector(11, 1));
    ladder.set_header(2, audio, ByteVector(12, 1));
}

void add(LiveLadder& ladder, int number) {
    for (std::size_t track = 0; track < 3; ++track)
        ladder.add(track, segment(track == 0 ? 500'000 : 50'000), number * Time(2s), 2s);
}

std::string text(const LiveLadder& ladder, const std::string& name, const std::string& query = "") {
    const auto answer = ladder.answer(name, query);
    if (!answer) return answer.error().what;
    return {answer->body.view().begin(), answer->body.view().end()};
}

std::vector<Packet> cues_in(const std::string& mp4) {
    const ByteSpan bytes = base::as_bytes(mp4);
    auto media = container::open_media(
        std::make_shared<base::MemorySource>(ByteVector(bytes.begin(), bytes.end()), "subtitles.mp4"));
    REQUIRE(media);
    std::vector<Packet> cues;
    while (true) {
        auto packet = media->source->read();
        REQUIRE(packet);
        if (!*packet) return cues;
        cues.push_back(**packet);
    }
}

container::MediaPlaylist playlist(const LiveLadder& ladder, const std::string& name) {
    const auto list = container::parse_playlist(text(ladder, name), name);
    REQUIRE(list);
    return *list;
}

}  // namespace

TEST_CASE("a live ladder is there when every track has enough, and not before", "[ladder]") {
    LiveLadder ladder = make();
    CHECK(ladder.answer("ladder.m3u8", "").error().kind == ErrorKind::wanting);
    begin(ladder);
    add(ladder, 0);
    CHECK(text(ladder, "ladder.m3u8") == "the stream has just begun");
    CHECK(text(ladder, "ladder.mpd") == "the stream has just begun");
    add(ladder, 1);
    const auto list = playlist(ladder, "ladder.m3u8");
    REQUIRE(list.variants.size() == 2);
    // The encoder's promise with the audio's, and what packing adds.
    CHECK(list.variants[0].bandwidth_bps >= 960'000);
    CHECK(list.variants[0].bandwidth_bps < 1'020'000);
    CHECK(list.variants[1].size == base::Size{1280, 720});
    CHECK(list.variants[0].codecs.find(",mp4a.40.2") != std::string::npos);
    REQUIRE(list.audio.size() == 1);
    CHECK(list.audio[0].uri == "audio-en.m3u8");
    CHECK(text(ladder, "nothing") == "there is nothing of this name in the ladder");
}

TEST_CASE("segments leave the window's lists before they go, at the same times in HLS and DASH", "[ladder]") {
    LiveLadder ladder = make();
    begin(ladder);
    for (int i = 0; i < 8; ++i) add(ladder, i);
    const auto list = playlist(ladder, "video-360p.m3u8");
    CHECK(list.sequence == 105);
    REQUIRE(list.segments.size() == 3);
    CHECK(list.segments[2].uri == "video-360p-107.m4s");
    CHECK(list.map_uri == "video-360p-head.mp4");
    CHECK(list.target_s == 2);
    CHECK_FALSE(list.ended);
    // Two more stay for those who read an older list.
    CHECK(ladder.answer("video-360p-103.m4s", ""));
    CHECK(text(ladder, "video-360p-102.m4s") == "this segment has expired");
    CHECK(text(ladder, "video-360p-108.m4s") == "this segment isn't there yet");
    CHECK(ladder.answer("video-720p-head.mp4", "")->body.size() == 10);
    CHECK(*ladder.behind(105) == Time(4s));
    CHECK_FALSE(ladder.behind(90));
    CHECK(ladder.segment_of("audio-en-106.m4s").value().number == 106);
    CHECK(ladder.segment_of("audio-en-106.m4s")->playlist == "audio-en.m3u8");
    CHECK_FALSE(ladder.segment_of("audio-en.m3u8"));
    CHECK(ladder.newest("audio-en.m3u8") == 108);
    CHECK_FALSE(ladder.newest("ladder.m3u8"));
    const auto manifest = container::parse_dash_manifest(text(ladder, "ladder.mpd"), "ladder.mpd", kNow);
    REQUIRE(manifest);
    CHECK(manifest->live);
    REQUIRE(manifest->sets.size() == 2);
    REQUIRE(manifest->sets[0].representations.size() == 2);
    const auto& one = manifest->sets[0].representations[1];
    REQUIRE(one.segments.size() == 3);
    CHECK(one.segments[2].at.uri == "video-360p-107.m4s");
    CHECK(one.segments[2].from == Time(14s));
    // What was listed when it came was there just then.
    CHECK(manifest->available_from_ms == kNow - 2000);
    // What is seen to need more than was promised is told from then on.
    for (int i = 8; i < 12; ++i) ladder.add(0, segment(1'000'000), i * Time(2s), 2s);
    CHECK(playlist(ladder, "ladder.m3u8").variants[1].bandwidth_bps >= 4'000'000);
}

TEST_CASE("subtitles of text go beside a live ladder's video, cut where it is cut", "[ladder]") {
    Track words;
    words.id = 7;
    words.kind = TrackKind::subtitle;
    words.codec = Codec::text;
    words.language = "eng";
    LiveLadder ladder = make({words});
    begin(ladder);
    const auto cue = [&](const char* said, Time from, Time length) {
        Packet packet;
        packet.track = 7;
        packet.pts = packet.dts = from;
        packet.duration = length;
        packet.data = Bytes(ByteVector(said, said + std::char_traits<char>::length(said)));
        ladder.add_cue(packet);
    };
    cue("Light the lanterns.", 9s, 2s);
    cue("Too late.", 40s, 1s);
    CHECK(text(ladder, "subtitles-1.m3u8") == "the stream has just begun");
    for (int i = 0; i < 8; ++i) add(ladder, i);
    const auto entry = playlist(ladder, "ladder.m3u8");
    REQUIRE(entry.subtitles.size() == 1);
    CHECK(entry.subtitles[0].uri == "subtitles-1.m3u8");
    CHECK(text(ladder, "ladder.m3u8").find(",SUBTITLES=") != std::string::npos);
    const auto list = playlist(ladder, "subtitles-1.m3u8");
    CHECK(list.sequence == 105);
    REQUIRE(list.segments.size() == 3);
    CHECK(list.segments[0].uri == "subtitles-1-105.vtt");
    CHECK(list.map_uri.empty());
    // The cue lasts over the end of a segment: it is in both. Times are those of the video's own clock.
    const std::string before = text(ladder, "subtitles-1-104.vtt"), after = text(ladder, "subtitles-1-105.vtt");
    CHECK(before.find("MPEGTS:720000,LOCAL:00:00:08.000") != std::string::npos);
    for (const std::string& one : {before, after}) CHECK(one.find("Light the lanterns.") != std::string::npos);
    CHECK(text(ladder, "subtitles-1-106.vtt").find("-->") == std::string::npos);
    // The same in DASH, as fragmented MP4 that a player puts together.
    const auto manifest = container::parse_dash_manifest(text(ladder, "ladder.mpd"), "ladder.mpd", kNow);
    REQUIRE(manifest);
    REQUIRE(manifest->sets.size() == 3);
    const auto& set = manifest->sets[2];
    CHECK(set.kind == container::DashManifest::AdaptationSet::Kind::text);
    CHECK(set.language == "en");
    REQUIRE(set.representations.size() == 1);
    REQUIRE(set.representations[0].segments.size() == 3);
    CHECK(set.representations[0].codecs == "wvtt");
    CHECK(set.representations[0].header->uri == "subtitles-1-head.mp4");
    CHECK(set.representations[0].segments[0].at.uri == "subtitles-1-105.m4s");
    CHECK(set.representations[0].segments[0].from == Time(10s));
    const std::vector<Packet> cues = cues_in(text(ladder, "subtitles-1-head.mp4") +
                                             text(ladder, "subtitles-1-104.m4s") + text(ladder, "subtitles-1-105.m4s"));
    REQUIRE(cues.size() == 2);
    CHECK(cues[0].pts == Time(9s));
    CHECK(cues[0].duration == Time(1s));
    CHECK(cues[1].pts == Time(10s));
    CHECK(cues[1].duration == Time(1s));
    for (const Packet& one : cues)
        CHECK(std::string(one.data.view().begin(), one.data.view().end()) == "Light the lanterns.");
    CHECK(ladder.answer("subtitles-1-105.m4s", "")->media_type == "application/mp4");
    CHECK(text(ladder, "subtitles-1-108.m4s") == "this segment of subtitles isn't there");
    CHECK(text(ladder, "subtitles-2-head.mp4") == "there is nothing of this name in the ladder");
    CHECK(text(ladder, "subtitles-1-108.vtt") == "this segment of subtitles isn't there");
    CHECK(text(ladder, "subtitles-1-12x.vtt") == "this segment of subtitles isn't there");
    CHECK(text(ladder, "subtitles-2.m3u8") == "there is nothing of this name in the ladder");
    for (int i = 8; i < 12; ++i) add(ladder, i);
    CHECK(text(ladder, "subtitles-1-104.vtt") == "this segment of subtitles isn't there");
}

TEST_CASE("a live ladder says that it stands still, and that it has ended", "[ladder]") {
    LiveLadder ladder = make();
    begin(ladder);
    for (int i = 0; i < 4; ++i) add(ladder, i);
    ladder.pause(true);
    CHECK(playlist(ladder, "video-720p.m3u8").paused);
    ladder.pause(false);
    ladder.finish();
    CHECK(playlist(ladder, "video-720p.m3u8").ended);
    const auto manifest = container::parse_dash_manifest(text(ladder, "ladder.mpd"), "ladder.mpd", kNow);
    REQUIRE(manifest);
    CHECK_FALSE(manifest->live);
    CHECK(manifest->duration == Time(8s));
    // A key goes behind every address.
    const std::string keyed = text(ladder, "video-720p.m3u8", "?key=abcdefgh");
    CHECK(keyed.find("video-720p-103.m4s?key=abcdefgh") != std::string::npos);
    CHECK(keyed.find("video-720p-head.mp4?key=abcdefgh") != std::string::npos);
    CHECK(text(ladder, "ladder.mpd", "?key=abcdefgh").find("$Number$.m4s?key=abcdefgh") != std::string::npos);
}
