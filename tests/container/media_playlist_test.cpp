// HLS playlists: the RFC's own examples (8216, clause 8), what it asks of writers, and what breaks its rules.
#include "container/media_playlist.hpp"

#include <catch2/catch.hpp>

using namespace wavecrest;
using container::MediaPlaylist;
using container::parse_playlist;

TEST_CASE("the RFC's simple and live playlists are read", "[hls]") {
    const auto simple = parse_playlist(
        "#EXTM3U\n#EXT-X-TARGETDURATION:10\n#EXT-X-VERSION:3\n#EXTINF:9.009,\nhttp://media.example.com/first.ts\n"
        "#EXTINF:9.009,\nhttp://media.example.com/second.ts\n#EXTINF:3.003,\nhttp://media.example.com/third.ts\n"
        "#EXT-X-ENDLIST\n",
        "8.1");
    REQUIRE(simple);
    CHECK(simple->target_s == 10);
    CHECK(simple->version == 3);
    CHECK(simple->ended);
    REQUIRE(simple->segments.size() == 3);
    CHECK(base::to_seconds(simple->duration()) == Approx(21.021));
    CHECK(simple->segments[2].uri == "http://media.example.com/third.ts");
    const auto live = parse_playlist(
        "#EXTM3U\r\n#EXT-X-VERSION:3\r\n#EXT-X-TARGETDURATION:8\r\n#EXT-X-MEDIA-SEQUENCE:2680\r\n\r\n#EXTINF:7.975,\r\n"
        "https://priv.example.com/fileSequence2680.ts\r\n#EXT-X-DISCONTINUITY\r\n#EXTINF:7.941,named\r\n"
        "https://priv.example.com/fileSequence2681.ts\r\n",
        "8.2");
    REQUIRE(live);
    CHECK(live->sequence == 2680);
    CHECK_FALSE(live->ended);
    REQUIRE(live->segments.size() == 2);
    CHECK(live->segments[1].discontinuity);
    const auto keyed = parse_playlist(
        "#EXTM3U\n#EXT-X-TARGETDURATION:15\n#EXT-X-KEY:METHOD=AES-128,URI=\"https://priv.example.com/key.php?r=52\"\n"
        "#EXTINF:2.833,\nhttp://media.example.com/a.ts\n",
        "8.3");
    REQUIRE(keyed);
    CHECK(keyed->encrypted);
}

TEST_CASE("the RFC's multivariant playlist is read, quoted commas and all", "[hls]") {
    const auto list = parse_playlist(
        "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1280000,AVERAGE-BANDWIDTH=1000000\nhttp://example.com/low.m3u8\n"
        "#EXT-X-STREAM-INF:AVERAGE-BANDWIDTH=2000000,CODECS=\"avc1.64001f,mp4a.40.2\",BANDWIDTH=2560000\n"
        "http://example.com/mid.m3u8\n",
        "8.4");
    REQUIRE(list);
    REQUIRE(list->variants.size() == 2);
    CHECK(list->variants[0].bandwidth_bps == 1'280'000);
    CHECK(list->variants[1].bandwidth_bps == 2'560'000);
    CHECK(list->variants[1].codecs == "avc1.64001f,mp4a.40.2");
    CHECK(list->segments.empty());
}

TEST_CASE("where players should begin is read, and nonsense passed over", "[hls]") {
    const auto start = [](const std::string& attributes) {
        const auto list = parse_playlist("#EXTM3U\n#EXT-X-START:" + attributes + "\n#EXTINF:2,\na.ts\n", "4.3.5.2");
        REQUIRE(list);
        return list->start;
    };
    CHECK(start("TIME-OFFSET=-4.5,PRECISE=YES") == base::from_seconds(-4.5));
    CHECK(start("PRECISE=NO,TIME-OFFSET=12") == base::from_seconds(12));
    for (const char* wrong :
         {"TIME-OFFSET=", "TIME-OFFSET=-", "TIME-OFFSET=--1", "TIME-OFFSET=-1e300", "PRECISE=YES", ""})
        CHECK_FALSE(start(wrong));
}

TEST_CASE("a playlist that is written is read back the same", "[hls]") {
    MediaPlaylist list;
    list.target_s = 6;
    list.sequence = 41;
    list.start = base::from_seconds(-7.25);
    list.segments = {{"lake-41.ts", base::from_seconds(5.5), false}, {"lake-42.ts?key=a", base::from_seconds(6), true}};
    const std::string text = container::write_playlist(list);
    CHECK(text.starts_with("#EXTM3U\n"));
    CHECK(text.find("#EXT-X-ENDLIST") == std::string::npos);
    const auto back = parse_playlist(text, "written");
    REQUIRE(back);
    CHECK(back->sequence == 41);
    CHECK(back->start == base::from_seconds(-7.25));
    REQUIRE(back->segments.size() == 2);
    CHECK(back->segments[1].uri == "lake-42.ts?key=a");
    CHECK(back->segments[1].discontinuity);
    CHECK(base::to_seconds(back->segments[0].duration) == Approx(5.5));
}

TEST_CASE("what is no playlist is refused with its line", "[hls]") {
    CHECK(parse_playlist("", "x").error().what.find("empty") != std::string::npos);
    CHECK(parse_playlist("<html>\n", "x").error().where == "x, line 1");
    CHECK(parse_playlist("#EXTM3U\nno-duration.ts\n", "x").error().where == "x, line 2");
    CHECK_FALSE(parse_playlist("#EXTM3U\n#EXTINF:-5,\na.ts\n", "x"));
    CHECK_FALSE(parse_playlist("#EXTM3U\n#EXTINF:nan,\na.ts\n", "x"));
    CHECK_FALSE(parse_playlist("#EXTM3U\n#EXT-X-MEDIA-SEQUENCE:99999999999999999999999\n", "x"));
}

