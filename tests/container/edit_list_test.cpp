// Edit lists of several intervals (ISO/IEC 14496-12, 8.6.6): each sample at the time that the list gives it.
#include <catch2/catch.hpp>
#include <chrono>
#include <map>

#include "base/byte_source.hpp"
#include "support/browser.hpp"
#include "support/clips.hpp"
#include "support/support.hpp"

using namespace wavecrest;
using namespace wavecrest::test;
using namespace std::chrono_literals;

namespace {

const Time kPicture = base::from_ticks(1001, 24000);

std::string key_of(const Packet& packet) {
    return {packet.data.view().begin(), packet.data.view().end()};
}

// The file as written, and with edits.
struct Edited {
    std::vector<TestTrack> plain, edited;
    std::vector<std::string> notes;
};
Edited edited(const std::vector<TestTrack>& test_tracks, const std::vector<EditEntry>& edits) {
    const TempDir dir;
    write_media(dir / "a.mp4", "mp4", test_tracks);
    write_all(dir / "b.mp4", with_edits(read_all(dir / "a.mp4"), edits));
    auto source = base::FileSource::open(dir / "b.mp4");
    REQUIRE(source);
    auto file = container::open_media(std::make_shared<base::FileSource>(std::move(*source)));
    REQUIRE(file);
    return {read_media(dir / "a.mp4"), read_all_packets(*file->source), file->notes};
}

// When the edits show a moment of the media: every time that they do.
std::vector<Time> shown_at(const std::vector<EditEntry>& edits, Time media, Time lasts) {
    std::vector<Time> times;
    Time at{};
    for (const EditEntry& edit : edits) {
        if (edit.from >= Time{} && media + lasts > edit.from && media < edit.from + edit.lasts)
            times.push_back(at + std::max(media - edit.from, Time{}));
        at += edit.lasts;
    }
    return times;
}

// Times within a tick of the track.
bool near(Time a, Time b) {
    return std::chrono::abs(a - b) < 100us;
}

void check_pictures(const TestTrack& plain, const TestTrack& edited, const std::vector<EditEntry>& edits) {
    std::map<std::string, Time> media;
    for (const Packet& p : plain.packets) media[key_of(p)] = p.pts;
    REQUIRE(media.size() == plain.packets.size());
    std::size_t shown = 0, expected = 0;
    for (const Packet& p : plain.packets) expected += shown_at(edits, p.pts, kPicture).size();
    Time last = Time::min();
    bool decodable = false;
    for (const Packet& p : edited.packets) {
        CHECK(p.dts >= last);
        last = p.dts;
        decodable = decodable || p.key;
        CHECK(decodable);
        if (p.hidden) continue;
        ++shown;
        CHECK(p.dts <= p.pts + Time(1));
        const auto times = shown_at(edits, media.at(key_of(p)), kPicture);
        CHECK(std::any_of(times.begin(), times.end(), [&](Time t) { return near(t, p.pts); }));
    }
    CHECK(shown == expected);
}

}  // namespace

TEST_CASE("intervals in another order, between keyframes", "[mp4]") {
    // Keyframes are 24 pictures (1.001 s) apart, with B pictures between.
    const std::vector<EditEntry> edits = {{1500ms, 0ms}, {1200ms, 2600ms}, {700ms, 500ms}};
    const auto e = edited({video_track(Codec::h264, 100), audio_track(Codec::aac, 4.2)}, edits);
    CHECK(e.notes.empty());
    REQUIRE(e.edited.size() == 2);
    check_pictures(e.plain[0], e.edited[0], edits);
    CHECK(std::chrono::abs(e.edited[0].track.duration - 3400ms) < kPicture);

    // AudioFrames keeps its distance to the picture exactly; cut at packets, it leaves at most one open or doubled.
    std::map<std::string, Time> media;
    for (const Packet& p : e.plain[1].packets) media[key_of(p)] = p.pts;
    Time end{};
    int packets = 0;
    for (const Packet& p : e.edited[1].packets) {
        if (p.pts < Time{}) continue;  // priming
        Time at{};
        bool found = false;
        for (const EditEntry& edit : edits) {
            found = found || near(p.pts, at + media.at(key_of(p)) - edit.from);
            at += edit.lasts;
        }
        CHECK(found);
        CHECK(std::chrono::abs(p.pts - end) < 22ms);
        end = p.pts + p.duration;
        ++packets;
    }
    CHECK(std::chrono::abs(end - 3400ms) < 1ms);
    CHECK(packets >= 158);
}

