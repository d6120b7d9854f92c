// The ladder of the sample film: its playlists and manifest held against the standards' rules by readers of their own,
// and against the files they name.
#include "container/ladder.hpp"

#include <catch2/catch.hpp>
#include <cmath>
#include <map>
#include <pugixml.hpp>
#include <regex>
#include <sstream>

#include "base/atomic_file.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;

namespace {

std::vector<std::string> lines_of(const std::string& text) {
    std::vector<std::string> lines;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);) lines.push_back(line);
    return lines;
}

// An attribute list (RFC 8216, 4.2).
std::map<std::string, std::string> attributes(const std::string& line) {
    std::map<std::string, std::string> found;
    static const std::regex kOne("([A-Z0-9-]+)=(\"[^\"]*\"|[^,]*)");
    const std::string list = line.substr(line.find(':') + 1);
    for (std::sregex_iterator i(list.begin(), list.end(), kOne), end; i != end; ++i) {
        std::string value = (*i)[2];
        if (value.starts_with("\"")) value = value.substr(1, value.size() - 2);
        CHECK(found.emplace((*i)[1], value).second);  // no name twice
    }
    return found;
}

std::string type_at(const ByteVector& file, std::uint64_t at) {
    REQUIRE(at + 8 <= file.size());
    return {file.begin() + static_cast<std::ptrdiff_t>(at + 4), file.begin() + static_cast<std::ptrdiff_t>(at + 8)};
}

struct Ranged {
    std::uint64_t offset, length;
    double duration;
};
// A media playlist of byte ranges by the RFC's rules.
std::vector<Ranged> check_media_playlist(const base::Path& folder, const std::string& name, bool keyframes) {
    INFO(name);
    const auto lines = lines_of(read_text(folder / name));
    REQUIRE(lines.at(0) == "#EXTM3U");  // 4.3.1.1
    std::vector<Ranged> segments;
    std::map<std::string, int> seen;
    int target = 0, version = 0;
    double duration = 0;
    std::string file, map;
    Ranged next{};
    for (const std::string& line : lines) {
        const std::string tag = line.substr(0, line.find(':'));
        ++seen[tag];
        if (tag == "#EXT-X-TARGETDURATION") target = std::stoi(line.substr(22));
        if (tag == "#EXT-X-VERSION") version = std::stoi(line.substr(15));
        if (tag == "#EXT-X-MAP") {
            const auto of = attributes(line);
            map = of.at("URI");
            CHECK(of.count("BYTERANGE") == 0);
        }
        if (tag == "#EXTINF") duration = std::stod(line.substr(8));
        if (tag == "#EXT-X-BYTERANGE") {
            std::smatch match;
            REQUIRE(std::regex_match(line, match, std::regex("#EXT-X-BYTERANGE:([0-9]+)@([0-9]+)")));
            next = {std::stoull(match[2]), std::stoull(match[1]), 0};
        }
        if (line.empty() || line[0] == '#') continue;
        file = line;
        next.duration = duration;
        segments.push_back(next);
    }
    for (const char* once :
         {"#EXT-X-TARGETDURATION", "#EXT-X-VERSION", "#EXT-X-ENDLIST", "#EXT-X-MAP", "#EXT-X-PLAYLIST-TYPE"})
        CHECK(seen[once] == 1);
    CHECK(seen["#EXT-X-I-FRAMES-ONLY"] == (keyframes ? 1 : 0));
    CHECK(version >= (keyframes ? 5 : 6));  // clause 7: EXT-X-MAP
    const ByteVector bytes = read_all(folder / file), head = read_all(folder / map);
    CHECK(map != file);
    REQUIRE(head.size() < bytes.size());
    CHECK(std::equal(head.begin(), head.end(), bytes.begin()));
    CHECK(type_at(bytes, head.size()) == "free");  // whole boxes
    CHECK(type_at(bytes, 0) == "ftyp");
    for (std::size_t i = 0; i < segments.size(); ++i) {
        CHECK(std::lround(segments[i].duration) <= target);  // 4.3.3.1
        REQUIRE(segments[i].offset + segments[i].length <= bytes.size());
        CHECK(type_at(bytes, segments[i].offset) == "moof");
        if (!keyframes && i > 0) CHECK(segments[i].offset == segments[i - 1].offset + segments[i - 1].length);
    }
    if (!keyframes) CHECK(segments.back().offset + segments.back().length == bytes.size());
    return segments;
}

double peak_of(const std::vector<Ranged>& segments) {
    // 4.1, as its words have it: every run of segments of half to one and a half of the target duration.
    double target = 0, most = 0;
    for (const Ranged& one : segments) target = std::max(target, one.duration);
    for (std::size_t a = 0; a < segments.size(); ++a) {
        double bits = 0, length = 0;
        for (std::size_t b = a; b < segments.size(); ++b) {
            bits += static_cast<double>(segments[b].length) * 8;
            length += segments[b].duration;
            if (length >= target / 2 && length <= target * 1.5) most = std::max(most, bits / length);
        }
    }
    return most;
}

}  // namespace

