#include "upnp/didl.hpp"

#include <catch2/catch.hpp>

#include "upnp/protocol_info.hpp"

using namespace wavecrest;
using upnp::Object;

TEST_CASE("durations are written and read as ContentDirectory has them", "[upnp]") {
    CHECK(upnp::format_duration(base::from_seconds(5525.25)) == "1:32:05.250");
    CHECK(upnp::format_duration(Time{}) == "0:00:00.000");
    const auto seconds = [](const char* text) {
        const auto time = upnp::parse_duration(text);
        return time ? base::to_seconds(*time) : -1;
    };
    CHECK(seconds("1:32:05.250") == Approx(5525.25));
    CHECK(seconds("01:32:05") == 5525);
    CHECK(seconds("0:00:10.1/4") == Approx(10.25));  // F0/F1
    CHECK(seconds("00:10") == 10);
    CHECK(seconds("100:00:00") == 360'000);
    for (const char* text : {"", "NOT_IMPLEMENTED", "1:60:00", "1:00:60", "-1:00:00", "1:2:3x", "0:00:01.5/4.",
                             "::", "0:00:00.4/4", "99999999999999999999:00:00", "0:00:01."}) {
        CAPTURE(text);
        CHECK(seconds(text) == -1);
    }
}

TEST_CASE("DIDL-Lite is written so that it is read back, whatever is in the names", "[upnp]") {
    Object item;
    item.id = "v1";
    item.parent = "films";
    item.title = "Lanterns <&> \"Fog\" \x01 \xC3\xA4";
    item.date = "2019-05-01";
    item.genre = "Drama";
    item.series = "Shore";
    item.season = 2;
    item.episode = 7;
    item.picture = "http://h/p.png";
    item.subtitles = "http://h/s.srt";
    item.resources = {{"http://h/f.mp4?a=1&b=2", "http-get:*:video/mp4:*", base::from_seconds(61.5), 123456789,
                       8'000'000, "1920x1080", 6, 48000}};
    Object folder;
    folder.container = true;
    folder.id = "films";
    folder.parent = "0";
    folder.title = "Films";
    folder.upnp_class = "object.container.storageFolder";
    folder.children = 12;
    const std::vector<Object> objects = {folder, item};
    const std::string text = upnp::write_didl(objects);
    const auto back = upnp::parse_didl(text);
    REQUIRE(back);
    REQUIRE(back->size() == 2);
    CHECK((*back)[0].container);
    CHECK((*back)[0].children == 12);
    const Object& read = (*back)[1];
    CHECK(read.title == "Lanterns <&> \"Fog\"  \xC3\xA4");  // without what XML can't hold
    CHECK(read.series == "Shore");
    CHECK(read.season == 2);
    CHECK(read.episode == 7);
    CHECK(read.subtitles == item.subtitles);
    REQUIRE(read.resources.size() == 1);
    CHECK(read.resources[0].address == item.resources[0].address);
    CHECK(read.resources[0].size == 123456789);
    CHECK(read.resources[0].bitrate_bps == 8'000'000);
    CHECK(text.find("bitrate=\"1000000\"") != std::string::npos);  // bytes a second (B.2.1.5)
    CHECK(base::to_seconds(*read.resources[0].duration) == Approx(61.5));
}

TEST_CASE("names in other encodings make no document that can't be read", "[upnp]") {
    for (const char* name :
         {"caf\xE9", "\xC3", "\xED\xA0\x80", "\xF4\x90\x80\x80", "\xEF\xBF\xBF", "\xC0\xAF", "\xFF\xFE"}) {
        Object item;
        item.id = "1";
        item.title = std::string("a ") + name + " b";
        const auto back = upnp::parse_didl(upnp::write_didl(std::span(&item, 1)));
        REQUIRE(back);
        CHECK(back->front().title.starts_with(name[0] == 'c' ? "a caf?" : "a ?"));
        CHECK(back->front().title.ends_with(" b"));
    }
}

TEST_CASE("a filter leaves out what wasn't asked for, but never what must be there", "[upnp]") {
    Object item;
    item.id = "1";
    item.title = "T";
    item.date = "2019";
    item.genre = "G";
    item.resources = {{"http://h/f", "http-get:*:video/mp4:*", base::from_seconds(5), 10, 0, "1x1", 0, 0}};
    const auto text = [&](const char* filter) { return upnp::write_didl(std::span(&item, 1), filter); };
    CHECK(text("").find("<res") == std::string::npos);
    CHECK(text("").find("<dc:title>T</dc:title>") != std::string::npos);
    CHECK(text("dc:date, res").find("<dc:date>2019</dc:date>") != std::string::npos);
    CHECK(text("dc:date, res").find("genre") == std::string::npos);
    CHECK(text("dc:date, res").find("duration=") == std::string::npos);
    CHECK(text("res@duration").find("duration=\"0:00:05.000\"") != std::string::npos);
    CHECK(text("res@duration").find("protocolInfo=") != std::string::npos);
    CHECK(text("*").find("resolution=\"1x1\"") != std::string::npos);
}

TEST_CASE("what is no DIDL-Lite is refused, and numbers that lie harm nothing", "[upnp]") {
    CHECK_FALSE(upnp::parse_didl(""));
    CHECK_FALSE(upnp::parse_didl("<a/>"));
    CHECK_FALSE(upnp::parse_didl("NOT_IMPLEMENTED"));
    const auto odd = upnp::parse_didl(
        "<DIDL-Lite><item id='1'><res size='99999999999999999999999' bitrate='-5' duration='x' "
        "nrAudioChannels='-3'>a</res></item><desc/><item/></DIDL-Lite>");
    REQUIRE(odd);
    REQUIRE(odd->size() == 2);
    CHECK((*odd)[0].resources.at(0).channels == 0);
    CHECK((*odd)[0].resources[0].bitrate_bps == 0);
    CHECK_FALSE((*odd)[0].resources[0].duration);
}

TEST_CASE("protocol information is taken apart, and matched as devices mean it", "[upnp]") {
    const auto sink = upnp::parse_protocol_infos(
        "http-get:*:video/mp4:DLNA.ORG_PN=AVC_MP4_HP_HD_AAC;DLNA.ORG_OP=01, http-get:*:video/x-mkv:*,junk,a:b,:::,"
        "rtsp-rtp-udp:*:audio/L16:*,http-get:*:image/*:*");
    REQUIRE(sink.size() == 4);
    CHECK(sink[0].extra_field("DLNA.ORG_PN") == "AVC_MP4_HP_HD_AAC");
    CHECK(sink[0].extra_field("DLNA.ORG_OP") == "01");
    CHECK(sink[0].extra_field("ORG_OP").empty());
    const auto takes = [&](const char* type) { return upnp::takes(sink, {"http-get", "*", type, "*"}); };
    CHECK(takes("video/mp4"));
    CHECK(takes("VIDEO/MP4"));
    CHECK(takes("video/matroska"));  // the same as video/x-mkv
    CHECK(takes("image/jpeg"));
    CHECK_FALSE(takes("video/webm"));
    CHECK_FALSE(takes("audio/L16"));  // by RTP alone
    CHECK(upnp::parse_protocol_infos("").empty());
    CHECK(upnp::extra_fields({true, false, false, false}) ==
          "DLNA.ORG_OP=01;DLNA.ORG_CI=0;DLNA.ORG_FLAGS=01700000000000000000000000000000");
}
