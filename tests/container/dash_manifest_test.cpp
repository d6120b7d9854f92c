// DASH manifests (ISO/IEC 23009-1): each way of telling segments, what is written, and what breaks the rules.
#include "container/dash_manifest.hpp"

#include <catch2/catch.hpp>
#include <chrono>

using namespace wavecrest;
using container::DashManifest;
using container::parse_dash_manifest;
using namespace std::chrono_literals;

namespace {

DashManifest parsed(const std::string& text, std::int64_t now_ms = 0) {
    auto manifest = parse_dash_manifest(text, "test.mpd", now_ms);
    if (!manifest) FAIL(manifest.error().what);
    return std::move(*manifest);
}

std::string refused(const std::string& text) {
    const auto manifest = parse_dash_manifest(text, "test.mpd");
    REQUIRE_FALSE(manifest);
    CHECK(manifest.error().kind == ErrorKind::input);
    CHECK(manifest.error().where == "test.mpd");
    return manifest.error().what;
}

// A manifest around one representation.
std::string around(const std::string& inside, const std::string& attributes = "mediaPresentationDuration=\"PT10S\"",
                   const std::string& of_set = "mimeType=\"video/mp4\"") {
    return "<?xml version=\"1.0\"?><MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\" " + attributes +
           "><Period><AdaptationSet " + of_set + ">" + inside + "</AdaptationSet></Period></MPD>";
}

const std::string kRepresentation = "<Representation id=\"r1\" bandwidth=\"1000000\" codecs=\"avc1.64001F\">";

}  // namespace

TEST_CASE("segments by an index, with addresses one inside the other", "[dash]") {
    const auto manifest = parsed(
        "<MPD mediaPresentationDuration=\"P1DT2H3M4.5S\" minBufferTime=\"PT2S\"><BaseURL>films/</BaseURL><Period>"
        "<AdaptationSet contentType=\"video\" mimeType=\"video/mp4\" width=\"1280\" frameRate=\"24000/1001\">"
        "<BaseURL>a/</BaseURL><SegmentBase indexRange=\"700-999\"><Initialization range=\"0-699\"/></SegmentBase>"
        "<Representation id=\"x\" bandwidth=\"3000000\" codecs=\"avc1.640028\" height=\"720\"><BaseURL>x.mp4</BaseURL>"
        "</Representation><Representation id=\"y\" bandwidth=\"1000000\"><BaseURL>http://other/y.mp4</BaseURL>"
        "</Representation></AdaptationSet></Period></MPD>");
    CHECK_FALSE(manifest.live);
    CHECK(base::to_seconds(manifest.duration) == Approx(86400 + 7384.5));
    REQUIRE(manifest.sets.size() == 1);
    const auto& set = manifest.sets[0];
    CHECK(set.kind == DashManifest::AdaptationSet::Kind::video);
    REQUIRE(set.representations.size() == 2);
    const auto& x = set.representations[0];
    CHECK(x.size.width == 1280);
    CHECK(x.size.height == 720);
    CHECK(x.fps == Approx(23.976).margin(0.001));
    REQUIRE(x.indexed);
    CHECK(x.indexed->uri == "films/a/x.mp4");
    REQUIRE(x.index);
    CHECK(*x.index->range == container::ByteRange{700, 300});
    REQUIRE(x.header);
    CHECK(*x.header->range == container::ByteRange{0, 700});
    CHECK(set.representations[1].indexed->uri == "http://other/y.mp4");
}

TEST_CASE("segments by a template with a timeline", "[dash]") {
    const auto manifest = parsed(around(
        "<SegmentTemplate timescale=\"90000\" presentationTimeOffset=\"900000\" startNumber=\"7\" "
        "media=\"$RepresentationID$/$Number%05d$-$Time$-$$.m4s\" initialization=\"$RepresentationID$/head.mp4\">"
        "<SegmentTimeline><S t=\"900000\" d=\"180000\" r=\"2\"/><S d=\"90000\"/></SegmentTimeline></SegmentTemplate>" +
        kRepresentation + "</Representation>"));
    const auto& one = manifest.sets.at(0).representations.at(0);
    REQUIRE(one.segments.size() == 4);
    CHECK(one.segments[0].at.uri == "r1/00007-900000-$.m4s");
    CHECK(one.segments[3].at.uri == "r1/00010-1440000-$.m4s");
    CHECK(one.segments[0].from == Time{});
    CHECK(one.segments[3].from == Time(6s));
    CHECK(one.segments[3].duration == Time(1s));
    CHECK(one.header->uri == "r1/head.mp4");
    // r = -1: to the end of the period.
    const auto open =
        parsed(around("<SegmentTemplate timescale=\"10\" media=\"$Number$.m4s\"><SegmentTimeline>"
                      "<S t=\"0\" d=\"15\" r=\"-1\"/></SegmentTimeline></SegmentTemplate>" +
                      kRepresentation + "</Representation>"));
    CHECK(open.sets[0].representations[0].segments.size() == 7);
}