TEST_CASE("the multivariant playlist keeps the RFC's rules and what it promises", "[ladder]") {
    const base::Path folder = sample_ladder();
    const auto lines = lines_of(read_text(folder / "ladder.m3u8"));
    REQUIRE(lines.at(0) == "#EXTM3U");
    std::map<std::string, std::string> audio, subtitles;
    std::vector<std::map<std::string, std::string>> keyframes;
    std::vector<std::pair<std::map<std::string, std::string>, std::string>> variants;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        if (lines[i].starts_with("#EXT-X-MEDIA:")) {
            auto one = attributes(lines[i]);
            (one.at("TYPE") == "AUDIO" ? audio : subtitles) = one;
        }
        if (lines[i].starts_with("#EXT-X-I-FRAME-STREAM-INF:")) keyframes.push_back(attributes(lines[i]));
        if (lines[i].starts_with("#EXT-X-STREAM-INF:")) variants.emplace_back(attributes(lines[i]), lines.at(i + 1));
    }
    REQUIRE(variants.size() == 3);
    REQUIRE(keyframes.size() == 3);
    // The moderate one is listed first: the best of at most 2 Mbit/s. Of keyframes the best is.
    CHECK(variants[0].first.at("RESOLUTION") == "640x360");
    std::swap(variants[0], variants[1]);
    CHECK(audio.at("DEFAULT") == "YES");
    CHECK(audio.at("LANGUAGE") == "en");
    CHECK(audio.at("CHANNELS") == "2");
    CHECK(subtitles.at("LANGUAGE") == "en");
    const auto heard = check_media_playlist(folder, audio.at("URI"), false);
    const std::string sizes[] = {"854x480", "640x360", "320x180"};
    double before = 1e12;
    for (std::size_t i = 0; i < variants.size(); ++i) {
        const auto& [of, uri] = variants[i];
        CHECK(of.at("RESOLUTION") == sizes[i]);
        CHECK(of.at("FRAME-RATE") == "23.976");
        CHECK(of.at("AUDIO") == audio.at("GROUP-ID"));
        CHECK(of.at("SUBTITLES") == subtitles.at("GROUP-ID"));
        CHECK(std::regex_match(of.at("CODECS"), std::regex("avc1\\.6400[0-9A-F]{2},mp4a\\.40\\.2")));
        const auto segments = check_media_playlist(folder, uri, false);
        // 4.3.4.2: the highest sum of bit rates of any playable combination; here one audio goes with all.
        const double bandwidth = std::stod(of.at("BANDWIDTH")), average = std::stod(of.at("AVERAGE-BANDWIDTH"));
        CHECK(bandwidth == Approx(peak_of(segments) + peak_of(heard)).epsilon(0.01));
        CHECK(average < bandwidth);
        CHECK(bandwidth < before);
        before = bandwidth;
        // Rungs are aligned: players go over between any two segments.
        CHECK(segments.size() == 12);
        for (const Ranged& one : segments)
            CHECK(one.duration == Approx(segments.size() > 0 && &one == &segments.back() ? one.duration : 1.001));
        CHECK(heard.size() >= segments.size());
        const auto stills = check_media_playlist(folder, keyframes[i].at("URI"), true);
        REQUIRE(stills.size() == segments.size());
        for (std::size_t k = 0; k < stills.size(); ++k) {
            CHECK(stills[k].offset == segments[k].offset);
            CHECK(stills[k].length < segments[k].length);
        }
    }
    const auto words = lines_of(read_text(folder / subtitles.at("URI")));
    REQUIRE(std::find(words.begin(), words.end(), "subtitles-en.vtt") != words.end());
    CHECK(read_text(folder / "subtitles-en.vtt").find("The lake is quiet.") != std::string::npos);
}