TEST_CASE("the RFC's playlists with keyframes, alternative audio and byte ranges are read", "[hls]") {
    const auto keyframes = parse_playlist(
        "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1280000\nlow/audio-video.m3u8\n"
        "#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=86000,URI=\"low/iframe.m3u8\"\n#EXT-X-STREAM-INF:BANDWIDTH=2560000\n"
        "mid/audio-video.m3u8\n#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=150000,URI=\"mid/iframe.m3u8\"\n",
        "8.5");
    REQUIRE(keyframes);
    REQUIRE(keyframes->variants.size() == 2);
    REQUIRE(keyframes->keyframe_variants.size() == 2);
    CHECK(keyframes->keyframe_variants[1].uri == "mid/iframe.m3u8");
    CHECK(keyframes->keyframe_variants[1].bandwidth_bps == 150'000);
    const auto audio = parse_playlist(
        "#EXTM3U\n#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"aac\",NAME=\"English\",DEFAULT=YES,AUTOSELECT=YES,LANGUAGE=\"en\","
        "URI=\"main/english-audio.m3u8\"\n#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID=\"aac\",NAME=\"Commentary\",DEFAULT=NO,"
        "AUTOSELECT=NO,LANGUAGE=\"en\",CHANNELS=\"6/-/BINAURAL\",URI=\"commentary/audio-only.m3u8\"\n"
        "#EXT-X-STREAM-INF:BANDWIDTH=1280000,CODECS=\"...\",AUDIO=\"aac\",RESOLUTION=1280x720,FRAME-RATE=29.970\n"
        "low/video-only.m3u8\n",
        "8.6");
    REQUIRE(audio);
    REQUIRE(audio->audio.size() == 2);
    CHECK(audio->audio[0].preferred);
    CHECK(audio->audio[1].uri == "commentary/audio-only.m3u8");
    CHECK(audio->audio[1].channels == 6);
    REQUIRE(audio->variants.size() == 1);
    CHECK(audio->variants[0].audio == "aac");
    CHECK(audio->variants[0].size == base::Size{1280, 720});
    CHECK(audio->variants[0].fps == Approx(29.97));
    const auto ranges = parse_playlist(
        "#EXTM3U\n#EXT-X-VERSION:7\n#EXT-X-TARGETDURATION:4\n#EXT-X-INDEPENDENT-SEGMENTS\n"
        "#EXT-X-MAP:URI=\"v.mp4\",BYTERANGE=\"700@0\"\n#EXTINF:4,\n#EXT-X-BYTERANGE:1000@900\nv.mp4\n#EXTINF:4,\n"
        "#EXT-X-BYTERANGE:500\nv.mp4\n#EXT-X-ENDLIST\n",
        "ranges");
    REQUIRE(ranges);
    CHECK(ranges->independent);
    CHECK(ranges->map_uri == "v.mp4");
    CHECK(*ranges->map_range == container::ByteRange{0, 700});
    REQUIRE(ranges->segments.size() == 2);
    CHECK(*ranges->segments[1].range == container::ByteRange{1900, 500});
    // What is written is read the same.
    const auto again = parse_playlist(container::write_playlist(*ranges), "again");
    REQUIRE(again);
    CHECK(*again->segments[1].range == *ranges->segments[1].range);
    CHECK(*again->map_range == *ranges->map_range);
}

TEST_CASE("broken multivariant playlists and byte ranges are refused", "[hls]") {
    const auto what = [](const std::string& text) {
        const auto list = parse_playlist("#EXTM3U\n" + text, "broken");
        return list ? std::string() : list.error().what;
    };
    CHECK(what("#EXT-X-STREAM-INF:CODECS=\"a\"\na.m3u8\n") == "a variant doesn't tell its BANDWIDTH");
    CHECK(what("#EXTINF:1,\n#EXT-X-BYTERANGE:5\na.ts\n") ==
          "a byte range has no offset, and nothing of this file is in front of it");
    CHECK(what("#EXTINF:1,\n#EXT-X-BYTERANGE:0@5\na.ts\n") == "a byte range can't be read");
    CHECK(what("#EXTINF:1,\n#EXT-X-BYTERANGE:5@x\na.ts\n") == "a byte range can't be read");
    CHECK(what("#EXT-X-MAP:BYTERANGE=\"5@0\"\n") == "the initialization section has no URI");
    const auto changed = parse_playlist(
        "#EXTM3U\n#EXT-X-MAP:URI=\"a\"\n#EXTINF:1,\n1.m4s\n#EXT-X-MAP:URI=\"b\"\n#EXTINF:1,\n2.m4s\n", "maps");
    REQUIRE(changed);
    CHECK(changed->several_maps);
}

TEST_CASE("a moderate variant is listed first, the others in their order", "[hls]") {
    const auto first_of = [](std::vector<std::int64_t> rates) {
        container::MediaPlaylist list;
        for (const std::int64_t rate : rates) {
            container::MediaPlaylist::Variant variant;
            variant.bandwidth_bps = rate;
            list.variants.push_back(std::move(variant));
        }
        container::list_moderate_first(list);
        rates.clear();
        for (const auto& one : list.variants) rates.push_back(one.bandwidth_bps);
        return rates;
    };
    using Rates = std::vector<std::int64_t>;
    CHECK(first_of({6'000'000, 3'000'000, 2'000'000, 800'000}) == Rates{2'000'000, 6'000'000, 3'000'000, 800'000});
    CHECK(first_of({6'000'000, 3'000'000}) == Rates{3'000'000, 6'000'000});
    CHECK(first_of({900'000, 500'000}) == Rates{900'000, 500'000});
    CHECK(first_of({}).empty());
}