TEST_CASE("empty edits, standing pictures and cuts that only look like some", "[mp4]") {
    const TestTrack picture = video_track(Codec::h264, 100);
    SECTION("a gap in the middle") {
        const std::vector<EditEntry> edits = {{1000ms, 0ms}, {500ms, -1ms}, {1000ms, 2002ms}};
        const auto e = edited({picture}, edits);
        check_pictures(e.plain[0], e.edited[0], edits);
        for (const Packet& p : e.edited[0].packets) {
            if (!p.hidden) CHECK((p.pts < 1001ms || p.pts >= 1499ms));
        }
    }
    SECTION("a picture that stands") {
        const auto e = edited({picture}, {{1001ms, 0ms}, {2000ms, 1800ms, true}, {500ms, 3003ms}});
        int standing = 0;
        for (const Packet& p : e.edited[0].packets) {
            if (p.hidden || p.pts < 1000ms || p.pts > 2900ms) continue;
            ++standing;
            CHECK(near(p.pts, 1001ms));
            CHECK(p.duration == Time(2s));
        }
        CHECK(standing == 1);
        CHECK(std::chrono::abs(e.edited[0].track.duration - 3501ms) < kPicture);
    }
    SECTION("one interval in two entries is one interval") {
        const auto e = edited({picture}, {{1000ms, 0ms}, {3000ms, 1000ms}});
        CHECK(e.edited[0].packets.size() >= 96);
        for (const Packet& p : e.edited[0].packets) CHECK_FALSE(p.hidden);
    }
    SECTION("a list that asks for endless work is not followed, and that is said") {
        const std::vector<EditEntry> edits(400'000, {4000ms, 0ms});
        const auto e = edited({picture}, edits);
        REQUIRE(e.notes.size() == 1);
        CHECK(e.notes[0].find("too long") != std::string::npos);
        CHECK(e.edited[0].packets.size() == 100);
    }
}

TEST_CASE("samples of LPCM are cut exactly", "[mp4]") {
    TestTrack audio = audio_track(Codec::lpcm, 3);
    const auto e = edited({video_track(Codec::h264, 72), audio}, {{700ms, 100ms}, {900ms, 1300ms}});
    ByteVector before, after;
    for (const Packet& p : e.plain[1].packets) before.insert(before.end(), p.data.view().begin(), p.data.view().end());
    for (const Packet& p : e.edited[1].packets) after.insert(after.end(), p.data.view().begin(), p.data.view().end());
    const std::size_t frame = static_cast<std::size_t>(audio.track.channels * audio.track.bit_depth / 8);
    const auto piece = [&](std::size_t from, std::size_t to) {
        return ByteVector(before.begin() + static_cast<std::ptrdiff_t>(from * frame),
                          before.begin() + static_cast<std::ptrdiff_t>(to * frame));
    };
    ByteVector expected = piece(4800, 38400);
    const ByteVector second = piece(62400, 105600);
    expected.insert(expected.end(), second.begin(), second.end());
    CHECK(after == expected);
}

TEST_CASE("skips in an edited film land before their time", "[mp4]") {
    const TempDir dir;
    const std::vector<EditEntry> edits = {{1500ms, 0ms}, {1200ms, 2600ms}, {700ms, 500ms}};
    write_media(dir / "a.mp4", "mp4", {video_track(Codec::h264, 100), audio_track(Codec::aac, 4.2)});
    write_all(dir / "b.mp4", with_edits(read_all(dir / "a.mp4"), edits));
    auto source = base::FileSource::open(dir / "b.mp4");
    REQUIRE(source);
    auto file = container::open_media(std::make_shared<base::FileSource>(std::move(*source)));
    REQUIRE(file);
    for (const Time to : {Time(100ms), Time(1600ms), Time(2650ms), Time(2800ms), Time(3390ms)}) {
        REQUIRE(file->source->seek(to));
        bool first = true, reached = false;
        for (int i = 0; i < 300; ++i) {
            auto packet = file->source->read();
            REQUIRE(packet);
            if (!*packet) break;
            if ((*packet)->track != 1) continue;
            if (first) {
                CHECK((*packet)->key);
                CHECK((*packet)->pts <= to);
            }
            first = false;
            reached = reached || (!(*packet)->hidden && std::chrono::abs((*packet)->pts - to) <= kPicture);
        }
        CHECK(reached);
    }
}
