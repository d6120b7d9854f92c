// Titles in several bit rates by what names them: other programs' playlists and manifests, on files.
#include "source/adaptive_title.hpp"

#include <catch2/catch.hpp>

#include "source/ladder_input.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

source::AdaptiveTitle read(const std::string& text, const std::string& address) {
    auto title = source::read_adaptive_title(text, address);
    if (!title) FAIL(title.error().what);
    return std::move(*title);
}

}  // namespace

TEST_CASE("playlists and manifests say the same of a ladder", "[ladder]") {
    const std::string base = sample_ladder().string() + "/";
    auto hls = read(read_text(base + "ladder.m3u8"), base + "ladder.m3u8");
    auto dash = read(read_text(base + "ladder.mpd"), base + "ladder.mpd");
    CHECK_FALSE(hls.dash);
    CHECK(dash.dash);
    CHECK(hls.keyframe_lists);
    REQUIRE(hls.video.size() == 3);
    REQUIRE(dash.video.size() == 3);
    const auto fetch = source::plain_fetch(base + "ladder.m3u8");
    for (std::size_t i = 0; i < 3; ++i) {
        REQUIRE(source::load_segments(hls, hls.video[i], fetch));
        REQUIRE(source::load_segments(dash, dash.video[i], fetch));
        CHECK(hls.video[i].size == dash.video[i].size);
        CHECK(static_cast<double>(hls.video[i].peak_bps) ==
              Approx(static_cast<double>(dash.video[i].peak_bps)).epsilon(0.01));
        REQUIRE(hls.video[i].segments.size() == dash.video[i].segments.size());
        for (std::size_t k = 0; k < hls.video[i].segments.size(); ++k) {
            CHECK(hls.video[i].segments[k].at == dash.video[i].segments[k].at);
            CHECK(base::to_seconds(hls.video[i].segments[k].from) ==
                  Approx(base::to_seconds(dash.video[i].segments[k].from)).margin(0.001));
        }
        const auto head = fetch(*hls.video[i].header), part = fetch(*dash.video[i].header);
        REQUIRE(head);
        REQUIRE(part);
        CHECK(*head == *part);
    }
    CHECK(hls.video[0].peak_bps < hls.video[1].peak_bps);  // going up
    CHECK(hls.audio.size() == 1);
    CHECK(hls.text.size() == 1);
}

TEST_CASE("a playlist on a disk leads nowhere but into its own folder", "[ladder]") {
    const TempDir dir;
    std::filesystem::create_directories(dir / "in");
    write_all(dir / "secret.txt", std::string("secret"));
    const auto fetch = source::plain_fetch((dir / "in" / "x.m3u8").string());
    for (const std::string& uri : {std::string("../secret.txt"), (dir / "secret.txt").string(),
                                   std::string("http://127.0.0.1:1/x"), std::string("a/../../secret.txt")}) {
        const auto title =
            read("#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1\n" + uri + "\n", (dir / "in" / "x.m3u8").string());
        const auto bytes = fetch(*title.video.front().list);
        CAPTURE(uri);
        REQUIRE_FALSE(bytes);
        CHECK(bytes.error().what == "the playlist names what isn't in its folder");
    }
    write_all(dir / "in" / "short.mp4", std::string("0123456789"));
    CHECK(fetch({(dir / "in" / "short.mp4").string(), container::ByteRange{2, 3}})->size() == 3);
    CHECK(fetch({(dir / "in" / "short.mp4").string(), container::ByteRange{2, 30}})
              .error()
              .what.find("shorter than its playlist says") != std::string::npos);
}

TEST_CASE("lists of a live stream that was read again go on where they were", "[ladder]") {
    source::AdaptiveTitle title = read("#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1000\nv.m3u8\n", "http://h/l.m3u8");
    std::string list =
        "#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:7\n#EXTINF:2,\n7.ts\n#EXTINF:2,\n8.ts\n";
    const source::FetchPlace fetch = [&](const source::AdaptiveTitle::Place&) -> Result<ByteVector> {
        return ByteVector(list.begin(), list.end());
    };
    auto& video = title.video.front();
    REQUIRE(source::load_segments(title, video, fetch));
    CHECK(title.live);
    CHECK(video.segments.at(1).at.address == "http://h/8.ts");
    list = "#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXT-X-MEDIA-SEQUENCE:8\n#EXTINF:2,\n8.ts\n#EXTINF:2,\n9.ts\n";
    REQUIRE(source::load_segments(title, video, fetch));
    CHECK(video.segments.at(0).from == base::from_seconds(2));
    CHECK(video.segments.at(1).number == 9);
    CHECK(video.segments.at(1).from == base::from_seconds(4));
    // A playlist of playlists of playlists leads nowhere.
    list = "#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1\nv.m3u8\n";
    CHECK_FALSE(source::load_segments(title, video, fetch));
}

TEST_CASE("what can't be an input says why", "[ladder]") {
    const TempDir dir;
    const auto refused = [&](const std::string& text, const char* name) {
        write_all(dir / name, text);
        const auto input = source::open_input(dir / name);
        REQUIRE_FALSE(input);
        return input.error().what;
    };
    CHECK(refused("#EXTM3U\n#EXT-X-TARGETDURATION:2\n#EXTINF:2,\na.ts\n", "live.m3u8") ==
          "the playlist is live, and has no beginning");
    CHECK(refused("#EXTM3U\n#EXT-X-KEY:METHOD=AES-128,URI=\"k\"\n#EXTINF:2,\na.ts\n#EXT-X-ENDLIST\n", "locked.m3u8") ==
          "its segments are encrypted");
    CHECK(refused("#EXTM3U\n#EXTINF:2,\nmissing.ts\n#EXT-X-ENDLIST\n", "gone.m3u8").find("it does not exist") !=
          std::string::npos);
    CHECK(refused("not a playlist", "x.m3u8").find("#EXTM3U") != std::string::npos);
    CHECK(refused("<MPD/>", "x.mpd") == "the manifest has no period");
}