TEST_CASE("the manifest keeps the rules of the on-demand profile, and names what is in the files", "[ladder]") {
    const base::Path folder = sample_ladder();
    pugi::xml_document document;
    REQUIRE(document.load_file((folder / "ladder.mpd").c_str()));
    const auto mpd = document.child("MPD");
    CHECK(std::string(mpd.attribute("xmlns").value()) == "urn:mpeg:dash:schema:mpd:2011");
    CHECK(std::string(mpd.attribute("profiles").value()) == "urn:mpeg:dash:profile:isoff-on-demand:2011");
    CHECK(std::string(mpd.attribute("type").value()) == "static");
    CHECK(std::regex_match(mpd.attribute("mediaPresentationDuration").value(), std::regex("PT12\\.[0-9]+S")));
    CHECK(mpd.attribute("minBufferTime"));
    int video = 0, audio = 0, text = 0;
    for (const auto set : mpd.child("Period").children("AdaptationSet")) {
        const std::string kind = set.attribute("contentType").value();
        (kind == "video" ? video : kind == "audio" ? audio : text) += 1;
        for (const auto one : set.children("Representation")) {
            INFO(one.attribute("id").value());
            CHECK(one.attribute("bandwidth").as_int() > 0);
            const ByteVector bytes = read_all(folder / one.child_value("BaseURL"));
            if (kind == "text") continue;
            CHECK(one.attribute("codecs"));
            if (kind == "video") CHECK(std::string(one.attribute("frameRate").value()) == "24000/1001");
            if (kind == "audio") CHECK(one.attribute("audioSamplingRate").as_int() == 48000);
            std::smatch match;
            const std::string range = one.child("SegmentBase").attribute("indexRange").value();
            REQUIRE(std::regex_match(range, match, std::regex("([0-9]+)-([0-9]+)")));
            const auto first = std::stoull(match[1]), last = std::stoull(match[2]);
            CHECK(type_at(bytes, first) == "sidx");
            CHECK(type_at(bytes, last + 1) == "moof");  // the index ends where it says, and segments follow
            const std::string head = one.child("SegmentBase").child("Initialization").attribute("range").value();
            CHECK(head.starts_with("0-"));
        }
    }
    CHECK(video == 1);
    CHECK(audio == 1);
    CHECK(text == 1);
}

TEST_CASE("rungs show the same frames at the same times, and every file can be read alone", "[ladder]") {
    const auto first = read_media(sample_ladder() / "video-480p.mp4"),
               last = read_media(sample_ladder() / "video-180p.mp4");
    REQUIRE(first.size() == 1);
    REQUIRE(first[0].packets.size() == static_cast<std::size_t>(kSampleFrames));
    REQUIRE(last[0].packets.size() == first[0].packets.size());
    std::vector<Time> a, b;
    for (const Packet& one : first[0].packets) a.push_back(one.pts);
    for (const Packet& one : last[0].packets) b.push_back(one.pts);
    std::sort(a.begin(), a.end());
    std::sort(b.begin(), b.end());
    CHECK(a == b);
    for (std::size_t i = 0; i < first[0].packets.size(); ++i) CHECK(first[0].packets[i].key == (i % 24 == 0));
}

TEST_CASE("a ladder's folder is read back, and refused where it doesn't fit together", "[ladder]") {
    const auto ladder = container::read_ladder(sample_ladder());
    REQUIRE(ladder);
    CHECK(ladder->video.size() == 3);
    CHECK(ladder->audio.size() == 1);
    CHECK(ladder->subtitles.size() == 1);
    for (const std::string& name : container::text_names(*ladder)) {
        INFO(name);
        CHECK(*container::text_of(*ladder, name) == read_text(sample_ladder() / name));
    }
    CHECK_FALSE(container::text_of(*ladder, "ladder.txt"));
    // A key goes behind every address.
    const std::string keyed = *container::text_of(*ladder, "ladder.m3u8", "?key=abcdefgh");
    for (const std::string& line : lines_of(keyed)) {
        if (line.find(".m3u8") != std::string::npos) CHECK(line.find(".m3u8?key=abcdefgh") != std::string::npos);
    }
    // Rungs of different lengths.
    const TempDir dir;
    for (const auto& entry : std::filesystem::directory_iterator(sample_ladder()))
        std::filesystem::copy(entry.path(), dir.path() / entry.path().filename());
    const TestTrack other = video_track(Codec::h264, 100);
    {
        std::filesystem::remove(dir / "video-180p.mp4");
        auto file = base::AtomicFile::create(dir / "video-180p.mp4", base::AtomicFile::IfExists::refuse);
        REQUIRE(file);
        auto sink = container::create_cmaf_file(std::make_unique<base::AtomicFile>(std::move(*file)), other.track,
                                                base::from_seconds(1.001));
        REQUIRE(sink);
        for (const Packet& packet : other.packets) REQUIRE((*sink)->write(packet));
        REQUIRE((*sink)->finish());
    }
    const auto apart = container::read_ladder(dir.path());
    REQUIRE_FALSE(apart);
    CHECK(apart.error().what.find("aren't aligned") != std::string::npos);
    std::filesystem::remove(dir / "video-360p.mp4");
    const auto missing = container::read_ladder(dir.path());
    REQUIRE_FALSE(missing);
    CHECK(missing.error().where.find("video-360p.mp4") != std::string::npos);
    write_all(dir / "ladder.m3u8", std::string("#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1\n../secret.m3u8\n"));
    CHECK(container::read_ladder(dir.path()).error().what == "this ladder was made by another program");
}