TEST_CASE("segments of equal length, on demand and live", "[dash]") {
    const std::string even =
        "<SegmentTemplate timescale=\"1000\" duration=\"4000\" startNumber=\"0\" "
        "media=\"s$Number$.m4s\"/>" +
        kRepresentation + "</Representation>";
    const auto film = parsed(around(even));
    REQUIRE(film.sets[0].representations[0].segments.size() == 3);
    CHECK(film.sets[0].representations[0].segments[2].at.uri == "s2.m4s");
    // 2026-12-01T00:00:00Z is 1 796 083 200 s after 1970 (days: 20 788).
    const std::int64_t from_ms = 20'788LL * 86'400'000;
    const std::string live =
        "type=\"dynamic\" availabilityStartTime=\"2026-12-01T01:00:00.000+01:00\" "
        "timeShiftBufferDepth=\"PT20S\" minimumUpdatePeriod=\"PT4S\"";
    const auto now = parsed(around(even, live), from_ms + 101'000);
    CHECK(now.live);
    CHECK(now.available_from_ms == from_ms);
    const auto& segments = now.sets[0].representations[0].segments;
    REQUIRE(segments.size() == 5);  // 25 have come, of 20 s each 4
    CHECK(segments.front().at.uri == "s20.m4s");
    CHECK(segments.back().from == Time(96s));
}

TEST_CASE("segments by a list of addresses and ranges", "[dash]") {
    const auto manifest =
        parsed(around(kRepresentation +
                      "<SegmentList timescale=\"1\" duration=\"5\"><Initialization sourceURL=\"h.mp4\"/>"
                      "<SegmentURL media=\"a.m4s\"/><SegmentURL media=\"b.m4s\" mediaRange=\"10-19\"/></SegmentList>"
                      "</Representation>"));
    const auto& one = manifest.sets[0].representations[0];
    REQUIRE(one.segments.size() == 2);
    CHECK(one.segments[1].at.uri == "b.m4s");
    CHECK(*one.segments[1].at.range == container::ByteRange{10, 10});
    CHECK(one.segments[1].from == Time(5s));
    CHECK(one.header->uri == "h.mp4");
}

TEST_CASE("what a manifest says besides: trick mode, protection, forced subtitles", "[dash]") {
    const auto manifest = parsed(
        "<MPD mediaPresentationDuration=\"PT4S\"><Period>"
        "<AdaptationSet mimeType=\"video/mp4\"><EssentialProperty "
        "schemeIdUri=\"http://dashif.org/guidelines/trickmode\" value=\"1\"/>" +
        kRepresentation +
        "</Representation></AdaptationSet><AdaptationSet mimeType=\"audio/mp4\" lang=\"de\"><ContentProtection "
        "schemeIdUri=\"urn:mpeg:dash:mp4protection:2011\"/><Representation id=\"a\" bandwidth=\"9\" "
        "audioSamplingRate=\"48000\"><AudioChannelConfiguration value=\"6\"/></Representation></AdaptationSet>"
        "<AdaptationSet mimeType=\"text/vtt\" lang=\"en\"><Role value=\"forced-subtitle\"/><Representation id=\"t\" "
        "bandwidth=\"9\"><BaseURL>t.vtt</BaseURL></Representation></AdaptationSet></Period></MPD>");
    REQUIRE(manifest.sets.size() == 3);
    CHECK(manifest.sets[0].keyframes_alone);
    CHECK(manifest.sets[1].encrypted);
    CHECK(manifest.sets[1].language == "de");
    CHECK(manifest.sets[1].representations[0].channels == 6);
    CHECK(manifest.sets[2].kind == DashManifest::AdaptationSet::Kind::text);
    CHECK(manifest.sets[2].forced);
    CHECK(manifest.sets[2].representations[0].indexed->uri == "t.vtt");
}

TEST_CASE("manifests that can't be followed are refused by name", "[dash]") {
    CHECK(refused("") == "the manifest isn't valid XML (No document element found at byte 0)");
    CHECK(refused("<html/>") == "not a DASH manifest: it has no MPD element");
    CHECK(refused("<!DOCTYPE a [<!ENTITY b \"c\">]><MPD/>") == "the manifest declares entities, which it must not");
    CHECK(refused("<MPD/>") == "the manifest has no period");
    CHECK(refused("<MPD><Period/><Period/></MPD>") == "the manifest has several periods, which isn't supported");
    CHECK(refused("<MPD><Period/></MPD>") == "the manifest lists nothing to play");
    CHECK(refused(around("<Representation id=\"r\"/>")).find("bandwidth") != std::string::npos);
    CHECK(refused(around(kRepresentation + "<SegmentTemplate media=\"$Nummer$\" duration=\"1\"/></Representation>"))
              .find("template can't be read") != std::string::npos);
    CHECK(refused(around(kRepresentation + "<SegmentTemplate media=\"$Number$\"/></Representation>"))
              .find("neither a duration nor a timeline") != std::string::npos);
    const auto timeline = [](const std::string& entries) {
        return around(kRepresentation + "<SegmentTemplate media=\"$Number$\" timescale=\"1\"><SegmentTimeline>" +
                      entries + "</SegmentTimeline></SegmentTemplate></Representation>");
    };
    CHECK(refused(timeline("<S t=\"0\" d=\"0\"/>")).find("no duration") != std::string::npos);
    CHECK(refused(timeline("<S t=\"0\" d=\"1\" r=\"4000000000\"/>")) == "the manifest lists too many segments");
    CHECK(refused(timeline("<S t=\"4600000000000000000\" d=\"9\"/>")).find("time") != std::string::npos);
    CHECK(refused(timeline("<S t=\"5000000000\" d=\"9\"/>")).find("beyond reason") != std::string::npos);
    CHECK(refused(around(kRepresentation + "<SegmentTemplate media=\"$Number$\" timescale=\"4000000000\" "
                                           "duration=\"1\"/></Representation>")) ==
          "the manifest lists too many segments");
    CHECK(refused(around(kRepresentation + "<SegmentBase indexRange=\"9-3\"/></Representation>")).find("range") !=
          std::string::npos);
    CHECK(refused(around("", "mediaPresentationDuration=\"ten minutes\"")).find("isn't a duration") !=
          std::string::npos);
}

TEST_CASE("live manifests are written so that they are read the same", "[dash]") {
    DashManifest manifest;
    manifest.live = true;
    manifest.target_buffer = 2s;
    manifest.longest_segment = 2s;
    manifest.available_from_ms = 1'796'083'200'123;
    manifest.published_ms = manifest.available_from_ms + 60'000;
    manifest.window = 16s;
    manifest.delay = 6s;
    manifest.update = 2s;
    DashManifest::AdaptationSet set;
    set.kind = DashManifest::AdaptationSet::Kind::video;
    set.media_type = "video/mp4";
    set.label = "left & right";
    DashManifest::Representation one;
    one.id = "video-720p";
    one.bandwidth_bps = 3'000'000;
    one.codecs = "avc1.64001F";
    one.size = {1280, 720};
    one.fps = 30000 / 1001.0;
    one.header = DashManifest::Resource{"cam-$RepresentationID$-head.mp4", {}};
    one.first_number = 41;
    const Time length = base::from_ticks(60 * 3003, 90'000);
    for (int i = 0; i < 5; ++i) one.segments.push_back({{}, 40 * length + i * length, length});
    set.representations.push_back(one);
    manifest.sets.push_back(set);
    const std::string text = container::write_dash_manifest(manifest, "cam-$RepresentationID$-$Number$.m4s");
    CHECK(text.find("type=\"dynamic\"") != std::string::npos);
    CHECK(text.find("availabilityStartTime=\"2026-12-01T00:00:00.123Z\"") != std::string::npos);
    CHECK(text.find("frameRate=\"30000/1001\"") != std::string::npos);
    CHECK(text.find("<S t=\"7207200\" d=\"180180\" r=\"4\"/>") != std::string::npos);
    const auto back = parsed(text);
    CHECK(back.live);
    CHECK(back.window == Time(16s));
    CHECK(back.update == Time(2s));
    CHECK(back.available_from_ms == manifest.available_from_ms);
    CHECK(back.sets.at(0).label == "left & right");
    const auto& read = back.sets[0].representations.at(0);
    REQUIRE(read.segments.size() == 5);
    CHECK(read.segments[4].at.uri == "cam-video-720p-45.m4s");
    CHECK(read.segments[4].from == one.segments[4].from);
    CHECK(read.header->uri == "cam-video-720p-head.mp4");
}
